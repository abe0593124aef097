package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/internal/access"
)

func (s *Server) backupRoutes() {
	huma.Register(s.api, operation(access.Own, "POST", "/backups", "make-backup", "Write all that the bench keeps into one file; from a terminal only"), s.makeBackup)
}

// makeBackup is for terminals, as exportSafe is: the bench's key is in a backup.
func (s *Server) makeBackup(ctx context.Context, in *struct {
	Body struct {
		File string `json:"file" maxLength:"4096" doc:"whole path of a file on the bench's computer that is not there yet"`
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
