#!/usr/bin/env bash
# Builds everything and runs every test; needs no other set-up. Ends with "N passed, N failed, N skipped".
#   ./test.sh            all: format, unit, native (the build of it), end to end, console, demo
#   ./test.sh unit …     only the parts named: format unit native end-to-end console demo campaign (two minutes of random faults),
#                        and what takes long: power-cuts (fifty of a virtual machine, half an hour), attacks (each race of theirs for 20 s)
set -uo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"
. tools/setup.sh tests demo "$@" || exit 1
. tools/parts.sh
all="format unit native end-to-end campaign console demo"
known="$all power-cuts attacks"
parts=${*:-$all}
for part in $parts; do
  case " $known " in *" $part "*) ;; *) echo "test: no part called $part; there are: $known" >&2; exit 2 ;; esac
done
passed=0 failed=0 skipped=0
log=$(mktemp) broken=$(mktemp) built=$(mktemp)
trap 'rm -f "$log" "$broken" "$built"' EXIT

count() { passed=$((passed + $1)) failed=$((failed + $2)) skipped=$((skipped + $3)); }
fail() { # name, what was seen: counted, and told again at the end, where it is looked for
  echo "FAILED: $1"
  printf '%s\n%s\n' "FAILED: $1" "${2:-}" >>"$broken"
  count 0 1 0
}
whole() { # name, command…: one part that passes or fails as a whole
  local name=$1
  shift
  echo "— $name"
  if "$@" 2>&1 | tee "$log"; then count 1 0 0; else fail "$name" "$(grep -a -A 20 'DID NOT COME TRUE' "$log" || tail -n 20 "$log")"; fi
}
compiled() { # everything in C#, once, with every analyzer: native code and tests are made of it
  [ -z "${PARTS_COMPILED:-}" ] || return 0
  if dotnet build "$here/CalmSentry.slnx" -c Release -v quiet >"$log" 2>&1; then export PARTS_COMPILED=1; else
    fail "C# does not compile" "$(grep -E 'error|warning' "$log" | sort -u | tail -n 20)"
    return 1
  fi
}
native= # the process that makes native code meanwhile
native_begins() { [ -n "$native" ] || { compiled && { build native console other >"$built" 2>&1 & native=$!; }; }; }
native_ready() {
  [ "$native" != failed ] && native_begins || return
  [ "$native" = ready ] && return
  if wait "$native"; then native=ready; else native=failed; fail "the programs are not built" "$(cat "$built")"; return 1; fi
}
xunit() { # name, assembly
  timeout 1200 "tests/$2/bin/Release/net10.0/CalmSentry.$2" -noColor -parallel none | tee "$log"
  counted "$1" "$log"
}
# The tests end to end in four parts at once, each among processes of its own (pid_namespaces(7)): a sentry that looks for copies of a program sees none of the others'. What makes
# accounts of the host is in one part, for there is one list of them; what waits for the most part (telling) is with those of the attacks that make none; terminals and windows
# are one.
halves() {
  local class first=() rest=(-namespace- CalmSentry.Tests.EndToEnd.Telling) third=(-class "CalmSentry.Tests.EndToEnd.Telling.*") fourth=() other told seen
  for class in Terminals Windows; do
    rest+=(-namespace- "CalmSentry.Tests.EndToEnd.$class") fourth+=(-namespace "CalmSentry.Tests.EndToEnd.$class")
  done
  for class in NameTests HostPlaceTests BoundTests ForgingTests CopyTests; do
    third+=(-class "CalmSentry.Tests.EndToEnd.Attacks.$class") first+=(-class- "CalmSentry.Tests.EndToEnd.Attacks.$class")
  done
  for class in AccountTests CheckTests ClientTests DaemonTests DailyTests GuardTests GuidedTests KeeperTests LimitTests LossTests PermissionTests RehearsalTests \
    SecretTests WatchTests WindDownTests 'Attacks.*'; do
    first+=(-class "CalmSentry.Tests.EndToEnd.$class") rest+=(-class- "CalmSentry.Tests.EndToEnd.$class")
  done
  apart true
  if [ "$apart" = no ]; then
    xunit "$1" EndToEnd
    return
  fi
  other=$(mktemp) told=$(mktemp) seen=$(mktemp)
  half "${rest[@]}" >"$other" 2>&1 &
  local rests=$!
  half "${third[@]}" >"$told" 2>&1 &
  local tells=$!
  half "${fourth[@]}" >"$seen" 2>&1 &
  local sees=$!
  half "${first[@]}" | tee "$log"
  wait "$rests" "$tells" "$sees"
  cat "$other" "$told" "$seen"
  counted "$1, one half" "$log"
  counted "$1, the other half" "$other"
  counted "$1, telling and attacks" "$told"
  counted "$1, terminals and windows" "$seen"
  rm -f "$other" "$told" "$seen"
}
half() { apart timeout 1800 tests/EndToEnd/bin/Release/net10.0/CalmSentry.EndToEnd -noColor -parallel none "$@"; }
apart() { # command…: among processes of its own, where this host lets it
  if [ -z "${apart:-}" ]; then unshare --pid --fork --kill-child --mount-proc true 2>/dev/null && apart=yes || apart=no; fi
  if [ "$apart" = yes ]; then unshare --pid --fork --kill-child --mount-proc "$@"; else "$@"; fi
}
# Random faults go on beside what comes after them, for both leave the processors idle for the most part.
faults='' faulted=
faults_begin() {
  faulted=$(mktemp)
  apart timeout 600 dotnet tests/Campaign/bin/Release/net10.0/CalmSentry.Campaign.dll --minutes 2 --seed 14 >"$faulted" 2>&1 &
  faults=$!
}
faults_end() {
  [ -n "$faults" ] || return 0
  echo "— two minutes of random faults"
  if wait "$faults"; then count 1 0 0; else fail "two minutes of random faults" "$(tail -n 20 "$faulted")"; fi
  cat "$faulted"
  rm -f "$faulted"
}
counted() { # name, what its runner said
  local total log=$2
  total=$(sed -n 's/.*Total: \([0-9]*\), Errors: \([0-9]*\), Failed: \([0-9]*\), Skipped: \([0-9]*\),.*/\1 \2 \3 \4/p' "$log" | tail -n 1)
  if [ -z "$total" ]; then fail "$1 did not end by itself" "$(tail -n 20 "$log")"; return; fi
  grep -a -A 25 '\[FAIL\]$' "$log" >>"$broken"
  # shellcheck disable=SC2086
  set -- $total
  count $(($1 - $3 - $4)) $(($2 + $3)) "$4"
}
console() {
  (cd src/console && timeout 600 npx playwright test) | tee "$log"
  count "$(sed -n 's/^ *\([0-9]*\) passed.*/\1/p' "$log" | grep . || echo 0)" "$(sed -n 's/^ *\([0-9]*\) failed.*/\1/p' "$log" | grep . || echo 0)" \
    "$(sed -n 's/^ *\([0-9]*\) skipped.*/\1/p' "$log" | grep . || echo 0)"
  sed -n '/^  1) /,$p' "$log" >>"$broken"
  grep -q ' passed' "$log" || fail "no console test passed"
}

