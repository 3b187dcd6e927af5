#!/usr/bin/env bash
# pair.sh BEFORE NOW [ROUNDS]: compares two builds (their out/ directories) in runs that take turns, so that the machine's moods
# meet both alike. Of each kind: median, 99th percentile and longest of both, in milliseconds, and the ratio of the medians.
set -euo pipefail
before=$(realpath "$1") now=$(realpath "$2") rounds=${3:-5}
cd "$(dirname "${BASH_SOURCE[0]}")/.."
. tools/setup.sh bench >&2
. tools/parts.sh
mkdir -p out/bench
gcc -O2 -o out/bench/floors bench/floors.c
dotnet build "$here/bench" -c Release -v quiet -o "$here/out/bench/driver" >&2
for which in before now; do : >"out/bench/$which.txt"; done
for ((round = 1; round <= rounds; round++)); do
  order=(before now)
  if ((round % 2 == 0)); then order=(now before); fi
  for which in "${order[@]}"; do
    echo "round $round of $rounds: $which" >&2
    out/bench/driver/CalmSentry.Bench "${!which}" out/bench/floors --pair >>"out/bench/$which.txt"
  done
done
echo "| what | times each | before: median, p99, longest | now: median, p99, longest | ratio |"
echo "|---|---|---|---|---|"
for what in launch kill-to-running 200-from-cold 1000-from-cold list; do
  figures() { # file: how many, median, p99, longest
    awk -v what="$what" '$1 == what { print $2 }' "$1" | sort -n |
      awk '{ t[NR] = $1 } END { p = int(NR * 0.99) + 1; if (p > NR) p = NR; print NR, t[int(NR / 2) + 1], t[p], t[NR] }'
  }
  read -r _ bm bp bl <<<"$(figures out/bench/before.txt)"
  read -r n nm np nl <<<"$(figures out/bench/now.txt)"
  echo "| $what | $n | $bm, $bp, $bl ms | $nm, $np, $nl ms | $(awk -v a="$nm" -v b="$bm" 'BEGIN { printf "%.2f", a / b }') |"
done
