#!/bin/sh
# An adapter for the boards of Saltmarsh, in a shell with nothing but the core utilities and sed. It shows
# what the protocol asks for; the one in Python is what one would rather write.
#
# A bench writes each message in one line, members in the order of docs/formats/adapter.md, without spaces.
set -u
umask 077

# member NAME prints a member of the message that is a text without quotes in it, or a number.
member() { printf '%s\n' "$message" | sed -n 's/.*"'"$1"'":"\{0,1\}\([^",}]*\).*/\1/p'; }

answer() { printf '{"jsonrpc":"2.0","id":%s,"result":%s}\n' "$1" "$2"; }
refuse() { printf '{"jsonrpc":"2.0","id":%s,"error":{"code":%s,"message":"%s","data":{"kind":"failed"}}}\n' "$1" "$2" "$(escaped "$3")"; }
escaped() { case $1 in *[!\ -\~]* | *[\\\"]*) escape "$1" ;; *) printf '%s' "$1" ;; esac; }
escape() { printf '%s' "$1" | tr -d '\000-\037' | sed 's/\\/\\\\/g; s/"/\\"/g'; }

# board LINE... asks the board, and prints its answers up to "ok" or "no".
board() {
	printf '%s\n' "$@" >&3
	while IFS= read -r said <&4; do
		printf '%s\n' "$said"
		case $said in ok* | no* | reed*) return ;; esac
	done
}

# listen reads what the board says: answers go to the one who asks, lines of the log to whoever follows it.
listen() {
	while IFS= read -r said <&3; do
		case $said in
		"= "*) printf '%s\n' "${said#= }" >&4 ;;
		"- "*)
			[ -s "$work/log" ] && read -r job <"$work/log" || continue
			set -- ${said#- }
			kind=$1 seq=$2 app=$3
			shift 3
			ended=
			[ "$kind" = end ] && ended=',"ended":{"code":'$1',"reason":"'$2'"}'
			printf '{"jsonrpc":"2.0","method":"line","params":{"job":"%s","seq":%s,"app":"%s","text":"%s"%s}}\n' "$job" "$seq" "$app" "$(escaped "$*")" "$ended"
			;;
		esac
	done
	# The line has ended: the device is gone.
	[ -s "$work/facts" ] && answer "$(cat "$work/facts")" null
}

# connect opens the serial line FILE.
connect() {
	[ -e "$1" ] && [ "$1" != /dev/null ] || return 1
	rm -f "$work/answers"
	mkfifo "$work/answers" || return 1
	exec 3<>"$1" 4<>"$work/answers" || return 1
	listen &
	who=$(board who)
	set -- $who
	[ "${1:-}" = reed ]
}

tell() { printf '{"jsonrpc":"2.0","method":"fact","params":{"device":"%s","key":"%s","value":%s}}\n' "$device" "$1" "$2"; }

# act does an action, and answers.
act() {
	case $(member action) in
	app.list)
		list=
		while read -r word app version digest state name; do
			[ "$word" = app ] || continue
			running=false
			[ "$state" = running ] && running=true
			list="$list${list:+,}{\"id\":\"$app\",\"version\":\"$version\",\"digest\":\"$digest\",\"name\":\"$(escaped "$name")\",\"running\":$running}"
		done <<-END
			$(board list)
		END
		answer "$id" "[$list]"
		;;
	app.install)
		text=$(base64 <"$(member dir)/files/$(member entry)") || {
			refuse "$id" 1 "the files cannot be read"
			return
		}
		done_with "$(board "take $(app_of) $(member version) $(member digest) $(member name)" "$text" .)"
		;;
	app.start) done_with "$(board "start $(app_of)")" ;;
	app.stop) done_with "$(board "stop $(app_of)")" ;;
	app.remove) done_with "$(board "drop $(app_of)")" ;;
	find) done_with "$(board "handle $(member handle)")" ;;
	log)
		member job >"$work/log"
		printf '%s' "$id" >"$work/logging"
		board "again $(member after)" >/dev/null
		;;
	*) refuse "$id" 1 "the action is not known" ;;
	esac
}

# app_of prints the app of the arguments, whose id is the last member of that name.
app_of() { printf '%s' "$message" | sed -n 's/.*"args":{"id":"\([^"]*\)".*/\1/p'; }

# done_with ANSWER answers what the board has said.
done_with() {
	case $1 in
	"ok "*) answer "$id" "{\"after\":${1#ok }}" ;;
	ok) answer "$id" null ;;
	*) refuse "$id" 1 "the board says: ${1#no }" ;;
	esac
}

work=
while IFS= read -r message; do
	id=$(printf '%s' "$message" | sed -n 's/^{"jsonrpc":"2.0","id":\([0-9]*\),.*/\1/p')
	case $(member method) in
	hello)
		work=$(member work)
		rm -f "$work/log" "$work/facts" "$work/logging"
		answer "$id" '{"name":"reed-sh","version":"1","facts":[{"key":"device.release","type":"release"},{"key":"device.battery","type":"int"},{"key":"reed.link","type":"text"}],"actions":[{"name":"app.list"},{"name":"app.install"},{"name":"app.start"},{"name":"app.stop"},{"name":"app.remove"},{"name":"log"},{"name":"find"}]}'
		;;
	candidate)
		device=$(member device)
		if connect "$(member path)"; then
			set -- $who
			model=$2 serial=$3 release=$4 battery=$5
			answer "$id" "{\"fit\":100,\"model\":\"reed-$model\",\"serial\":\"$serial\"}"
		else
			answer "$id" '{"fit":0}'
		fi
		;;
	facts)
		printf '%s' "$id" >"$work/facts"
		tell device.release "\"$release\""
		tell device.battery "$battery"
		tell reed.link '"serial line"'
		;;
	act) act ;;
	stop)
		if [ "$(member job)" = "$(cat "$work/log" 2>/dev/null)" ]; then
			rm -f "$work/log"
			answer "$(cat "$work/logging")" null
		fi
		;;
	*) [ -n "$id" ] && refuse "$id" -32601 "there is no such method" ;;
	esac
done
kill 0
