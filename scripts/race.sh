#!/bin/sh
# The packages' tests under the race detector. Four things are left out: SQLite, which is C
# translated to Go and not code of ours; packages of the core that have neither goroutines nor
# locks, in which nothing can race; tests that only compute, under which they take minutes; and
# those that measure.
set -eu

concurrent() { # packages of the core that have goroutines or locks of their own
    go list -f '{{.ImportPath}} {{.Dir}} {{join .GoFiles " "}}' ./core/... | while read -r path dir files; do
        if (cd "$dir" && grep -qE '\bgo (func|[a-zA-Z.]+\()|\.Go\(|"sync|\bchan ' $files); then echo "$path"; fi
    done
}
. scripts/tests-apart.sh
# Compiler and linker take less time with a larger heap. In CI nothing is taken from a run before.
exec go test -vet=off '-toolexec=env GOGC=400' ${CI:+-count=1} -race -gcflags=modernc.org/sqlite/lib=-race=false -p 4 -skip "^($compute|$measure)\$" \
    ./cmd/... ./standin/... ./internal/... ./client/... $(concurrent)
