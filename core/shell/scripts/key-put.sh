# key-put LINE BLOB: lets a key in, if it is not in.
keys=$HOME/.ssh/authorized_keys
mkdir -p "$HOME/.ssh" || fail "it cannot make $HOME/.ssh"
[ -f "$keys" ] && grep -v '^[[:space:]]*#' "$keys" | grep -qF "$2" && exit 0
[ -s "$keys" ] && [ -n "$(tail -c 1 "$keys")" ] && echo >>"$keys" # its last line was not ended
printf '%s\n' "$1" >>"$keys" || fail "it cannot write $keys"
