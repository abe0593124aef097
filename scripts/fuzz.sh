#!/bin/sh
# Fuzzes every target for as long as FOR says, such as 60s. What it finds is kept in the
# package's testdata, and fails the next make test.
set -u
failed=0
for file in $(grep -rl --include='*_test.go' '^func Fuzz' core internal standin); do
    package=./$(dirname "$file")
    for target in $(sed -n 's/^func \(Fuzz[A-Za-z0-9]*\)(.*/\1/p' "$file"); do
        echo "$package $target, for ${FOR:-60s}"
        go test "$package" -run '^$' -fuzz "^$target\$" -fuzztime "${FOR:-60s}" || failed=1
    done
done
exit $failed
