// Package kit holds the demo's stand-in for a kit: the tools with which Fellgate's apps
// are built.
package kit

import "embed"

// Files are a copy of the kit. @VERSION@ in them stands for its version.
//
//go:embed bin parts
var Files embed.FS
