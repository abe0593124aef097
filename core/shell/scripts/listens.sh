# listens: the sockets of the device, of which some listen.
cat /proc/net/tcp /proc/net/tcp6 2>/dev/null
