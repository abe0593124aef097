// Platforms vets packages for another system than this one: `platforms windows/amd64 PACKAGE ...`
// It ends with 1 if one of them has a fault.
//
// `go vet` would compile every dependency for that system, the database above all: minutes
// and a gigabyte, of which nothing is kept but the verdict. Here everything is type-checked
// from its source, and the same analyzers look at our own packages.
package main

import (
	"fmt"
	"os"
	"strings"

	"golang.org/x/tools/go/analysis"
	"golang.org/x/tools/go/analysis/checker"
	"golang.org/x/tools/go/analysis/passes/assign"
	"golang.org/x/tools/go/analysis/passes/atomic"
	"golang.org/x/tools/go/analysis/passes/bools"
	"golang.org/x/tools/go/analysis/passes/copylock"
	"golang.org/x/tools/go/analysis/passes/errorsas"
	"golang.org/x/tools/go/analysis/passes/httpresponse"
	"golang.org/x/tools/go/analysis/passes/loopclosure"
	"golang.org/x/tools/go/analysis/passes/lostcancel"
	"golang.org/x/tools/go/analysis/passes/nilfunc"
	"golang.org/x/tools/go/analysis/passes/printf"
	"golang.org/x/tools/go/analysis/passes/shift"
	"golang.org/x/tools/go/analysis/passes/stdmethods"
	"golang.org/x/tools/go/analysis/passes/stringintconv"
	"golang.org/x/tools/go/analysis/passes/structtag"
	"golang.org/x/tools/go/analysis/passes/unmarshal"
	"golang.org/x/tools/go/analysis/passes/unreachable"
	"golang.org/x/tools/go/analysis/passes/unsafeptr"
	"golang.org/x/tools/go/analysis/passes/unusedresult"
	"golang.org/x/tools/go/packages"
)

// analyzers are those of `go vet` that depend on types or on what a system defines. It runs
// all of them itself for the system on which it runs.
var analyzers = []*analysis.Analyzer{
	assign.Analyzer, atomic.Analyzer, bools.Analyzer, copylock.Analyzer, errorsas.Analyzer,
	httpresponse.Analyzer, loopclosure.Analyzer, lostcancel.Analyzer, nilfunc.Analyzer,
	printf.Analyzer, shift.Analyzer, stdmethods.Analyzer, stringintconv.Analyzer,
	structtag.Analyzer, unmarshal.Analyzer, unreachable.Analyzer, unsafeptr.Analyzer,
	unusedresult.Analyzer,
}

func main() {
	if len(os.Args) < 3 {
		fmt.Fprintln(os.Stderr, "usage: platforms GOOS/GOARCH PACKAGE ...")
		os.Exit(2)
	}
	faults, err := vet(os.Args[1], os.Args[2:])
	if err != nil {
		fmt.Fprintf(os.Stderr, "vet for %s: %v\n", os.Args[1], err)
	}
	if err != nil || faults > 0 {
		os.Exit(1)
	}
}

// vet prints what is wrong with the packages, and tests, for one system, and returns how many faults there are.
func vet(target string, patterns []string) (faults int, err error) {
	goos, goarch, both := strings.Cut(target, "/")
	if !both {
		return 0, fmt.Errorf("%q is not of the form GOOS/GOARCH", target)
	}
	pkgs, err := packages.Load(&packages.Config{
		Mode: packages.NeedName | packages.NeedFiles | packages.NeedImports | packages.NeedDeps |
			packages.NeedTypes | packages.NeedSyntax | packages.NeedTypesInfo | packages.NeedTypesSizes | packages.NeedModule,
		Env:   append(os.Environ(), "GOOS="+goos, "GOARCH="+goarch, "CGO_ENABLED=0"),
		Tests: true,
	}, patterns...)
	if err != nil {
		return 0, fmt.Errorf("loading the packages: %w", err)
	}
	if faults = packages.PrintErrors(pkgs); faults > 0 {
		return faults, nil
	}
	looked, err := checker.Analyze(analyzers, pkgs, nil)
	if err != nil {
		return 0, fmt.Errorf("looking at the packages: %w", err)
	}
	said := map[string]bool{}
	for action := range looked.All() {
		if !action.IsRoot {
			continue
		}
		if action.Err != nil {
			return 0, fmt.Errorf("%s of %s: %w", action.Analyzer.Name, action.Package.ID, action.Err)
		}
		for _, found := range action.Diagnostics {
			line := fmt.Sprintf("%s: %s", action.Package.Fset.Position(found.Pos), found.Message)
			if !said[line] { // a package is there again with its tests
				said[line] = true
				fmt.Fprintln(os.Stderr, line)
			}
		}
	}
	return len(said), nil
}
