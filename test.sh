#!/usr/bin/env bash
# Builds everything and runs every test; needs no other set-up. Ends with "N passed, N failed, N skipped".
#   ./test.sh            all: format, unit, end to end, console, demo
#   ./test.sh unit …     only the parts named: format unit end-to-end console demo
set -uo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"
CALM_NEEDS="chromium=chromium memcached=memcached redis-server=redis-server curl=curl setpriv=util-linux setfacl=acl ps=procps script=bsdutils useradd=passwd perl=perl mmdebstrap=mmdebstrap ip=iproute2 faketime=faketime" . tools/setup.sh || exit 1
parts=${*:-format unit end-to-end console demo}
passed=0 failed=0 skipped=0
log=$(mktemp) broken=$(mktemp)
trap 'rm -f "$log" "$broken"' EXIT

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
  if "$@" 2>&1 | tee "$log"; then count 1 0 0; else fail "$name" "$(tail -n 20 "$log")"; fi
}
xunit() { # name, assembly
  echo "— $1"
  if ! dotnet build "tests/$2" -c Release -v quiet; then fail "$1 does not build"; return; fi
  timeout 900 "tests/$2/bin/Release/net10.0/CalmSentry.$2" -noColor -parallel none | tee "$log"
  local total
  total=$(sed -n 's/.*Total: \([0-9]*\), Errors: \([0-9]*\), Failed: \([0-9]*\), Skipped: \([0-9]*\),.*/\1 \2 \3 \4/p' "$log" | tail -n 1)
  if [ -z "$total" ]; then fail "$1 did not end by itself" "$(tail -n 20 "$log")"; return; fi
  grep -A 25 '\[FAIL\]$' "$log" >>"$broken"
  # shellcheck disable=SC2086
  set -- $total
  count $(($1 - $3 - $4)) $(($2 + $3)) "$4"
}
console() {
  echo "— console, in Chromium"
  if ! (cd src/console && npx tsc --noEmit); then fail "console has type errors"; return; fi
  (cd src/console && timeout 600 npx playwright test) | tee "$log"
  count "$(sed -n 's/^ *\([0-9]*\) passed.*/\1/p' "$log" | grep . || echo 0)" "$(sed -n 's/^ *\([0-9]*\) failed.*/\1/p' "$log" | grep . || echo 0)" \
    "$(sed -n 's/^ *\([0-9]*\) skipped.*/\1/p' "$log" | grep . || echo 0)"
  sed -n '/^  1) /,$p' "$log" >>"$broken"
  grep -q ' passed' "$log" || fail "no console test passed"
}

./build.sh || { echo "0 passed, 1 failed, 0 skipped"; exit 1; }
for part in $parts; do
  case $part in
    format)
      whole "C# is formatted" dotnet format whitespace CalmSentry.slnx --verify-no-changes --no-restore
      whole "TypeScript is formatted and clean" bash -c 'cd src/console && npx biome check .'
      ;;
    unit) xunit "core, contract, arrows" Unit ;;
    end-to-end) xunit "the service through its client" EndToEnd ;;
    console) console ;;
    demo) whole "the demo" timeout 300 ./demo.sh --once ;;
    *) echo "test: no part called $part; there are: format unit end-to-end console demo" >&2; exit 2 ;;
  esac
done
[ -s "$broken" ] && { echo "— what failed, again"; cat "$broken"; }
echo "$passed passed, $failed failed, $skipped skipped"
[ "$failed" = 0 ]
