# start NAME ID COMMAND UNIT, with the program "run" as input: starts an app, by systemd where the user's
# own one stays when nobody is logged in. Prints behind which byte of the log it begins.
app=$base/apps/$1
[ -f "$app/current" ] || fail "it is not installed"
version=$(cat "$app/current")
[ -d "$app/$version/files" ] || fail "its files are not there any more; install it again"
command -v setsid >/dev/null || fail "it has no program setsid, without which an app cannot be started apart"
stop "$app"
for v in "$app"/*/; do
	v=${v%/}
	[ "${v##*/}" = "$version" ] || rm -rf "$v"
done
cat >"$base/run.new" && mv "$base/run.new" "$base/run" || fail "it cannot write below $base"
printf '%s' "$2" >"$app/id" && printf '%s' "$3" >"$app/command" || fail "it cannot write below $base"
steady
[ -f "$base/log" ] || : >"$base/log"
after=$(($(where log) + $(size "$base/log")))
rm -f "$app/process" "$app/stopping"
if [ "$base" = "$HOME/.local/share/early-bench" ] && [ -e "/var/lib/systemd/linger/$(id -un)" ] && systemctl --user show-environment >/dev/null 2>&1; then
	units=${XDG_CONFIG_HOME:-$HOME/.config}/systemd/user
	mkdir -p "$units" && printf '%s' "$4" >"$units/early-bench@.service" && systemctl --user daemon-reload && systemctl --user restart "early-bench@$1.service" || fail "systemd has not started it"
else
	setsid sh "$base/run" "$base" "$1" </dev/null >/dev/null 2>&1 &
fi
n=0
while [ ! -f "$app/process" ] && [ $(($(where log) + $(size "$base/log"))) -eq $after ] && [ $n -lt 100 ]; do
	nap
	n=$((n + 1))
done
[ $n -lt 100 ] || fail "it was not started within ten seconds"
echo "$after"
