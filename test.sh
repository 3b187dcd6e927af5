#!/usr/bin/env bash
# Builds everything and runs every test; needs no other set-up. Ends with "N passed, N failed, N skipped".
#   ./test.sh               all parts; what does not need the other's work runs side by side
#   ./test.sh core …        only the parts named: format core engine front (unit: these three) native end-to-end campaign (two minutes of
#                           random faults) console demo; and what takes long: power-cuts (fifty of a virtual machine, half an hour),
#                           attacks (each race of theirs for 20 s)
#   ./test.sh --again       only what failed the last time
#   ./test.sh --durations   writes the file anew by which the end-to-end tests are queued, the longest first
# What each part prints is kept in out/tests/PART.log.
set -uo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"
unit="core engine front"
all="format $unit native end-to-end campaign console demo"
known="$all unit power-cuts attacks"
parts= only= durations=
for word; do
  case $word in
    --again)
      [ -e out/tests/failed ] || { echo "test: no earlier run is known in out/tests" >&2; exit 2; }
      only=$(mktemp) && cp out/tests/failed "$only"
      parts=$(cut -f 1 "$only" | sort -u)
      [ -n "$parts" ] || { echo "test: nothing failed the last time"; exit 0; }
      ;;
    --durations) durations=--durations ;;
    unit) parts="$parts $unit" ;;
    *)
      case " $known " in *" $word "*) parts="$parts $word" ;; *) echo "test: no part called $word; allowed: $known --again --durations" >&2; exit 2 ;; esac
      ;;
  esac
done
parts=${parts:-$all}
# shellcheck disable=SC2086
. tools/setup.sh tests demo $parts || exit 1
. tools/parts.sh
COMPILER_STAYS=1 # until this script ends
results=$PWD/out/tests
rm -rf "$results" && mkdir -p "$results"
state=$(mktemp -d)
trap 'rm -rf "$state" ${only:+"$only"}; compiler_ends' EXIT

wants() { case " $parts " in *" $1 "*) ;; *) return 1 ;; esac; }
again() { # part: the classes of it that failed; none where it is all of it
  [ -n "$only" ] && awk -F '\t' -v part="$1" '$1 == part { if ($2 == "") all = 1; else print $2 } END { exit all }' "$only" >"$state/again" && cat "$state/again"
}

# Stages are what parts wait for: made once, side by side with whatever needs them not. A lock is held by whoever makes one.
stage() { # name, the part it is counted with, command…
  local name=$1 part=$2 lock
  shift 2
  exec {lock}>"$state/$name.lock"
  flock "$lock"
  {
    local waited=0 begun=$SECONDS
    if "$@" >"$results/$name.log" 2>&1; then echo made >"$state/$name"; elif [ ! -e "$state/lacks of $part" ]; then
      fail "$part" "$name could not be made" "$(grep -aE 'error|warning' "$results/$name.log" | sort -u | tail -n 20 | grep . || tail -n 20 "$results/$name.log")"
    fi
    spent "$name" "$begun" "$waited"
    flock -u "$lock"
  } &
  exec {lock}>&-
}
made() { # stage: waits for it; true if it could be made
  local lock begun=$SECONDS
  [ -e "$state/$1.lock" ] || return 1
  exec {lock}<"$state/$1.lock"
  flock -s "$lock"
  exec {lock}<&-
  waited=$((waited + SECONDS - begun))
  [ -e "$state/$1" ] && return
  # Whoever could not make it has told so.
  touch "$state/lacks of $part"
  printf '%s\t\n' "$part" >>"$results/failed"
  return 1
}
gives_way() { renice -n 5 "$BASHPID" >/dev/null; } # what waits for the most part goes first
compiles_parts() { dotnet build "$here/CalmSentry.Parts.slnf" -c Release -v quiet; } # with the analyzers; native code is made of it
compiles() { made parts && gives_way && dotnet build "$here/CalmSentry.slnx" -c Release -v quiet; } # the rest, tests among it
goes_native() { made parts && PARTS_COMPILED=1 build native; }
draws_pages() { made packages && gives_way && build console; }
makes_machine() { [ "$(id -u)" != 0 ] || tests/EndToEnd/boot/make-root.sh "${XDG_CACHE_HOME:-$HOME/.cache}/calm-sentry-tests/root"; } # what BootTests boot
checks_types() { made packages && gives_way && build types; }

