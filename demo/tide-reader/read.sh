#!/bin/sh
# Reads the tide at the quay once, and appends the measurement to the service's own table.
table=$CALM_STATE/tides.csv
second=$(date +%s)
# Made up: a tide of 12 h 25 min between 40 and 260 cm, drawn with whole numbers.
part=$((second % 44700 * 200 / 44700))
[ "$part" -le 100 ] || part=$((200 - part))
level=$((40 + part * 220 / 100))
echo "$(date +%Y-%m-%dT%H:%M:%S%z);$level" >>"$table"
echo "tide at the quay: $level cm, measurement $(wc -l <"$table")"
