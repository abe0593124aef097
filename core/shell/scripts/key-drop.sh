# key-drop BLOB: takes the lines of a key out, and nothing else. Comments stay. Where no app is left, all that was
# put here goes, too.
if rmdir "$base/apps" 2>/dev/null || [ ! -d "$base/apps" ]; then
	rm -rf "$base"
	rm -f "${XDG_CONFIG_HOME:-$HOME/.config}/systemd/user/early-bench@.service"
fi
keys=$HOME/.ssh/authorized_keys
[ -f "$keys" ] || exit 0
[ -L "$keys" ] && keys=$(readlink -f "$keys")
new=$keys.$$
cp -p "$keys" "$new" || fail "it cannot write beside $keys"
awk -v blob="$1" '!index($0, blob) || /^[ \t]*#/' "$keys" >"$new" && mv "$new" "$keys" && exit 0
rm -f "$new"
fail "it cannot write $keys"
