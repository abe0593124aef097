package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"runtime"
	"runtime/debug"

	"earlybench.invalid/earlybench/console"
	"earlybench.invalid/earlybench/internal/service"
)

// number is the version of this Early Bench.
const number = service.Version

// build describes this build of Early Bench; what is not known is marked as such.
type build struct {
	Version string `json:"version"`
	Commit  string `json:"commit"`
	Changed bool   `json:"changed"` // since that commit
	Go      string `json:"go"`
	Console string `json:"console"` // the beginning of a digest of its files
}

func (p *program) printVersion() error {
	b := build{Version: number, Commit: "unknown", Go: runtime.Version(), Console: consoleDigest()}
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			switch s.Key {
			case "vcs.revision":
				b.Commit = s.Value
			case "vcs.modified":
				b.Changed = s.Value == "true"
			}
		}
	}
	if p.json {
		return p.printJSON(b)
	}
	changed := ""
	if b.Changed {
		changed = ", with changes"
	}
	fmt.Fprintf(p.out, "earlybench %s\ncommit %s%s\n%s\nconsole %s\n", b.Version, b.Commit, changed, b.Go, b.Console)
	return nil
}

// consoleDigest is the beginning of a digest of the console's files.
func consoleDigest() string {
	h := sha256.New()
	files := 0
	err := fs.WalkDir(console.Files(), ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := fs.ReadFile(console.Files(), path)
		fmt.Fprintln(h, path, len(raw))
		h.Write(raw)
		files++
		return err
	})
	if err != nil || files < 2 {
		return "not built in"
	}
	return hex.EncodeToString(h.Sum(nil))[:12]
}
