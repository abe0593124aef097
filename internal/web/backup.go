package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/internal/access"
)

func (s *Server) backupRoutes() {
	huma.Register(s.api, operation(access.Own, "POST", "/backups", "make-backup", "Write everything that the bench keeps to one file; only from a terminal"), s.makeBackup)
}

// makeBackup is for terminals, as exportSafe is: the bench's key is in a backup.
func (s *Server) makeBackup(ctx context.Context, in *struct {
	Body struct {
		File string `json:"file" maxLength:"4096" doc:"absolute path of a new file on the bench's computer"`
	}
}) (*accepted, error) {
	a := access.From(ctx)
	if a.Kind != access.OwnerKind {
		return nil, problem(refused(a, access.Own))
	}
	j, err := s.Backups.Start(ctx, in.Body.File, a.String())
	if err != nil {
		return nil, problem(err)
	}
	return &accepted{jobOf(j)}, nil
}
