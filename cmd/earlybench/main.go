// Command earlybench is the bench's service and its command line.
package main

import (
	"os"

	"earlybench.invalid/earlybench/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
