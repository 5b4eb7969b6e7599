#!/usr/bin/env bash
# Makes an image of a drive with tools that are not ours: foreign-drive.sh IMAGE. Its volumes: a FAT32 volume PLOTS
# with a file, an EFI system partition, an ext4 volume with 40 letters; after them a gap.
set -euo pipefail
image=$1
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
truncate -s 2G "$image"
/usr/sbin/sfdisk -q "$image" <<'TABLE'
label: gpt
start=2048, size=614400, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, name="Plots"
start=616448, size=131072, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B, name="EFI"
start=747520, size=1048576, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4, name="Old"
TABLE
truncate -s 300M "$work/plots" && /usr/sbin/mkfs.fat -F 32 -h 2048 -n PLOTS "$work/plots" >/dev/null
truncate -s 64M "$work/efi" && /usr/sbin/mkfs.fat -F 32 -s 1 -h 616448 -n ESP "$work/efi" >/dev/null
mkdir -p "$work/files/letters"
for i in $(seq 40); do echo "letter $i" >"$work/files/letters/$i.txt"; done
/usr/sbin/mke2fs -q -t ext4 -d "$work/files" -L old "$work/old" 512M
dd if="$work/plots" of="$image" bs=1M seek=1 conv=notrunc status=none
dd if="$work/efi" of="$image" bs=1M seek=301 conv=notrunc status=none
dd if="$work/old" of="$image" bs=1M seek=365 conv=notrunc status=none
