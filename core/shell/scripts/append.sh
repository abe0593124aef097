# append FILE AT: cuts the file at a byte, and appends the input.
dd if=/dev/null of="$1" bs=1 seek="$2" 2>/dev/null && cat >>"$1" || fail "it cannot write $1"
size "$1"
