# restart: restarts the device.
if [ "$(id -u)" -eq 0 ]; then reboot; else sudo -n reboot; fi || fail "this user may not restart it"
