#!/usr/bin/env bash
# Drives whose volumes a stock Linux kernel has made, filled, fragmented and deleted from:
# scripts/bases.sh FOLDER COUNT
set -euo pipefail
cd "$(dirname "$0")/.."
to=$1 count=$2
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-bases-XXXXXX"); trap 'rm -rf "$work"' EXIT
need=(); command -v mkfs.exfat >/dev/null || need+=(exfatprogs); command -v mkfs.fat >/dev/null || need+=(dosfstools); command -v mkfs.ext4 >/dev/null || need+=(e2fsprogs)
if [ ${#need[@]} -gt 0 ]; then
  as=; [ "$(id -u)" = 0 ] || as=sudo
  $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${need[@]}" >/dev/null
fi
mkdir -p "$to"
echo "The kernel fills $count drives, each with six volumes."
for i in $(seq "$count"); do
  base=$to/base-$i.img
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
