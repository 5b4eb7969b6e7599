#!/usr/bin/env bash
# The judge of the bytes: a stock Linux kernel reads the demo's drive before and
# after a carry-out. Every file of every surviving volume must have the same hash,
# C: must be larger by what was planned, and every volume must take new files.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-kernel-XXXXXX"); trap 'rm -rf "$work"' EXIT
export JADETRAIL_DATA=$work
bin/jadetrail demo
image=$work/drives/tidewater-reception.img
facts=$image.pc.json

echo "The kernel reads the drive as it was made."
scripts/kernel-read.sh "$image" >"$work/before"
grep -c ^file "$work/before" | sed 's/$/ files in all volumes/'

cat >"$work/plan.json" <<'P'
{"version": 1, "steps": [
  {"do": "delete", "partition": "4", "release": "the customer keeps a rescue stick"},
  {"do": "grow", "partition": "3", "by": "1 GiB"},
  {"do": "delete", "partition": "6", "release": "not wanted", "waiver": "the maker sends a stick"},
  {"do": "grow", "partition": "5", "by": "80 GiB"}]}
P
bin/jadetrail back-up --partition 4 --kind image "$image"
bin/jadetrail carry-out --pc "$facts" --serial 7F3K --plan "$work/plan.json" "$image"
bin/jadetrail check "$image"

echo "The kernel reads the drive after the carry-out, and writes into every volume."
scripts/kernel-read.sh write "$image" >"$work/after"

fail=0
expect() { if [ "$2" = "$3" ]; then echo "ok    $1: $2"; else echo "WRONG $1: $2 instead of $3"; fail=1; fi; }
c=567296 recovery=289974272 x=292616192 oem=733018112
for start in 2048 $c $x; do
  a=$(grep -P "^file\t$start\t" "$work/before" | sha256sum) b=$(grep -P "^file\t$start\t" "$work/after" | sha256sum)
  expect "every file of the volume at sector $start is the same ($(grep -cP "^file\t$start\t" "$work/after") files)" "${b%% *}" "${a%% *}"
  expect "the volume at sector $start takes new files" "$(awk -F'\t' -v s=$start '$1 == "wrote" && $2 == s {print $3}' "$work/after")" ok
done
size() { awk -F'\t' -v s="$2" '$1 == "volume" && $2 == s {print $4}' "$work/$1"; }
expect "C: is larger by (KiB)" "$(($(size after $c) - $(size before $c)))" $((1024 * 1024))
expect "X: is larger by (KiB)" "$(($(size after $x) - $(size before $x)))" $((80 * 1024 * 1024))
expect "volumes at the places of the deleted" "$(grep -cP "^volume\t($recovery|$oem)\t" "$work/after" || true)" 0
expect "complaints of the drivers" "$(grep -c ^says "$work/after" || true)" 0
grep ^says "$work/after" || true
exit $fail
