// Package sheets holds the prep sheets that ship with Early Bench.
package sheets

import "embed"

// Files are the shipped sheets, a folder a family.
//
//go:embed */*.yaml
var Files embed.FS
