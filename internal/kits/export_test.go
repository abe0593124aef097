package kits

import "time"

// AnswerWithin makes kits wait less for what programs print.
func (k *Kits) AnswerWithin(d time.Duration) { k.within.Store(int64(d)) }
