#!/bin/sh
# Takes the pictures of docs/screenshots anew.
set -eu
PICTURES="$(pwd)/docs/screenshots" go test ./test -count=1 -run 'TestPictures' -v -timeout 10m
