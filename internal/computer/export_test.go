package computer

import "context"

// For tests outside of the package: benchtest wires whole benches, this package among them.

func (c *Checker) Memory() Check                             { return c.memory() }
func (c *Checker) Rules() Check                              { return c.rules() }
func (c *Checker) Clock() Check                              { return c.clock() }
func (c *Checker) Disk() Check                               { return c.disk() }
func (c *Checker) Path(ctx context.Context) ([]Check, error) { return c.path(ctx) }

const (
	DiskWrong   = diskWrong
	DiskLimited = diskLimited
)

func Amount(n, wrong, limited int64) State { return amount(n, wrong, limited) }

func (c *Checker) DepotsCheck() Check { return c.depots() }
