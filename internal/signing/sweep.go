package signing

import (
	"os"
	"path/filepath"
	"strings"
	"time"
)

const (
	sweepEvery = 6 * time.Hour
	// piecesFor is how long a file from a peer is kept without being used.
	piecesFor = 30 * 24 * time.Hour
	// leftFor is the age from which files for a peer must belong to a delivery that was killed.
	leftFor = time.Hour
)

// sweep removes files of deliveries that are no longer needed: those of former peers, those that were not
// used for a month, and leftovers of a killed service.
func (s *Signing) sweep() {
	dirs, err := os.ReadDir(s.cfg.Dir)
	if err != nil {
		return // nothing has come yet
	}
	of := map[string]bool{}
	for _, p := range s.cfg.Peers.List() {
		of[filepath.Base(s.filesOf(p.Key).Dir)] = true
	}
	for _, d := range dirs {
		path := filepath.Join(s.cfg.Dir, d.Name())
		if id, out := strings.CutPrefix(d.Name(), "out-"); out {
			s.mu.Lock()
			_, goes := s.offers[id]
			s.mu.Unlock()
			if info, err := d.Info(); err == nil && !goes && time.Since(info.ModTime()) > leftFor {
				s.remove(path)
			}
			continue
		}
		if !of[d.Name()] {
			s.remove(path)
			continue
		}
		files, _ := os.ReadDir(path)
		for _, f := range files {
			if info, err := f.Info(); err == nil && time.Since(info.ModTime()) > piecesFor {
				s.remove(filepath.Join(path, f.Name()))
			}
		}
	}
}

func (s *Signing) remove(path string) {
	if err := os.RemoveAll(path); err != nil {
		s.cfg.Log.Warn("remove what is not needed any more", "error", err)
	}
}
