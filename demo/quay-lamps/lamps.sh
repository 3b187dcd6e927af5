#!/bin/sh
# Switches the lamps along the quay on or off. Between the two nothing runs: the lamps burn by themselves.
set -e
case $1 in
  on) echo "$(date +%H:%M) on" >>"$CALM_STATE/lamps" ;;
  off) echo "$(date +%H:%M) off" >>"$CALM_STATE/lamps" ;;
  *) echo "lamps: on or off, not '$1'" >&2; exit 2 ;;
esac
echo "the quay's lamps are $1"
