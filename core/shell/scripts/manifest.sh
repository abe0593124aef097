# manifest NAME: the manifest of an app that is installed.
app=$base/apps/$1
[ -f "$app/current" ] || fail "it is not installed"
cat "$app/$(cat "$app/current")/app.json"
