# remove NAME: ends an app, and takes it off.
[ -d "$base/apps/$1" ] || exit 0
stop "$base/apps/$1"
rm -rf "$base/apps/$1" || fail "it cannot remove $base/apps/$1"
