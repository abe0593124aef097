// The steps between a bench and a program of others, as a small program of its own for tests: what they start
// again and again is not the whole test.
package main

import (
	"context"
	"fmt"
	"os"

	"earlybench.invalid/earlybench/internal/fence"
)

func main() {
	if _, err := fence.Step(context.Background(), os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
