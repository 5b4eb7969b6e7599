#!/usr/bin/env bash
# Random plans under the eyes of a stock Linux kernel: scripts/plans-check.sh
#
# Half of the drives hold volumes that the kernel has made, filled, fragmented and deleted
# from. 500 random plans are carried out, some stopped and finished or taken back; then the
# kernel must find in every volume every file that has to be there with its hash, nothing
# else, and write new files into it, 20 drives at a time. What was tried and found is
# written to docs/random-plans.txt. JADETRAIL_SEED repeats a run with the same bases.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-plans-XXXXXX"); trap 'rm -rf "$work"' EXIT
need=(); command -v mkfs.exfat >/dev/null || need+=(exfatprogs); command -v mkfs.fat >/dev/null || need+=(dosfstools); command -v mkfs.ext4 >/dev/null || need+=(e2fsprogs)
if [ ${#need[@]} -gt 0 ]; then
  as=; [ "$(id -u)" = 0 ] || as=sudo
  $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${need[@]}" >/dev/null
fi
mkdir "$work/bases" "$work/kept"
go test -c -o "$work/run.test" ./core/run
echo "The kernel fills ${BASES:=4} drives, each with six volumes."
for i in $(seq "$BASES"); do
  base=$work/bases/base-$i.img
  go run ./scripts/kinddrive "$base" plans >"$work/kinds"
  while read -r what off len; do
    case $what in
    exfat) make=(mkfs.exfat -L Kinds -c 4096) ;; ext4) make=(mkfs.ext4 -q) ;; fat16) make=(mkfs.fat -F 16 -s 2 -i 7f3b0016) ;; fat12) make=(mkfs.fat -s 2 -F 12 -i 7f3b0012) ;; *) continue ;;
    esac
    rm -f "$work/part"; truncate -s "$len" "$work/part"; "${make[@]}" "$work/part" >/dev/null
    dd if="$work/part" of="$base" bs=1M seek=$((off / 1048576)) conv=notrunc,sparse status=none
  done <"$work/kinds"
  FILES=$((i * 50)) scripts/kernel-read.sh fill "$base" >/dev/null
done
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
