// Package bodies holds the makers of the stand-in devices, as data.
package bodies

import "embed"

// Files are the shipped bodies, a file a maker.
//
//go:embed *.yaml
var Files embed.FS
