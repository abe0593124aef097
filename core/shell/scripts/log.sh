# log AFTER: the log behind a byte of all that was ever written, after a line that says from where on, until the
# input ends. A file that was put aside is read to its end.
after=$1
mkdir -p "$base" || fail "it cannot write below $base"
steady
[ -f "$base/log" ] || : >"$base/log"
from=$(where log)
old=$(where log.1)
if [ "$after" -lt "$from" ] && [ -f "$base/log.1" ]; then
	[ "$after" -lt "$old" ] && after=$old
	echo "$after"
	exec tail -c +$((after - old + 1)) "$base/log.1"
fi
[ "$after" -gt $((from + $(size "$base/log"))) ] && after=$from # it was begun anew
[ "$after" -lt "$from" ] && after=$from
echo "$after"
tail -c +$((after - from + 1)) -f "$base/log" 2>/dev/null </dev/null &
reading=$!
cat >/dev/null
kill $reading
