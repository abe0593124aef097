#!/bin/sh
# run BASE NAME: runs an app until it ends, and writes what it prints into the log of the device, one line
# each: time, level, app, text. Put here by Early Bench.
set -u
umask 077
LC_ALL=C
export LC_ALL
base=$1 app=$1/apps/$2
id=$(cat "$app/id")
most=4194304
read -r up rest </proc/uptime
booted=$(($(date +%s) - ${up%.*}))

# record LEVEL TEXT writes a line. No other program is started for it.
record() {
	if [ -d "$base/rotating" ]; then
		n=0
		while [ -d "$base/rotating" ] && [ $n -lt 10 ]; do
			sleep 1
			n=$((n + 1))
		done
		rmdir "$base/rotating" 2>/dev/null
	fi
	read -r up rest </proc/uptime
	printf '%s.%s %s %s %.4000s\n' "$((booted + ${up%.*}))" "${up#*.}" "$1" "$id" "$2" >>"$base/log"
}

# aside puts a log that has become long aside, beside which others may write.
aside() {
	[ "$(wc -c <"$base/log")" -gt "$most" ] || return 0
	mkdir "$base/rotating" 2>/dev/null || return 0
	sleep 1 # who was about to write has written
	echo "0 R - -" >>"$base/log"
	from=$(cat "$base/log.from" 2>/dev/null || echo 0)
	next=$((from + $(wc -c <"$base/log")))
	mv "$base/log" "$base/log.1" && echo "$from" >"$base/log.1.from" && : >"$base/log" && echo "$next" >"$base/log.from"
	rmdir "$base/rotating" 2>/dev/null
}

keep() {
	trap '' TERM # all that is printed is kept
	count=0
	while IFS= read -r line || [ -n "$line" ]; do
		record "$1" "$line"
		count=$((count + 1))
		if [ $count -ge 500 ]; then
			aside
			count=0
		fi
	done
}

set --
while IFS= read -r word || [ -n "$word" ]; do set -- "$@" "$word"; done <"$app/command"
cd "$app/$(cat "$app/current")/files" || exit 1
rm -f "$app/out" "$app/err"
mkfifo "$app/out" "$app/err" || exit 1
pid=
trap '[ -z "$pid" ] || kill -TERM "-$pid" 2>/dev/null' TERM
keep I <"$app/out" &
out=$!
keep E <"$app/err" &
err=$!
EARLY_BENCH_APP=$id setsid "$@" >"$app/out" 2>"$app/err" </dev/null &
pid=$!
echo "$pid $(sed 's/.*) //' "/proc/$pid/stat" 2>/dev/null | cut -d ' ' -f 20)" >"$app/process.new"
mv "$app/process.new" "$app/process"
wait "$pid"
code=$?
while kill -0 "$pid" 2>/dev/null; do # a signal has ended the waiting
	wait "$pid"
	code=$?
done
kill -TERM "-$pid" 2>/dev/null # what it has left
(sleep 3 && kill "-$pid" "$out" "$err") 2>/dev/null &
late=$!
wait "$out" "$err"
kill "$late" 2>/dev/null
reason=crashed
[ $code -eq 0 ] && reason=exited
if [ -f "$app/stopping" ]; then
	reason=stopped
	code=-1
fi
record X "$code $reason"
rm -f "$app/process" "$app/out" "$app/err"
