#!/bin/sh
# All tests: the console's, those of the packages, and the whole program's; make test calls it. What was
# skipped is said at the end. The race detector is scripts/race.sh's.
set -eu

dir=$(mktemp -d)
out=$dir/out
trap 'rm -rf "$dir"' EXIT

# Collecting garbage less often saves a tenth of all work; those that measure memory or time do without.
export GOGC=400
# The tests of packages in which nothing has changed since they passed are not run again, except in CI.
anew=${CI:+-count=1}
quiet='^(=== |--- PASS|    --- PASS|PASS$|\?|ok .*no test files)|^\s+.*_test.go:[0-9]+: .*(skipped|is not installed|it takes pictures)'

# Vet is left to make lint; what a debugger needs is left out of what is linked.
run() { # keeps going over the pipe's status
    { go test -vet=off -ldflags="-s -w" -v $anew "$@" 2>&1 || echo "FAILED: go test $*"; } | tee -a "$out" | grep -vE "$quiet" || true
}
await() { # waits for a step beside
    while [ ! -e "$dir/$1" ]; do
        if grep -qE '^FAILED: the (console|program)$' "$dir/beside"; then cat "$dir/beside"; exit 1; fi
        sleep 0.2
    done
}

# Side by side: what the tests use is installed, the console is built, what needs neither is compiled, and
# tested; then the whole program is built and the console is tested.
mkdir "$dir/program" "$dir/whole"
sh scripts/setup.sh &
setup=$!
touch "$dir/beside"
{
    if make console/dist/index.html; then
        touch "$dir/console"
        (cd console && npm run --silent test) || echo "FAILED: the tests of the console"
    else
        echo "FAILED: the console"
    fi
} >>"$dir/beside" 2>&1 &
go build ./client/... ./core/... ./internal/store ./standin/... || exit 1
wait $setup
{
    await console
    go build -ldflags="-s -w" -o "$dir/program/earlybench" ./cmd/earlybench &&
        go test -c -vet=off -ldflags="-s -w" -o "$dir/whole.test" ./test && touch "$dir/built" ||
        echo "FAILED: the program"
} >>"$dir/beside" 2>&1 &
. scripts/tests-apart.sh
measure="^($measure)\$"
run ./client/... ./core/...
await built

# Tests of the whole program have each a process of their own, and a demo on ports of its own. Workers take
# the next one from a list. Much of all tests waits for clocks, devices and pages, so more run at once than there are
# cores: two workers beside the packages, and two more after them.
sed -n 's/^func \(Test[A-Za-z0-9]*\)(t \*testing.T) {$/\1/p' test/*_test.go | grep -vE "$measure" >"$dir/tests"
next() { # takes the first line of the list
    (flock 9 && head -n 1 "$dir/tests" && sed -i 1d "$dir/tests") 9>"$dir/lock"
}
whole() { # runs tests of the whole program, by a pattern
    cd test && EARLYBENCH_TEST_PROGRAM=$dir/program/earlybench "$dir/whole.test" -test.v -test.timeout 5m -test.run "$1"
}
worker() {
    while t=$(next) && [ -n "$t" ]; do
        (whole "^$t\$") >"$dir/whole/$t" 2>&1 || echo "FAILED: go test ./test -run $t" >>"$dir/whole/$t"
    done
}
worker & worker &
run -p 3 -skip "$measure" ./cmd/... ./standin/... ./internal/...
worker & worker &
wait
cat "$dir"/whole/* "$dir/beside" | tee -a "$out" | grep -vE "$quiet" || true

# Those that measure, among others, run alone.
unset GOGC
run -run "$measure" -p 1 ./internal/ways/air ./internal/lend ./internal/belong
{ (whole "$measure") 2>&1 || echo "FAILED: go test ./test -run $measure"; } | tee -a "$out" | grep -vE "$quiet" || true

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
