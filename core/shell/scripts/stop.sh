# stop NAME: ends an app.
[ -f "$base/apps/$1/current" ] || fail "it is not installed"
stop "$base/apps/$1"
