// Command openapi prints the document of the HTTP interface, from which the
// console's types are generated.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"

	"earlybench.invalid/earlybench/internal/web"
)

func main() {
	raw, err := web.New(web.Config{}, "127.0.0.1:7420").OpenAPI()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	var b bytes.Buffer
	if err := json.Indent(&b, raw, "", "  "); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println(b.String())
}
