#!/bin/sh
# Takes the pictures of docs/screenshots anew.
set -eu
out=$(pwd)/docs/screenshots
for program in Xvfb xterm import montage; do
    command -v "$program" >/dev/null || { echo "$program is missing: as root on Debian, apt-get install xvfb xterm imagemagick"; exit 1; }
done
PICTURES="$out" go test ./test -count=1 -run 'TestPictures' -v -timeout 10m

# The ways in of the makers, side by side, as they stand on their glass.
screens=$(mktemp -d)
trap 'rm -rf "$screens"' EXIT
SCREENS="$screens" go test ./standin/body -count=1 -run 'TestEveryScreenIsDrawn'
montage "$screens"/01-halden.png "$screens"/07-ivory-reach.png "$screens"/09-ostler.png "$screens"/15-kestle.png "$screens"/18-wick.png \
    -tile 5x1 -geometry 'x700+18+18' -background '#f3ead8' "$out/ways.png"
mogrify -resize 1280x "$out/ways.png"