count() { echo "$1 $2 $3" >>"$state/counts"; } # passed, failed, skipped
fail() { # part, name, what was seen: counted, and told again at the end, where it is looked for
  printf '%s\n' "FAILED: $2"
  printf '%s\n%s\n' "FAILED: $2" "${3:-}" >>"$state/broken"
  printf '%s\t\n' "$1" >>"$results/failed"
  count 0 1 0
}
whole() { # part, name, command…: passes or fails as a whole
  local part=$1 name=$2 said
  shift 2
  said=$(mktemp -p "$state")
  echo "— $name"
  if "$@" 2>&1 | tee "$said"; then count 1 0 0; else
    fail "$part" "$name" "$(grep -a -A 20 'DID NOT COME TRUE' "$said" || grep -aE 'error|warning' "$said" | sort -u | tail -n 20 | grep . || tail -n 20 "$said")"
  fi
}
counted() { # part, name, command…: what its runner says in its last line
  local part=$1 name=$2 total said=$state/said-by-$1
  shift 2
  "$@" 2>&1 | tee "$said"
  total=$(sed -n 's/.*Total: \([0-9]*\), Errors: \([0-9]*\), Failed: \([0-9]*\), Skipped: \([0-9]*\),.*/\1 \2 \3 \4/p' "$said" | tail -n 1)
  if [ -z "$total" ]; then fail "$part" "$name did not end by itself" "$(tail -n 20 "$said")"; return; fi
  grep -a -A 25 -E '\[(FAIL|FATAL ERROR)\]' "$said" >>"$state/broken"
  # shellcheck disable=SC2086
  set -- $total
  count $(($1 - $3 - $4)) $(($2 + $3)) "$4"
  # A failure that is no test's: all of the part is run again.
  [ "$2" = 0 ] || printf '%s\t\n' "$part" >>"$results/failed"
}
took() { # report of a runner…: seconds and name of each test
  grep -aoh '<test [^>]*>' "$@" | sed -nE 's/.* name="([^"]*)".* time="([^"]*)".*/\2 \1/p' >>"$state/times"
}
room() { # part, what it is: the tests of rooms that need no native code
  local part=$1 assembly=${1^}Tests class classes=()
  while read -r class; do classes+=(-class "$class"); done < <(again "$part")
  counted "$part" "$2" timeout 1800 "tests/${part^}/bin/Release/net10.0/CalmSentry.$assembly" -noColor -parallel none -xml "$results/$part.xml" "${classes[@]}"
  took "$results/$part.xml"
  grep -ao '<test [^>]*result="Fail"[^>]*>' "$results/$part.xml" | sed -nE "s/.* type=\"([^\"]*)\".*/$part\t\1/p" | sort -u >>"$results/failed"
}
queue() {
  local class classes=()
  while read -r class; do classes+=("$class"); done < <(again end-to-end)
  # shellcheck disable=SC2086
  counted end-to-end "the service through its client" timeout 3600 tests/EndToEnd/bin/Release/net10.0/CalmSentry.EndToEnd \
    --queue --results "$results/end-to-end" $durations "${classes[@]}"
  cat "$results/end-to-end/durations" >>"$state/times"
  sed 's/^/end-to-end\t/' "$results/end-to-end/failed" >>"$results/failed"
}
console() { # two halves of them, each among processes of its own: a sentry that looks for copies of a program sees no other's
  local half one which halves=() said=$state/said-by-console
  for half in 1 2; do
    which=--shard=$half/2
    [ -z "$only" ] || which=--last-failed
    (cd src/console && apart timeout 1200 npx playwright test --workers=1 "$which" --output "test-results/$half") 2>&1 | tee -a "$said" &
    halves+=($!)
  done
  wait "${halves[@]}"
  local passed failed skipped
  for one in passed failed skipped; do declare "$one=$(awk -v what="$one" '$1 ~ /^[0-9]+$/ && $2 == what { sum += $1 } END { print sum + 0 }' "$said")"; done
  count "$passed" "$failed" "$skipped"
  sed -n '/^  1) /,$p' "$said" >>"$state/broken"
  [ "$failed" = 0 ] || printf 'console\t\n' >>"$results/failed"
  [ "$((passed + failed))" != 0 ] || fail console "no console test was run" "$(tail -n 20 "$said")"
  sed -nE 's/^ +. +[0-9]+ .* › (.*) \(([0-9.]+)s\)$/\2 console: \1/p; s/^ +. +[0-9]+ .* › (.*) \(([0-9.]+)m\)$/\2m console: \1/p' "$said" |
    awk '$1 ~ /m$/ { $1 = $1 * 60 } { print }' >>"$state/times"
}

