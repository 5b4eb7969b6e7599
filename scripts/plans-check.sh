#!/usr/bin/env bash
# Random plans under the eyes of a stock Linux kernel: scripts/plans-check.sh
#
# Half of the drives hold volumes that the kernel has made, filled, fragmented and deleted
# from. 500 random plans are carried out, some stopped and finished or taken back; then the
# kernel must find in every volume every file that has to be there with its hash, nothing
# else, and write new files into it, 20 drives at a time. What was tried and found is
# written to docs/random-plans.txt. JADETRAIL_SEED repeats a run with the same bases, and
# JADETRAIL_PLANS is another number of plans.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-plans-XXXXXX"); trap 'rm -rf "$work"' EXIT
mkdir "$work/kept"
go test -c -o "$work/run.test" ./core/run
scripts/bases.sh "$work/bases" "${BASES:=4}"
JADETRAIL_PROVE=1 JADETRAIL_BASES=$work/bases JADETRAIL_KEEP=$work/kept "$work/run.test" -test.timeout 40m -test.v -test.run TestRandomPlans | tee "$work/log"
fail=0 files=0 volumes=0 took=0 said=0
for sector in 512 4096; do
  mapfile -t all < <(ls "$work"/kept/$sector-*.img 2>/dev/null)
  for ((at = 0; at < ${#all[@]}; at += 20)); do
    batch=("${all[@]:at:20}")
    # One drive more or less: a batch of one would have no numbers before its places.
    [ ${#batch[@]} -gt 1 ] || batch+=("${all[0]}")
    SECTOR=$sector LARGE=32 scripts/kernel-read.sh write "${batch[@]}" >"$work/read"
    for i in "${!batch[@]}"; do
      n=$((i + 1))
      grep -P "^file\t$n:" "$work/read" | sed "s/^file\t$n:/file\t/" | LC_ALL=C sort >"$work/there" || true
      LC_ALL=C sort "${batch[$i]%.img}.tsv" >"$work/wanted"
      cmp -s "$work/there" "$work/wanted" || { echo "WRONG $(basename "${batch[$i]}"):"; { diff "$work/wanted" "$work/there" || true; } | sed -n 1,10p; fail=1; mkdir -p "${KEEP:-$work}"; cp --sparse=always "${batch[$i]}" "${KEEP:-$work}/"; }
      files=$((files + $(wc -l <"$work/wanted")))
    done
    volumes=$((volumes + $(grep -c ^volume "$work/read"))) took=$((took + $(grep -c $'^wrote\t.*\tok$' "$work/read")))
    said=$((said + $(grep -c ^says "$work/read" || true))); grep ^says "$work/read" || true
  done
done
[ "$took" = "$volumes" ] && [ "$said" = 0 ] || fail=1
{
  echo "Random plans, judged by a stock Linux kernel (make prove)"
  echo "$(grep -o 'JADETRAIL_SEED=.*' "$work/log"), $BASES drives filled by the kernel, $(date -u +%F)"
  grep -o '[0-9]* plans on .*' "$work/log"
  echo "the kernel found $files files in $volumes volumes, $([ $fail = 0 ] && echo "every hash as it must be" || echo "NOT ALL AS THEY MUST BE"); $took volumes took new files; $said complaints of its drivers"
} | tee docs/random-plans.txt
exit $fail
