#!/usr/bin/env bash
# workshop.sh: what a developer waits for, in seconds of processor (proc_stat(5), all of this machine's: let nothing else run beside
# it), from a clone of this commit in a folder of its own with a space and a quote in its name.
#   bench/workshop.sh answers   from an edit to the answer of a test: a body, a test, a public signature, room by room
#   bench/workshop.sh all       ./demo.sh --once, ./build.sh and ./test.sh, with packages as they are
# The floor is a loop of awk(1), before and after: machines that are shared are several times slower at one hour than at another.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
place=$(mktemp -d "${TMPDIR:-/tmp}/workshop.XXXXXX")
trap 'rm -rf "$place"' EXIT
chmod 755 "$place"
git clone -q . "$place/Skerry's quay"
cd "$place/Skerry's quay"

busy() { awk '/^cpu / { print ($2 + $3 + $4 + $7 + $8) / 100 }' /proc/stat; }
floor() {
  local before
  before=$(busy)
  awk 'BEGIN { for (i = 0; i < 20000000; i++) x += i }'
  awk -v a="$before" -v b="$(busy)" 'BEGIN { printf "| the floor: 20 million turns of awk | | %.1f s |\n", b - a }'
}
row() { # what, command…
  local what=$1 before begun=$SECONDS
  shift
  before=$(busy)
  "$@" >"$place/log" 2>&1 || { tail -n 20 "$place/log" >&2; echo "workshop: $what failed" >&2; exit 1; }
  awk -v what="$what" -v wall=$((SECONDS - begun)) -v a="$before" -v b="$(busy)" 'BEGIN { printf "| %s | %d s | %.1f s |\n", what, wall, b - a }'
}
try() { tools/try.sh "$@"; }
# A statement at the beginning of a method's body, which changes nothing of what it does.
body() { sed -i '0,/^    {$/s//    {\n        _ = "'$RANDOM'".Length;/' "$1"; }

echo "| what | time | processor |"
echo "|---|---|---|"
floor
case ${1:-} in
  answers)
    core=(core -class '*.NamesTests') engine=(engine -class '*.EventHubTests') front=(front -class '*.HelpTests')
    for room in core engine front; do
      declare -n words=$room
      try "${words[@]}" >"$place/log" 2>&1 || { tail -n 20 "$place/log" >&2; exit 1; }
    done
    grown() { # file: its class gets a public method more
      sed -i '0,/^{$/s//{\n    public static int Grown'$RANDOM'() => 7;\n/' "$1"
    }
    body src/Core/Text/NaturalOrder.cs && row "a body in Core, to the core's laws" try "${core[@]}"
    echo "// $RANDOM" >>tests/Core/Definitions/NamesTests.cs && row "a test of the core's" try "${core[@]}"
    row "nothing" try "${core[@]}"
    body src/Engine/Events/EventHub.cs && row "a body in Engine" try "${engine[@]}"
    body src/Linux/Processes/ProcessFacts.cs && row "a body in Linux" try "${engine[@]}"
    echo "// $RANDOM" >>tests/Engine/Events/EventHubTests.cs && row "a test of the engine's" try "${engine[@]}"
    body src/Cli/Help/HelpText.cs && row "a body in Cli" try "${front[@]}"
    body src/Server/Serve.cs && row "a body in Server" try "${front[@]}"
    echo "// $RANDOM" >>tests/Front/Cli/HelpTests.cs && row "a test of the front's" try "${front[@]}"
    grown src/Core/Text/NaturalOrder.cs && row "a public signature in Core, to the core's laws" try "${core[@]}"
    row "… and to the engine's tests" try "${engine[@]}"
    row "… and to the front's: all of it" try "${front[@]}"
    ;;
  all)
    row "\`./demo.sh --once\`" ./demo.sh --once
    row "\`./build.sh\`" ./build.sh
    row "\`./test.sh\`" ./test.sh
    tail -n 40 "$place/log" >&2
    ;;
  *) echo "workshop: answers or all" >&2; exit 2 ;;
esac
floor