# One part, in the order of what is quickest to fail; what needs no native code runs while that is made.
run() {
  case $1 in
    format)
      whole "TypeScript compiles" build types
      whole "TypeScript is formatted and clean" bash -c 'cd src/console && npx biome check .'
      compiled && native_begins
      dotnet tool restore >"$log" 2>&1 && whole "C# is formatted" dotnet csharpier check .
      ;;
    unit) compiled && native_begins && xunit "core, contract, arrows" Unit ;;
    native) native_ready ;;
    end-to-end) native_ready && halves "the service through its client" ;;
    campaign) native_ready && faults_begin ;;
    attacks)
      native_ready && CALM_RACE=20 half -namespace CalmSentry.Tests.EndToEnd.Attacks | tee "$log"
      counted "attacks, raced" "$log"
      ;;
    power-cuts) native_ready && whole "fifty power cuts" timeout 5400 dotnet tests/PowerCuts/bin/Release/net10.0/CalmSentry.PowerCuts.dll --cuts 50 ;;
    console) native_ready && packages && console ;;
    demo) native_ready && whole "the demo" timeout 300 ./demo.sh --once --native ;;
  esac
}
times=
for part in $parts; do
  echo "— $part"
  begun=$SECONDS
  run "$part"
  times="$times · $part $((SECONDS - begun)) s"
done
faults_end
echo "— how long it took: ${times# · } · in all $SECONDS s"
[ -s "$broken" ] && { echo "— what failed, again"; cat "$broken"; }
echo "$passed passed, $failed failed, $skipped skipped"
[ "$failed" = 0 ]
