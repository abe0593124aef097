#!/bin/sh
# A rain gauge. What it measures is the load of the board: no rain falls into a computer.
echo "rain gauge ready: $(cat gauge.txt)"
while :; do
	read -r load rest </proc/loadavg
	echo "$load mm in the last hour"
	sleep 5
done
