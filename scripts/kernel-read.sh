#!/usr/bin/env bash
# Lets a stock Linux kernel, in an emulator, mount every volume of a drive image
# with its own drivers and hash every file:
#
#   scripts/kernel-read.sh [write|fill] IMAGE ...
#
# SECTOR=4096 gives the drive sectors of that size (places are printed in sectors of 512
# all the same). Of several images, up to 20, each place has the image's number and a colon
# before it. The image is not changed, but with fill: then the kernel makes, fragments, links and
# deletes files in every volume (FILES=600 of them and more), and writes the last one full until
# LEAVE KiB are free. With write it writes a file of LARGE times 64 KiB beside small ones. Prints, tab separated:
#   volume  START-SECTOR  TYPE  TOTAL-KiB
#   file    START-SECTOR  SHA-256  PATH
#   wrote   START-SECTOR  ok|bad      (with write: files written, read back after mounting again)
#   says    what the kernel's drivers complained of
set -euo pipefail
mode=read
if [ "$1" = write ] || [ "$1" = fill ]; then mode=$1; shift; fi
images=("$@")
cache=${XDG_CACHE_HOME:-$HOME/.cache}/jadetrail-kernel-3

need=()
command -v qemu-system-x86_64 >/dev/null || need+=(qemu-system-x86)
command -v cpio >/dev/null || need+=(cpio)
command -v modprobe >/dev/null || [ -x /sbin/modprobe ] || need+=(kmod)
[ -x /bin/busybox ] || need+=(busybox-static)
as=; [ "$(id -u)" = 0 ] || as=sudo
if [ ${#need[@]} -gt 0 ]; then
  $as apt-get update -qq
  $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${need[@]}" >/dev/null
fi
if [ ! -e "$cache/ready" ]; then
  rm -rf "$cache"; mkdir -p "$cache/package" "$cache/system/"{bin,modules,proc,sys,dev,mnt,tmp}
  # Of Debian 12's kernels only the newer ones, from its backports, are built with
  # the ntfs3 driver.
  package=$(apt-cache search --names-only '^linux-image-6[.0-9]+\+deb12-amd64(-unsigned)?$' | awk '{print $1}' | sort -V | tail -1)
  [ -n "$package" ] || { echo "No kernel package with the ntfs3 driver is to be had; add Debian's backports." >&2; exit 1; }
  (cd "$cache" && apt-get download -qq "$package" >/dev/null 2>&1 && dpkg-deb -x linux-image-*.deb package)
  modules=$(ls -d "$cache"/package/lib/modules/* "$cache"/package/usr/lib/modules/* 2>/dev/null | head -1 || true)
  /sbin/depmod -b "${modules%/lib/modules/*}" "$(basename "$modules")" 2>/dev/null || true
  i=10
  for wanted in virtio_pci virtio_blk ntfs3 vfat exfat ext4 crc32c_generic nls_utf8 nls_cp437 nls_iso8859-1 nls_ascii; do
    /sbin/modprobe -d "${modules%/lib/modules/*}" -S "$(basename "$modules")" --show-depends "$wanted" 2>/dev/null | awk '/insmod/ {print $2}' || true
  done | awk '!seen[$0]++' | while read -r m; do
    case $m in *.xz) xz -dc "$m" ;; *) cat "$m" ;; esac >"$cache/system/modules/$i.ko"; i=$((i + 1))
  done
  cp /bin/busybox "$cache/system/bin/"
  for tool in sh sed mount umount insmod ls find sha256sum sort mkdir cat echo dmesg poweroff sleep grep df awk head dd rm sync seq tail cut ln; do ln -s busybox "$cache/system/bin/$tool"; done
  cp "$cache"/package/boot/vmlinuz-* "$cache/kernel"
  touch "$cache/ready"
fi

work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
cp -a "$cache/system" "$work/system"
cat >"$work/system/init" <<'INIT'
#!/bin/sh
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev; mount -t tmpfs tmp /tmp
for m in /modules/*.ko; do insmod $m 2>/dev/null; done
sleep 0.3
attach() {
  for kind in ntfs3 vfat exfat ext4; do
    o=$2; [ $kind != vfat ] || o=$2,iocharset=utf8
    mount -t $kind -o $o /dev/$1 /mnt 2>/dev/null && return 0
  done
  return 1
}
fill() {
  mkdir -p "/mnt/large folder" "/mnt/Ställe und Höfe/кириллица/日本語"
  deep=/mnt/deep; for i in $(seq 0 12); do deep=$deep/level-$i; done; mkdir -p $deep; echo bottom >$deep/end.txt
  for i in $(seq 0 $1); do head -c $((i * 37 % 3000)) /dev/urandom >"/mnt/large folder/file number $i with a rather long name for it.dat"; done
  echo x >"/mnt/Ställe und Höfe/кириллица/日本語/эскиз № 7.txt"
  for i in $(seq 0 $(($1 / 10))); do head -c 40000 /dev/urandom >/mnt/piece-$i; done; sync
  for i in $(seq 0 2 $(($1 / 10))); do rm -f /mnt/piece-$i; done
  dd if=/dev/urandom of=/mnt/fragmented.bin bs=64k count=$(($1 / 6)) 2>/dev/null
  for i in $(seq 1 $(($1 / 30))); do
    head -c 65536 /dev/urandom >>/mnt/pieces.bin; sync; head -c 4096 /dev/urandom >>/mnt/between.bin; sync
  done
  [ $kind = vfat ] || [ $kind = exfat ] || ln /mnt/fragmented.bin /mnt/hardlink.bin
}
told() { sed -n "s/.* jade_$1=\([0-9]*\).*/\1/p" /proc/cmdline; }
echo "--begin--"
many=$(told many)
for d in $(ls /sys/class/block | grep '^vd[a-t][0-9]'); do
  start=$(cat /sys/class/block/$d/start)
  [ $many = 1 ] || start=$(ls /sys/class/block | grep '^vd[a-t]$' | grep -n "^$(echo $d | cut -c1-3)$" | cut -d: -f1):$start
  if grep -q jade=fill /proc/cmdline; then
    if attach $d rw; then
      n=$(told files); [ $(cat /sys/class/block/$d/size) -gt 100000 ] || n=40
      fill $n
      last=$(ls -d /sys/class/block/vda[0-9] | tail -1); leave=$(told leave); i=0
      if [ $d = ${last##*/} ] && [ $leave -gt 0 ]; then
        mkdir /mnt/full
        while [ $(df -k /mnt | tail -1 | awk '{print $4}') -gt $leave ]; do i=$((i + 1)); head -c 8000000 /dev/urandom >/mnt/full/$i; done
      fi
      sync; umount /mnt
    fi
    continue
  fi
  attach $d ro || continue
  printf 'volume\t%s\t%s\t%s\n' $start $kind $(df -k /mnt | tail -1 | awk '{print $2}')
  (cd /mnt && find . -type f | sort | while IFS= read -r f; do printf 'file\t%s\t%s\t%s\n' $start $(sha256sum "$f" | cut -c1-64) "${f#./}"; done)
  umount /mnt
  grep -q jade=write /proc/cmdline || continue
  verdict=bad
  if attach $d rw; then
    mkdir /mnt/written
    for i in $(seq 1 40); do head -c $((i * 1500)) /dev/urandom >/mnt/written/file-$i; done
    dd if=/dev/urandom of=/mnt/written/large bs=64k count=$(told large) 2>/dev/null
    (cd /mnt/written && sha256sum * >/tmp/sums); sync; umount /mnt
    attach $d ro && { (cd /mnt/written && sha256sum -c /tmp/sums >/dev/null 2>&1) && verdict=ok; umount /mnt; }
  fi
  printf 'wrote\t%s\t%s\n' $start $verdict
done
dmesg | grep -E 'ntfs3:|FAT-fs|exFAT-fs|EXT4-fs|GPT:' | grep -vE 'signature is not NTFS|bogus|invalid|bread failed|read failed|boot sector|utf8 is not a recommended|mounted filesystem|unmounting filesystem|unable to read superblock|superblock|feature|failed to recognize exfat type' | awk '{print "says\t" $0}'
echo "--end--"
poweroff -f
INIT
chmod +x "$work/system/init"
(cd "$work/system" && find . | cpio -o -H newc --quiet | gzip -1 >"$work/initrd")
sector=${SECTOR:-512}
drives=()
for i in "${!images[@]}"; do
  drives+=(-drive "file=$(realpath "${images[$i]}"),format=raw,if=none,id=d$i,snapshot=$([ "$mode" = fill ] && echo off || echo on)"
    -device "virtio-blk-pci,drive=d$i,logical_block_size=$sector,physical_block_size=$sector")
done
timeout "${KERNEL_SECONDS:-5000}" qemu-system-x86_64 -accel tcg -cpu max -m 640 -nographic -no-reboot -net none -kernel "$cache/kernel" -initrd "$work/initrd" \
  -append "console=ttyS0 quiet loglevel=1 panic=-1 mitigations=off jade=$mode jade_files=${FILES:-600} jade_leave=${LEAVE:-0} jade_many=${#images[@]} jade_large=${LARGE:-1024}" "${drives[@]}" </dev/null 2>/dev/null |
  tr -d '\r' >"$work/out" || true
sed -n '/--begin--/,/--end--/p' "$work/out" | grep -P '^(volume|file|wrote|says)\t' || true
grep -q -e '--end--' "$work/out" || { echo "The emulated machine did not run to its end." >&2; exit 1; }
