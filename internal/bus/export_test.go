package bus

import "earlybench.invalid/earlybench/internal/store"

// Private reports whether nobody else can be at the other end of the way to a host.
func Private(h store.Host) bool { return (&route{host: h}).private() }
