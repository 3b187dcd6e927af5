#!/usr/bin/env bash
# pair.sh BEFORE NOW [ROUNDS]: compares two builds (their out/ directories) in runs that take turns, so that the machine's moods
# meet both alike. Of each kind: median, 99th percentile and longest of both, in milliseconds; and of each round the ratio of its medians,
# with the lower quartile, the median and the upper quartile of those. Worse is what has its lower quartile above 1.05.
set -euo pipefail
before=$(realpath "$1") now=$(realpath "$2") rounds=${3:-5}
cd "$(dirname "${BASH_SOURCE[0]}")/.."
. tools/setup.sh bench >&2
. tools/parts.sh
mkdir -p out/bench
gcc -O2 -o out/bench/floors bench/floors.c -lutil
dotnet build "$here/bench" -c Release -v quiet -o "$here/out/bench/driver" >&2
compiler_ends
for which in before now; do : >"out/bench/$which.txt"; done
for ((round = 1; round <= rounds; round++)); do
  order=(before now)
  if ((round % 2 == 0)); then order=(now before); fi
  for which in "${order[@]}"; do
    echo "round $round of $rounds: $which" >&2
    out/bench/driver/CalmSentry.Bench "${!which}" out/bench/floors --pair | sed "s/^/$round /" >>"out/bench/$which.txt"
  done
done
sorted() { # file, what, round or 'all': its times, the least first
  awk -v what="$2" -v round="$3" '$2 == what && (round == "all" || $1 == round) { print $3 }' "$1" | sort -n
}
at() { awk -v part="$1" '{ t[NR] = $1 } END { p = int(NR * part) + 1; if (p > NR) p = NR; print t[p] }'; } # of sorted numbers
figures() { # file, what: median, 99th percentile, longest
  local all
  all=$(sorted "$1" "$2" all)
  echo "$(at 0.5 <<<"$all"), $(at 0.99 <<<"$all"), $(tail -n 1 <<<"$all") ms"
}
echo "| what | times each | before: median, p99, longest | now: median, p99, longest | ratio of each round | quartiles and median of them |"
echo "|---|---|---|---|---|---|"
for what in launch kill-to-running 200-from-cold 1000-from-cold list; do
  ratios=$(for ((round = 1; round <= rounds; round++)); do
    awk -v now="$(sorted out/bench/now.txt $what $round | at 0.5)" -v before="$(sorted out/bench/before.txt $what $round | at 0.5)" \
      'BEGIN { printf "%.2f\n", now / before }'
  done)
  ranked=$(sort -n <<<"$ratios")
  echo "| $what | $(sorted out/bench/now.txt $what all | wc -l) | $(figures out/bench/before.txt $what) | $(figures out/bench/now.txt $what) |" \
    "$(paste -sd ' ' <<<"$ratios") | $(at 0.25 <<<"$ranked"), $(at 0.5 <<<"$ranked"), $(at 0.75 <<<"$ranked") |"
done
