#!/usr/bin/env bash
# How fast a search is, beside plain reads of the same drive in the same run:
# scripts/search-speed.sh
#
# Going through every sector of a drive without holes, against cat of its image; and the likely
# places of a 2 TB drive with 20 partitions, against 2 000 reads of one block with dd.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-search-XXXXXX"); trap 'rm -rf "$work"' EXIT
go build -o bin/jadetrail ./cmd/jadetrail
go build -o "$work/make" ./scripts/benchdrive
now() { date +%s.%N; }
took() { awk -v a="$1" -v b="$2" 'BEGIN {printf "%.3f", b - a}'; }
head -c 4G /dev/urandom >"$work/full.img"
for where in "in memory" "past the page cache"; do
  echo "Going through every sector of a full drive of 4 GiB, against cat of it to nowhere, $where:"
  for pass in 1 2 3 4 5; do
    fresh() { if [ "$where" = "in memory" ]; then cat "$work/full.img" >/dev/null; else sync; dd if="$work/full.img" iflag=nocache count=0 status=none; fi; }
    fresh; a=$(now); cat "$work/full.img" >/dev/null; b=$(now)
    fresh; c=$(now); bin/jadetrail search "$work/full.img" >/dev/null; d=$(now)
    echo "  cat $(took "$a" "$b") s, search $(took "$c" "$d") s, $(awk -v x="$(took "$a" "$b")" -v y="$(took "$c" "$d")" 'BEGIN {printf "%.2f of the rate", x / y}')"
  done
done
rm "$work/full.img"
"$work/make" inspect "$work/two-tb.img" >/dev/null
echo "The likely places of a 2 TB drive with 20 partitions, against 2 000 reads of one block with dd:"
for pass in 1 2 3; do
  a=$(now); for i in $(seq 2000); do dd if="$work/two-tb.img" of=/dev/null bs=512 count=1 skip=$((i * 1900000)) status=none; done; b=$(now)
  c=$(now); bin/jadetrail search --until likely "$work/two-tb.img" >/dev/null; d=$(now)
  echo "  dd $(took "$a" "$b") s, search $(took "$c" "$d") s"
done
