package companion_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"os"

	"earlybench.invalid/earlybench/standin"
)

// serve serves the stand-ins of the scenario on standard input until that ends.
func serve() int {
	in := bufio.NewReader(os.Stdin)
	line, err := in.ReadBytes('\n')
	var sc standin.Scenario
	if err == nil {
		err = json.Unmarshal(line, &sc)
	}
	var r *standin.Rig
	if err == nil {
		r, err = standin.Start(context.Background(), sc, slog.New(slog.DiscardHandler))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	json.NewEncoder(os.Stdout).Encode(r.Addresses())
	io.Copy(io.Discard, in)
	r.Close()
	return 0
}
