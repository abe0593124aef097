# install DIGEST: makes an app of the files that were sent, and switches to it.
digest=$1
offer=$base/offers/$digest
[ -f "$offer/list" ] && [ -f "$offer/name" ] || fail "this app was not offered"
app=$base/apps/$(cat "$offer/name")
new=$app/.new
rm -rf "$new"
mkdir -p "$new/files" || fail "it cannot write below $base"
while IFS=' ' read -r digest bytes path; do
	file=$base/files/$digest
	[ -f "$file" ] && [ "$(sum "$file")" = "$digest" ] || {
		rm -f "$file"
		fail "the file $path is not whole; it has to be sent again"
	}
	to=$new/files/$path
	mkdir -p "${to%/*}" && { ln "$file" "$to" 2>/dev/null || cp "$file" "$to"; } && chmod 700 "$to" || fail "it cannot write $path"
done <"$offer/list"
mv "$offer/app.json" "$offer/about" "$offer/list" "$new" || fail "it cannot write below $base"
digest=$1
before=$(cat "$app/current" 2>/dev/null)
[ "$before" = "$digest" ] && ! running "$app" && rm -rf "${app:?}/$digest"
if [ -d "$app/$digest" ]; then
	rm -rf "$new" # the same runs
else
	mv "$new" "$app/$digest" || fail "it cannot write below $base"
fi
printf '%s' "$digest" >"$app/current.new" && mv "$app/current.new" "$app/current" || fail "it cannot write below $base"
while IFS=' ' read -r file bytes path; do rm -f "$base/files/$file"; done <"$app/$digest/list"
rm -rf "$offer"
for v in "$app"/*/; do
	v=${v%/}
	[ "${v##*/}" = "$digest" ] || [ "${v##*/}" = "$before" ] || rm -rf "$v"
done
