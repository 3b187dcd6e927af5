#!/usr/bin/env bash
# Feeds the readers of foreign bytes, each for so many seconds (50: ten minutes in all), by a fuzzer that sees which branches of our
# code an input takes and goes on from those that took new ones. Says what it found and fails when that is anything.
#   tools/fuzz.sh [SECONDS [READER…]]
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
. tools/setup.sh fuzz
. tools/parts.sh
seconds=${1:-50}
shift || true
place=$here/.cache/fuzz
rm -rf "$place"
mkdir -p "$place"
[ -x .cache/tools/sharpfuzz ] || dotnet tool install SharpFuzz.CommandLine --version 2.3.0 --tool-path .cache/tools >/dev/null
dotnet publish "$here/tests/Fuzz" -c Release -v quiet -p:PublishAot=false -o "$place/program"
compiler_ends
for one in CalmSentry.Contract CalmSentry.Core CalmSentry.Linux CalmSentry.Engine YamlDotNet; do DOTNET_ROLL_FORWARD=Major .cache/tools/sharpfuzz "$place/program/$one.dll"; done
readers=${*:-$(cd tests/Engine/Linux/Foreign/corpus && ls | sed 's/-[^-]*$//' | sort -u)}
export AFL_SKIP_BIN_CHECK=1 AFL_SKIP_CPUFREQ=1 AFL_I_DONT_CARE_ABOUT_MISSING_CRASHES=1 AFL_NO_UI=1 AFL_NO_AFFINITY=1 AFL_FORKSRV_INIT_TMOUT=20000
found=0
for reader in $readers; do
  mkdir -p "$place/in/$reader" "$place/out"
  cp tests/Engine/Linux/Foreign/corpus/"$reader"* "$place/in/$reader/"
  afl-fuzz -i "$place/in/$reader" -o "$place/out/$reader" -t 5000 -m none -V "$seconds" -- dotnet "$place/program/CalmSentry.Fuzz.dll" "$reader" >"$place/$reader.log" 2>&1 || { tail -n 20 "$place/$reader.log"; exit 1; }
  facts=$place/out/$reader/default/fuzzer_stats
  fact() { sed -n "s/^$1 *: //p" "$facts"; }
  echo "fuzz: $reader: $(fact execs_done) inputs, $(fact corpus_count) that took new branches, $(fact saved_crashes) failures, $(fact saved_hangs) hangs"
  [ "$(fact saved_crashes)$(fact saved_hangs)" = 00 ] || { found=1; find "$place/out/$reader/default/crashes" "$place/out/$reader/default/hangs" -name 'id*'; }
done
exit $found