# What a part is; its output goes into its log.
run() {
  case $1 in
    format)
      if made types; then count 1 0 0; else fail format "TypeScript compiles" "$(tail -n 20 "$results/types.log")"; fi
      made packages && whole format "TypeScript is formatted and clean" bash -c 'cd src/console && npx biome check .'
      dotnet tool restore >/dev/null && whole format "C# is formatted" dotnet csharpier check .
      ;;
    core) made compiled && room core "the core's laws" ;;
    engine) made compiled && room engine "the engine, and what it stands on" ;;
    front) made compiled && room front "what stands before it" ;;
    native) made native ;;
    end-to-end) made machine; made native && made compiled && queue ;;
    campaign) made native && made compiled && whole campaign "two minutes of random faults" apart timeout 600 dotnet tests/Campaign/bin/Release/net10.0/CalmSentry.Campaign.dll --minutes 2 --seed 14 ;;
    attacks)
      made native && made compiled && CALM_RACE=20 counted attacks "attacks, raced" \
        apart timeout 1800 tests/EndToEnd/bin/Release/net10.0/CalmSentry.EndToEnd -noColor -parallel none -namespace CalmSentry.Tests.EndToEnd.Attacks
      ;;
    power-cuts) made native && made compiled && whole power-cuts "fifty power cuts" timeout 5400 dotnet tests/PowerCuts/bin/Release/net10.0/CalmSentry.PowerCuts.dll --cuts 50 ;;
    console) made native && made pages && console ;;
    demo) made native && made pages && whole demo "the demo" timeout 300 ./demo.sh --once --native ;;
  esac
}
apart() { # command…: among processes of its own (pid_namespaces(7)), where this host lets it
  if unshare --pid --fork --kill-child --mount-proc true 2>/dev/null; then unshare --pid --fork --kill-child --mount-proc "$@"; else "$@"; fi
}
spent() { # name, when it began, how long it waited: a line about a part or stage that ran in this subshell, and alone there
  local user system
  times >"$state/times of $1" # of what this shell has waited for: the second line
  { read -r _ && read -r user system; } <"$state/times of $1"
  printf '%s %s %s %s %s\n' "$1" $((SECONDS - $2)) "$3" "$user" "$system" >>"$state/spent"
}
part() { # one part, with its log
  (
    part=$1 begun=$SECONDS waited=0
    echo "— $1"
    run "$1" > >(tee "$results/$1.log") 2>&1
    spent "$1" "$begun" "$waited"
  )
}
lane() { # part…: those that are wanted, one after the other
  local one
  for one; do if wants "$one"; then part "$one"; fi; done
}
# How much of the time no processor was at work, looked at five times a second (proc_stat(5): the fourth and fifth are idle).
watches() {
  local idle before=0 all=0 none=0 cpus
  cpus=$(nproc)
  exec {never}<> <(:)
  while read -r -t 0.2 -u "$never" _ || [ $? -gt 128 ]; do
    read -r _ _ _ _ idle waits _ </proc/stat
    all=$((all + 1))
    # 20 of 100 jiffies a processor, less one for what is looked with.
    if [ "$before" != 0 ] && [ $((idle + waits - before)) -ge $((20 * cpus - 1)) ]; then none=$((none + 1)); fi
    before=$((idle + waits))
    echo "$all $none" >"$state/idle"
  done
}
busy() { awk '/^cpu / { print int(($2 + $3 + $4 + $7 + $8) / 100) }' /proc/stat; } # seconds of processor since the machine began

trap 'trap - INT; kill -TERM 0' INT # what runs in the background has Ctrl-C ignored
used=$(busy)
watches &
watcher=$!
needs() { local one; for one; do wants "$one" && return; done; return 1; } # whether any of these parts is wanted
native_parts="native end-to-end campaign attacks power-cuts console demo"
# shellcheck disable=SC2086
if needs format $unit $native_parts; then
  stage parts format compiles_parts
  stage compiled format compiles
fi
# shellcheck disable=SC2086
if needs $native_parts; then stage native native goes_native; fi
if needs format console demo; then stage packages format packages; fi
if needs end-to-end; then stage machine end-to-end makes_machine; fi # a worker has no network to fetch it by
if needs format; then stage types format checks_types; fi
if needs console demo; then stage pages console draws_pages; fi
lane native end-to-end demo campaign attacks power-cuts &
first=$!
gives_way
lane core engine front format console
wait "$first"
# Also what no part has waited for is to be made, and counts.
for one in "$state"/*.lock; do flock -s "$one" true; done
kill "$watcher"

read -r all none <"$state/idle"
echo
echo "— the ten longest tests"
sort -rn "$state/times" 2>/dev/null | head -n 10 | sed -E 's/^([0-9.]+) /  \1 s  /'
echo "— what took how long, waited for what it needs, and took of the processors"
while read -r name wall waited user system; do
  awk -v name="$name" -v wall="$wall" -v waited="$waited" -v user="$user" -v kernel="$system" '
    function seconds(text, part) { split(text, part, /[ms]/); return part[1] * 60 + part[2] }
    BEGIN { printf "  %-12s %4d s, waited %4d s, processor %4d s\n", name, wall, waited, seconds(user) + seconds(kernel) }'
done <"$state/spent"
echo "  in all $SECONDS s, processor $(($(busy) - used)) s; no processor at work for $((all > 0 ? 100 * none / all : 0)) % of it"
[ -s "$state/broken" ] && { echo "— what failed, again"; cat "$state/broken"; }
read -r passed failed skipped < <(awk '{ p += $1; f += $2; s += $3 } END { print p + 0, f + 0, s + 0 }' "$state/counts" 2>/dev/null)
touch "$results/failed"
echo "${passed:-0} passed, ${failed:-1} failed, ${skipped:-0} skipped"
[ "${failed:-1}" = 0 ]
