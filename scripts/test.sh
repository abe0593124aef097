#!/bin/sh
# All tests: the console's, the core's under the race detector, and
# the whole program's. What was skipped is said at the end.
set -eu

out=$(mktemp)
trap 'rm -f "$out"' EXIT

(cd console && npm run --silent test)

quiet='^(=== |--- PASS|    --- PASS|PASS$|\?|ok .*no test files)|^\s+.*_test.go:[0-9]+: .*(skipped|is not installed|it takes pictures)'

run() { # keeps going over the pipe's status
    { go test "$@" 2>&1 || echo "FAILED: go test $*"; } | tee -a "$out" | grep -vE "$quiet" || true
}

# Much of these waits for clocks and devices, so more packages than cores run at once.
# Four things are not put under the race detector: SQLite, which is C made Go and no code of
# ours; packages of the core that have neither goroutines nor locks, in which nothing can race;
# tests that only compute, under which they take minutes; and those that measure, which run alone.
core() { # packages of the core that have goroutines or locks of their own (yes), or none (no)
    go list -f '{{.ImportPath}} {{.Dir}} {{join .GoFiles " "}}' ./core/... | while read -r path dir files; do
        concurrent=no
        if (cd "$dir" && grep -qE '\bgo (func|[a-zA-Z.]+\()|\.Go\(|"sync|\bchan ' $files); then concurrent=yes; fi
        if [ "$concurrent" = "$1" ]; then echo "$path"; fi
    done
}
compute='^(TestBrokenSheetsAreRefusedInTheirPlaceAndNeverCrash|TestConditionsComeToATruthEvenWhereFactsAreMissing|TestTheEngineIsNearlyAsGoodAsLookingAtEverything|TestEveryScreenIsDrawn|TestAnAppThatFitsNoMoreIsRefusedBeforeAByteIsSent)$'
measure='^(TestTwoHundredDevicesThatAnnounceThemselvesAtOnceAreLinkedSoonAndCostLittle|TestBogusAnnouncementsHarmNoKnownDevice|TestABorrowedDeviceIsOfUseOverALongLine|TestManyReadersOfTheEventsHoldNobodyUp)$'
run -v -race -gcflags=modernc.org/sqlite/lib=-race=false -p 4 -skip "$compute|$measure" ./cmd/... ./standin/... ./internal/... ./client/... $(core yes)
run -v -skip "$compute" $(core no)
run -v -run "$compute" ./core/sheet ./core/cause ./standin/body ./internal/tryout
run -v -run "$measure" -p 1 ./internal/ways/air ./internal/lend ./test

# Those of the whole program wait for devices and pages most of the time, each with a demo of
# its own on ports of its own: two halves run side by side.
halves() {
    names=$(sed -n 's/^func \(Test[A-Za-z0-9]*\)(t \*testing.T) {$/\1/p' test/*_test.go | grep -vE "$measure")
    for half in 0 1; do
        some=$(echo "$names" | awk -v half=$half 'NR % 2 == half' | paste -sd'|')
        go test -v -timeout 15m -run "^($some)\$" ./test >"$out.$half" 2>&1 || echo "FAILED: go test ./test, half $half" >>"$out.$half" &
    done
    wait
    cat "$out.0" "$out.1"
    rm -f "$out.0" "$out.1"
}
halves | tee -a "$out" | grep -vE "$quiet" || true

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
