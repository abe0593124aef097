#!/bin/sh
# All tests: the console's, those of the packages, and the whole program's. What was
# skipped is said at the end. The race detector is scripts/race.sh's.
set -eu

dir=$(mktemp -d)
out=$dir/out
trap 'rm -rf "$dir"' EXIT

# The console's tests need one core, and run while Go compiles.
{ (cd console && npm run --silent test) || echo "FAILED: npm test, in console"; } >"$dir/console" 2>&1 &

quiet='^(=== |--- PASS|    --- PASS|PASS$|\?|ok .*no test files)|^\s+.*_test.go:[0-9]+: .*(skipped|is not installed|it takes pictures)'

# Compiler and linker take less time with a larger heap; the tests run with the usual one.
export GOGC=400
run() { # keeps going over the pipe's status
    { go test -vet=off -exec 'env -u GOGC' "$@" 2>&1 || echo "FAILED: go test $*"; } | tee -a "$out" | grep -vE "$quiet" || true
}

# Much of these waits for clocks and devices, so more packages than cores run at once; those
# that measure run alone. Vet is left to make lint.
. scripts/tests-apart.sh
measure="^($measure)\$"
run -v -p 4 -skip "$measure" ./cmd/... ./standin/... ./internal/... ./client/... ./core/...
run -v -run "$measure" -p 1 ./internal/ways/air ./internal/lend ./internal/belong ./test

# Those of the whole program wait for devices and pages most of the time, each with a demo of
# its own on ports of its own: three run side by side, each in a process of its own.
whole() {
    go test -c -vet=off -ldflags="-s -w" -o "$dir/whole.test" ./test
    mkdir "$dir/program" "$dir/whole"
    go build -ldflags="-s -w" -o "$dir/program/earlybench" ./cmd/earlybench
    sed -n 's/^func \(Test[A-Za-z0-9]*\)(t \*testing.T) {$/\1/p' test/*_test.go | grep -vE "$measure" |
        (cd test && unset GOGC && EARLYBENCH_TEST_PROGRAM=$dir/program/earlybench WHOLE=$dir xargs -P 3 -I{} sh -c \
            '"$WHOLE/whole.test" -test.v -test.timeout 5m -test.run "^{}\$" >"$WHOLE/whole/{}" 2>&1 || echo "FAILED: go test ./test -run {}" >>"$WHOLE/whole/{}"')
    cat "$dir"/whole/*
}
whole 2>&1 | tee -a "$out" | grep -vE "$quiet" || true
wait
tee -a "$out" <"$dir/console"

skipped=$(grep -E '^ *--- SKIP' "$out" || true)
if [ -n "$skipped" ]; then
    echo
    echo "Skipped, with the reason:"
    grep -E -B1 '^ *--- SKIP' "$out" | grep -vE '^(--|=== )' | sed 's/^ */  /'
fi
# Where it is known which programs there are, a test that is left out is a failure;
# taking pictures is no test.
if [ -n "${CI:-}" ]; then
    unwanted=$(echo "$skipped" | grep -v TestPictures | grep -E 'SKIP' || true)
    if [ -n "$unwanted" ]; then
        echo "FAILED: with CI set no test may be skipped" | tee -a "$out"
    fi
fi
passed=$(grep -cE '^ *--- PASS' "$out" || true)
failed=$(grep -cE '^ *--- FAIL' "$out" || true)
left=$(grep -cE '^ *--- SKIP' "$out" || true)
broken=$(grep -cE '^FAILED: ' "$out" || true)
echo
echo "$passed passed, $((failed > 0 ? failed : broken)) failed, $left skipped"
[ "$broken" = 0 ]
