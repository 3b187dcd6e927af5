#!/bin/sh
# Switches the lamps along the quay on or off, or looks whether they are on. Between the two nothing runs: the lamps burn by themselves.
set -e
case $1 in
  on) echo "$(date +%H:%M) on" >>"$CALM_STATE/lamps" ;;
  off) echo "$(date +%H:%M) off" >>"$CALM_STATE/lamps" ;;
  look)
    tail -n 1 "$CALM_STATE/lamps" | grep -q ' on$' && exit 0
    echo "the quay lies in the dark" >&2
    exit 1
    ;;
  *) echo "lamps: on, off or look, not '$1'" >&2; exit 2 ;;
esac
echo "the quay's lamps are $1"
