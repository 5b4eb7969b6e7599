#!/usr/bin/env bash
# Drives whose tables are wiped: a GPT and an MBR with a container, with volumes that other tools made and a
# stock Linux kernel filled. All partitions are brought back at once, into a table that is made anew, and the
# kernel reads every file as before.
set -euo pipefail
cd "$(dirname "$0")/.."
PATH=$PATH:/usr/sbin:/sbin
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-wiped-XXXXXX"); trap 'rm -rf "$work"' EXIT
need=(); command -v mkfs.exfat >/dev/null || need+=(exfatprogs); command -v mkfs.fat >/dev/null || need+=(dosfstools); command -v mkfs.ext4 >/dev/null || need+=(e2fsprogs); command -v mkntfs >/dev/null || need+=(ntfs-3g); command -v sfdisk >/dev/null || need+=(fdisk)
if [ ${#need[@]} -gt 0 ]; then
  as=; [ "$(id -u)" = 0 ] || as=sudo
  $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${need[@]}" >/dev/null
fi
go build -o bin/jadetrail ./cmd/jadetrail
fail=0
expect() { if [ "$2" = "$3" ]; then echo "ok    $1: $2"; else echo "WRONG $1: $2 instead of $3"; fail=1; fi; }

# made IMAGE KIND START-MIB SIZE-MIB: a volume of a kind at its place.
made() {
  truncate -s "$4M" "$work/part"
  case $2 in
  ntfs) mkntfs -q -F -L "Volume $3" -p $(($3 * 2048)) -H 255 -S 63 "$work/part" >/dev/null 2>&1 ;;
  exfat) mkfs.exfat -L "Volume$3" "$work/part" >/dev/null ;;
  fat32) mkfs.fat -F 32 -n "VOLUME$3" "$work/part" >/dev/null ;;
  ext4) mkfs.ext4 -q -L "volume$3" "$work/part" ;;
  esac
  dd if="$work/part" of="$1" bs=1M seek="$3" conv=notrunc,sparse status=none
  rm "$work/part"
}

gpt=$work/gpt.img mbr=$work/mbr.img
truncate -s 1200M "$gpt" "$mbr"
sfdisk -q "$gpt" <<'T'
label: gpt
start=1MiB, size=200MiB, type=uefi
start=201MiB, size=250MiB, type=ebd0a0a2-b9e5-4433-87c0-68b6b72699c7
start=451MiB, size=200MiB, type=linux
start=651MiB, size=200MiB, type=ebd0a0a2-b9e5-4433-87c0-68b6b72699c7
start=851MiB, size=300MiB, type=ebd0a0a2-b9e5-4433-87c0-68b6b72699c7
T
made "$gpt" fat32 1 200; made "$gpt" ntfs 201 250; made "$gpt" ext4 451 200; made "$gpt" exfat 651 200; made "$gpt" ntfs 851 300
sfdisk -q "$mbr" <<'T'
label: dos
start=1MiB, size=200MiB, type=7, bootable
start=201MiB, size=200MiB, type=83
start=401MiB, size=799MiB, type=5
start=402MiB, size=250MiB, type=7
start=653MiB, size=200MiB, type=c
start=854MiB, size=340MiB, type=7
T
made "$mbr" ntfs 1 200; made "$mbr" ext4 201 200; made "$mbr" ntfs 402 250; made "$mbr" fat32 653 200; made "$mbr" ntfs 854 340

for image in "$gpt" "$mbr"; do
  name=$(basename "$image" .img)
  echo "The kernel fills the volumes of the $name drive."
  FILES=120 scripts/kernel-read.sh fill "$image" >/dev/null
  scripts/kernel-read.sh "$image" >"$work/before"
  grep ^file "$work/before" | sort >"$work/files"
  sfdisk -d "$image" 2>/dev/null | grep -o 'start=.*' | sed 's/, bootable//; s/uuid=[^,]*,\? *//; s/type=f/type=5/' >"$work/table"
  dd if=/dev/zero of="$image" bs=512 count=34 conv=notrunc status=none
  dd if=/dev/zero of="$image" bs=512 seek=$((1200 * 2048 - 33)) count=33 conv=notrunc status=none
  expect "the $name drive has no table" "$(bin/jadetrail inspect --json "$image" | grep -o '"scheme":"[a-z]*"')" '"scheme":"none"'
  bin/jadetrail bring-back --all "$image" | grep -v '^   '
  expect "the $name drive is sound" "$(bin/jadetrail check "$image" | tail -1)" "The drive is sound."
  scripts/kernel-read.sh write "$image" >"$work/after"
  grep ^file "$work/after" | sort >"$work/files-after"
  expect "files of the $name drive, by the kernel, with the same hash" "$(comm -12 "$work/files" "$work/files-after" | wc -l)" "$(wc -l <"$work/files")"
  expect "volumes that take new files" "$(grep -cP '^wrote\t.*\tok' "$work/after")" 5
  expect "complaints of the drivers" "$(grep -c ^says "$work/after" || true)" 0
  grep ^says "$work/after" || true
  sfdisk -d "$image" 2>/dev/null | grep -o 'start=.*' | sed 's/, bootable//; s/uuid=[^,]*,\? *//; s/, name=".*"//; s/type=f/type=5/' >"$work/table-after"
  echo "The table as sfdisk reads it, before (<) and after (>):"
  diff "$work/table" "$work/table-after" && echo "the same places, numbers and types" || true
done
exit $fail
