package outlook

import "earlybench.invalid/earlybench/internal/keeper"

// Stating records a statement in a way of the test's own.
func (o *Outlook) Stating(k *keeper.Keeper, record func() error) error { return o.stating(k, record) }
