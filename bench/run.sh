#!/usr/bin/env bash
# Measures speed and size beside floors in C and everyday tools, in one run; prints a table. --quick: a short trial of the bench itself.
# --ceilings: launches alone. --begin: also by the hundred. --output: launches and output alone. --jobs: jobs alone. --crowd: a thousand services. --told: from a failure to the mail about it.
# --files: twenty thousand new files for a service. --settle: a directory of definitions. --terminal: keys and output at a joined terminal.
# --window: a press to its picture in a service's window, and what a still one costs (as root).
# --console: the console's first rows, a change to its sight, frames and memory, with up to a thousand services; with --hour also after as many events as come in an hour (as root).
# --asked: the list, asked for by eight at once.
# --knock: the list while another account knocks (as root).
# --write puts the table into docs/performance.md.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
. tools/setup.sh bench >&2
. tools/parts.sh
./build.sh >&2
mkdir -p out/bench
# In memory, where there is room for it: a disk's own moods would be most of what the capture shows.
if [ -w /dev/shm ] && [ "$(df --output=avail -m /dev/shm | tail -n 1)" -gt 6000 ]; then export TMPDIR=/dev/shm; fi
gcc -O2 -o out/bench/floors bench/floors.c -lutil
if [[ " $* " == *" --terminal "* ]]; then exec python3 bench/terminal.py out out/bench/floors; fi
if [[ " $* " == *" --window "* ]]; then exec python3 bench/window.py out; fi
if [[ " $* " == *" --console "* ]]; then exec node bench/console.mjs out "$@"; fi
dotnet build "$here/bench" -c Release -v quiet -o "$here/out/bench/driver" >&2
compiler_ends
out/bench/driver/CalmSentry.Bench out out/bench/floors "$@" | tee out/bench/table.md
if [[ " $* " == *" --write "* ]]; then
  {
    sed '/^<!-- table -->$/q' docs/performance.md
    echo
    echo "Measured $(date +%F) on $(nproc) cores ($(uname -m), Linux $(uname -r | cut -d. -f1-2))."
    echo
    cat out/bench/table.md
  } >out/bench/performance.md
  cp out/bench/performance.md docs/performance.md
fi
