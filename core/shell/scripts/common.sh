set -u
umask 077
LC_ALL=C
export LC_ALL
base=${XDG_DATA_HOME:-$HOME/.local/share}/early-bench
most=4194304 # bytes of a log, after which it goes on in another file

fail() {
	echo "$1" >&2
	exit 9
}

nap() { sleep 0.1 2>/dev/null || sleep 1; }

# sum prints the SHA-256 of a file.
if command -v sha256sum >/dev/null; then
	sum() { sha256sum <"$1" | cut -c 1-64; }
elif command -v shasum >/dev/null; then
	sum() { shasum -a 256 <"$1" | cut -c 1-64; }
elif command -v openssl >/dev/null; then
	sum() { openssl dgst -sha256 -r <"$1" | cut -c 1-64; }
else
	sum() { fail "it has no program that computes SHA-256: sha256sum, shasum or openssl"; }
fi

size() { wc -c <"$1" | tr -d ' '; }

# began prints when a process began, in ticks since the system did, so that another one with
# its number is told from it (proc_pid_stat(5), field 22; the name before it may have spaces).
began() { sed 's/.*) //' "/proc/$1/stat" 2>/dev/null | cut -d ' ' -f 20; }

# running reports whether the app in a directory runs, and sets pid.
running() {
	[ -f "$1/process" ] || return 1
	read -r pid since <"$1/process"
	[ "$(began "$pid")" = "$since" ]
}

# stop ends the app in a directory, with all processes of its group.
stop() {
	running "$1" || return 0
	: >"$1/stopping"
	kill -TERM "-$pid" 2>/dev/null
	n=0
	while [ -f "$1/process" ] && [ $n -lt 50 ]; do
		nap
		n=$((n + 1))
	done
	kill -KILL "-$pid" 2>/dev/null
	n=0
	while [ -f "$1/process" ] && running "$1" && [ $n -lt 50 ]; do
		nap
		n=$((n + 1))
	done
	rm -f "$1/stopping"
	! running "$1" || fail "the app does not end"
}

# steady waits until no log is put aside.
steady() {
	n=0
	while [ -d "$base/rotating" ] && [ $n -lt 10 ]; do
		sleep 1
		n=$((n + 1))
	done
	rmdir "$base/rotating" 2>/dev/null
	return 0
}

# where prints where a log file begins in all that was ever written.
where() { cat "$base/$1.from" 2>/dev/null || echo 0; }
