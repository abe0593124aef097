# facts MARK: what the system says of itself, in parts that begin with a line of the mark.
mark=$1
part() { printf '\n%s %s\n' "$mark" "$1"; }
part os
cat /etc/os-release 2>/dev/null || cat /usr/lib/os-release 2>/dev/null
part machine
uname -m
part model
tr -d '\000' </proc/device-tree/model 2>/dev/null || cat /sys/class/dmi/id/product_name 2>/dev/null
part name
uname -n
part memory
head -n 1 /proc/meminfo
part battery
for b in /sys/class/power_supply/*; do
	[ "$(cat "$b/type" 2>/dev/null)" = Battery ] && [ "$(cat "$b/scope" 2>/dev/null)" != Device ] && cat "$b/capacity" 2>/dev/null
done
part free
df -Pk "$HOME" 2>/dev/null | tail -n 1
part clock
date +%s
part networks
ip -o addr show 2>/dev/null
part listens
cat /proc/net/tcp /proc/net/tcp6 2>/dev/null
part apps
for a in "$base"/apps/*; do
	[ -f "$a/current" ] || continue
	version=$(cat "$a/current")
	state=stopped
	running "$a" && state=running
	printf '%s %s %s\n' "${a##*/}" "$version" "$state"
	cat "$a/$version/about" 2>/dev/null || printf '\n\n'
done
