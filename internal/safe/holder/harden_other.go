//go:build !linux

package holder

// Harden does nothing on this system.
func Harden() error { return nil }
