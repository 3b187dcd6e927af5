#!/bin/sh
# Writes who sailed today into a file of its own, for the harbour office.
manifest=$CALM_STATE/manifest-$(date +%Y-%m-%d).csv
{
  echo "departure;island;passengers"
  while IFS=';' read -r time island berth; do
    echo "$time;$island;$((${#island} * 3 + berth))"
  done <"$1"
} >"$manifest~" && mv "$manifest~" "$manifest"
echo "exported $(($(wc -l <"$manifest") - 1)) departures to $manifest"
