#!/bin/sh
# Counts passengers through the gate. Its light barrier is old: now and then a reading makes no sense, and the program gives up.
total=0
patience=${GATE_PATIENCE:-30}
echo "gate counter begins, barrier on ${GATE:-gate 1}"
while :; do
  sleep 1
  passengers=$(($(od -An -N1 -tu1 /dev/urandom) % 5))
  total=$((total + passengers))
  [ "$passengers" -gt 0 ] && echo "$passengers through the gate, $total in all"
  patience=$((patience - 1))
  if [ "$patience" -le 0 ]; then
    echo "the barrier reads -1 passengers: giving up" >&2
    exit 3
  fi
done
