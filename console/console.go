// Package console embeds the built console. Build it with make build; without
// that it is empty, and the service says so.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the built console's files.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // only a malformed name
	}
	return sub
}
