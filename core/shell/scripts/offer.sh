# offer NAME DIGEST MANIFEST ABOUT, with the list of its files as input, one "sha256 size path" a line:
# where files are sent to, how many KiB are free, and for each file that is not there how many bytes of it are.
name=$1 digest=$2
mkdir -p "$base/apps/$name" "$base/files" "$base/offers/$digest" || fail "it cannot write below $base"
offer=$base/offers/$digest
printf '%s' "$3" >"$offer/app.json" && printf '%s' "$4" >"$offer/about" && printf '%s' "$name" >"$offer/name" && cat >"$offer/list" || fail "it cannot write below $base"
printf 'dir %s\n' "$base/files"
free=$(df -Pk "$base" | tail -n 1 | awk '{print $4}')
printf 'free %s\n' "$free"
old=$base/apps/$name
version=$(cat "$old/current" 2>/dev/null)
while IFS=' ' read -r digest bytes path; do
	file=$base/files/$digest
	if [ -f "$file" ]; then
		have=$(size "$file")
		if [ "$have" -gt "$bytes" ] || { [ "$have" -eq "$bytes" ] && [ "$(sum "$file")" != "$digest" ]; }; then
			rm -f "$file"
		fi
	elif [ -n "$version" ] && before=$(grep "^$digest " "$old/$version/list" 2>/dev/null | head -n 1 | cut -d ' ' -f 3-) && [ -n "$before" ]; then
		before=$old/$version/files/$before
		if [ -f "$before" ] && [ "$(size "$before")" -eq "$bytes" ] && [ "$(sum "$before")" = "$digest" ]; then
			ln "$before" "$file" 2>/dev/null || cp "$before" "$file"
		fi
	fi
	have=0
	[ -f "$file" ] && have=$(size "$file")
	[ "$have" -eq "$bytes" ] && [ -f "$file" ] || printf 'lacks %s %s\n' "$digest" "$have"
done <"$offer/list"
