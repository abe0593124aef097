#!/bin/sh
# All tests: the console's, those of the packages, and the whole program's; make test calls it. What was
# skipped is said at the end. The race detector is scripts/race.sh's.
set -eu

dir=$(mktemp -d)
out=$dir/out
trap 'rm -rf "$dir"' EXIT

# What the tests use is installed, the console is built and tested, and what needs neither is
# compiled, side by side.
mkdir "$dir/program" "$dir/whole"
sh scripts/setup.sh &
setup=$!
{ make console/dist/index.html && touch "$dir/built" && cd console && npm run --silent test; } >"$dir/console" 2>&1 || echo "FAILED: the console" >>"$dir/console" &

quiet='^(=== |--- PASS|    --- PASS|PASS$|\?|ok .*no test files)|^\s+.*_test.go:[0-9]+: .*(skipped|is not installed|it takes pictures)'

# Compiler and linker take less time with a larger heap. Vet is left to make lint.
compiling='-toolexec=env GOGC=400'
# The tests of packages in which nothing has changed since they passed are not run again, except in CI.
anew=${CI:+-count=1}
run() { # keeps going over the pipe's status
    { go test -vet=off -v "$compiling" $anew "$@" 2>&1 || echo "FAILED: go test $*"; } | tee -a "$out" | grep -vE "$quiet" || true
}

. scripts/tests-apart.sh
measure="^($measure)\$"
go build "$compiling" ./client/... ./core/... ./internal/store ./standin/... || exit 1
wait $setup
run ./client/... ./core/...
while [ ! -e "$dir/built" ]; do
    if grep -q ^FAILED: "$dir/console"; then cat "$dir/console"; exit 1; fi
    sleep 0.2
done

# Tests of the whole program have each a process of their own, and a demo on ports of its own. Workers take
# the next one from a list. Much of all tests waits for clocks, devices and pages, so more run at once than there are
# cores: two workers beside the packages, and two more after them.
go build "$compiling" -ldflags="-s -w" -o "$dir/program/earlybench" ./cmd/earlybench
go test -c -vet=off "$compiling" -ldflags="-s -w" -o "$dir/whole.test" ./test
sed -n 's/^func \(Test[A-Za-z0-9]*\)(t \*testing.T) {$/\1/p' test/*_test.go | grep -vE "$measure" >"$dir/tests"
next() { # takes the first line of the list
    (flock 9 && head -n 1 "$dir/tests" && sed -i 1d "$dir/tests") 9>"$dir/lock"
}
worker() {
    while t=$(next) && [ -n "$t" ]; do
        (cd test && EARLYBENCH_TEST_PROGRAM=$dir/program/earlybench "$dir/whole.test" -test.v -test.timeout 5m -test.run "^$t\$") >"$dir/whole/$t" 2>&1 ||
            echo "FAILED: go test ./test -run $t" >>"$dir/whole/$t"
    done
}
worker & worker &
run -p 3 -skip "$measure" ./cmd/... ./standin/... ./internal/...
worker & worker &
wait
cat "$dir"/whole/* "$dir/console" | tee -a "$out" | grep -vE "$quiet" || true

# Those that measure, among others, run alone.
run -run "$measure" -p 1 ./internal/ways/air ./internal/lend ./internal/belong ./test

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
