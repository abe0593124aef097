#!/bin/sh
# Installs the programs that the tests use as witnesses, where they are missing.
# It never asks: as root on Debian it installs them; elsewhere it says in a
# sentence what is missing, and the tests that need it are skipped by name.
set -u

has() { command -v "$1" >/dev/null 2>&1 || [ -x "/usr/sbin/$1" ]; }

missing=""
has chromium || missing="$missing chromium"
has chromium-headless-shell || missing="$missing chromium-headless-shell"
has usbip || missing="$missing usbip"
has openssl || missing="$missing openssl"
has unzip || missing="$missing unzip"
has udevadm || missing="$missing udev"
has zsh || missing="$missing zsh"
has fish || missing="$missing fish"
has sshd || missing="$missing openssh-server"
has tshark || missing="$missing tshark"
has age || missing="$missing age"
has ip || missing="$missing iproute2"
has avahi-daemon || missing="$missing avahi-daemon"
has avahi-browse || missing="$missing avahi-utils"
has dropbear || missing="$missing dropbear-bin"
has busybox || missing="$missing busybox"
has gvnccapture || missing="$missing gvncviewer"
has dbus-daemon || missing="$missing dbus-daemon"
has cc || missing="$missing gcc libc6-dev"
[ -r /usr/share/misc/usb.ids ] || missing="$missing usb.ids"
[ -n "$missing" ] || exit 0

if [ "$(id -u)" != 0 ] || ! has apt-get; then
    echo "Not installed, and not installable here without root and apt-get:$missing. The tests that need them will be skipped, by name."
    exit 0
fi
echo "Installing for the tests:$missing"
export DEBIAN_FRONTEND=noninteractive
apt-get update -qq >/dev/null 2>&1
install() { apt-get install -y -qq --no-install-recommends -o Dpkg::Options::=--force-unsafe-io "$@" >/dev/null 2>&1; }
# All at once takes half the time; one by one where one of them is not to be had.
# shellcheck disable=SC2086
install $missing && exit 0
for package in $missing; do
    install "$package" ||
        echo "The package $package cannot be installed here. The tests that need it will be skipped, by name."
done
exit 0
