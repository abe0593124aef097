#!/bin/sh
# Does often, and for long, what make test does a few times: an hour, or as long as SOAK says, such as
# SOAK=5m, by which every count and duration is scaled. In the end it prints one table, and what failed.
set -eu

SOAK=${SOAK:-1h}
export SOAK
out=$(mktemp)

# Seconds for each fuzz target: a minute of an hour.
fuzz=$(awk -v soak="$SOAK" 'BEGIN { n = soak + 0; if (soak ~ /h$/) n *= 3600; else if (soak ~ /m$/) n *= 60; f = int(n / 60); print (f < 2 ? 2 : (f > 60 ? 60 : f)) }')

tests='TestNothingAcknowledgedIsLostWhenTheServiceIsKilled|TestPulledCablesLoseNothingOfACopy|TestAFullDiskIsNamedAndWhatWasAcknowledgedIsKept|TestWhatIsAcknowledgedSurvivesALossOfPower'
tests="$tests|TestANewcomerIsLedByThePageAlone|TestANewcomerIsLedFromBrandNewToATriedAppByThePage|TestWhatIsAcknowledgedIsKeptOnEveryRoute|TestTheBenchHoldsAgainstHostileDevices|TestManyReadersOfTheEventsHoldNobodyUp|TestAStormOfConnectionsBeforeSignInCostsLittle|TestTryoutsLeaveNothingBehind|TestAFetchThatIsKilledGoesOnAtTheByte|TestBenchesThatAreKilledAgreeOnTheirLoans|TestABenchThatAnswersNothingIsToldApartFromAFailedCommand"

failed=0
go test ./test -count=1 -timeout 3h -v -run "^($tests)\$" 2>&1 | tee "$out" | grep --line-buffered -E '^(--- |ok|FAIL)|soak: ' || true
grep -q '^FAIL' "$out" && failed=1
go test ./internal/lend -count=1 -timeout 1h -v -run '^(TestACopyGoesOnAcrossBreaksBetweenTheBenches|TestABorrowedDeviceIsOfUseOverALongLine)$' >"$out.lend" 2>&1 || failed=1
grep -E '^(--- |ok|FAIL)|soak: ' "$out.lend" || true
cat "$out.lend" >>"$out"
rm -f "$out.lend"

targets=0
crashed=""
for file in $(grep -rl --include='*_test.go' '^func Fuzz' core internal standin); do
    package=./$(dirname "$file")
    for target in $(sed -n 's/^func \(Fuzz[A-Za-z0-9]*\)(.*/\1/p' "$file"); do
        targets=$((targets + 1))
        echo "fuzz $package $target for ${fuzz}s"
        go test "$package" -run '^$' -fuzz "^$target\$" -fuzztime "${fuzz}s" >"$out.fuzz" 2>&1 || { crashed="$crashed $package/$target"; tail -20 "$out.fuzz"; }
    done
done
rm -f "$out.fuzz"

echo
echo "What                          Count  Figures"
sed -n 's/^.*soak: //p' "$out"
printf '%-28s %6d  %s\n' "fuzz targets" "$targets" "${fuzz} s each; ${crashed:-none found a crash}"
if [ "$failed" = 0 ]; then
    rm -f "$out"
else
    grep -E '^--- FAIL' "$out" || true
    echo "What they said is in $out."
fi
[ "$failed" = 0 ] && [ -z "$crashed" ]
