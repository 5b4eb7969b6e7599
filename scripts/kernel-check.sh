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

echo "The kernel fills a volume of each kind; what it wrote is read as it reads it."
need=(); command -v mkfs.exfat >/dev/null || need+=(exfatprogs); command -v mkfs.fat >/dev/null || need+=(dosfstools); command -v mkfs.ext4 >/dev/null || need+=(e2fsprogs)
if [ ${#need[@]} -gt 0 ]; then
  as=; [ "$(id -u)" = 0 ] || as=sudo
  $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${need[@]}" >/dev/null
fi
go run ./scripts/kinddrive "$work/kinds.img" large >"$work/kinds"
while read -r what off len; do
  case $what in
  exfat) make=(mkfs.exfat -L Kinds -c 4096) ;; ext4) make=(mkfs.ext4 -q) ;; ext2) make=(mkfs.ext2 -q -b 1024) ;; fat16) make=(mkfs.fat -F 16) ;; fat12) make=(mkfs.fat -s 2 -F 12) ;; *) continue ;;
  esac
  rm -f "$work/part"; truncate -s "$len" "$work/part"; "${make[@]}" "$work/part" >/dev/null
  dd if="$work/part" of="$work/kinds.img" bs=1M seek=$((off / 1048576)) conv=notrunc,sparse status=none
done <"$work/kinds"
scripts/kernel-read.sh fill "$work/kinds.img" >/dev/null
scripts/kernel-read.sh "$work/kinds.img" >"$work/read"
# compare IMAGE READ: every file of every volume, as `files --hash` and the kernel have it.
compare() {
  bin/jadetrail inspect --json "$1" | node -e '
    const { spans, sector_bytes } = JSON.parse(require("fs").readFileSync(0)), { execFileSync } = require("child_process");
    const kernel = new Map(), read = require("fs").readFileSync(process.argv[2], "utf8").split("\n").map((l) => l.split("\t"));
    for (const [what, start, sum, path] of read) if (what === "file") kernel.set(`${start}:${path}`, sum);
    let files = 0, wrong = 0;
    for (const s of spans) {
      if (!s.volume || !read.some(([what, start]) => what === "volume" && start === String((s.start_lba * sector_bytes) / 512))) continue;
      const list = JSON.parse(execFileSync("bin/jadetrail", ["files", "--json", "--hash", "--partition", s.number, process.argv[1]], { maxBuffer: 1 << 30 })).files;
      const start = (s.start_lba * sector_bytes) / 512;
      for (const f of list.filter((f) => f.kind === "file" && !f.stream)) {
        files++;
        if (kernel.get(`${start}:${f.path}`) !== f.sha256) { wrong++; console.error("differs:", s.number, f.path); }
        kernel.delete(`${start}:${f.path}`);
      }
    }
    console.log(`${files} files, ${wrong + kernel.size} of them not alike`);
  ' "$1" "$2"
}
expect "kinds" "$(compare "$work/kinds.img" "$work/read" | sed 's/^[0-9]* files, //')" "0 of them not alike"
expect "volumes that the kernel wrote are sound" "$(bin/jadetrail check "$work/kinds.img" | tail -1)" "The drive is sound."

echo "The NTFS volume gives up all but 30 MiB; all of them slide toward the end, less than they are long, and a part of the way back."
cp --sparse=always "$work/kinds.img" "$work/slid.img"
steps() { local by=$1; shift; printf '{"do": "slide", "partition": "%s", "by": "'"$by"'"}\n' "$@" | paste -sd, ; }
echo "{\"version\": 1, \"steps\": [{\"do\": \"shrink\", \"partition\": \"1\", \"by\": \"370 MiB\"}, $(steps "300 MiB" 7 6 5 4 3 2 1), $(steps "-75 MiB" 1 2 3 4 5 6 7)]}" >"$work/plan.json"
bin/jadetrail carry-out --plan "$work/plan.json" "$work/slid.img" >/dev/null
expect "the drive" "$(bin/jadetrail check "$work/slid.img" | tail -1)" "The drive is sound."
scripts/kernel-read.sh write "$work/slid.img" >"$work/slid"
along() { awk -F'\t' -v OFS='\t' -v by="$2" '$1 == "file" {$2 += by; print}' "$1" | sort | sha256sum; }
expect "files, 225 MiB further on ($(grep -c ^file "$work/slid") files)" "$(along "$work/slid" 0)" "$(along "$work/read" 460800)"
expect "volumes that take new files" "$(grep -c 'ok$' "$work/slid")" 7
expect "complaints of the drivers" "$(grep ^says "$work/slid" || true)" ""
rm -rf "$work"/slid.img*

echo "Every partition is backed up as an image; what zstd -d makes of the images is the drive again."
truncate -s "$(stat -c %s "$work/kinds.img")" "$work/again.img"
dd if="$work/kinds.img" of="$work/again.img" bs=1M count=1 conv=notrunc status=none
tail -c 1048576 "$work/kinds.img" | dd of="$work/again.img" bs=1M seek=$(($(stat -c %s "$work/kinds.img") / 1048576 - 1)) conv=notrunc status=none
number=0
while read -r what off len; do
  number=$((number + 1))
  id=$(bin/jadetrail back-up --partition $number --kind image --json --shelf "$work/images" "$work/kinds.img" | sed 's/.*"backup":"\([^"]*\)".*/\1/')
  zstd -dcq "$work/images/$id/image.zst" | dd of="$work/again.img" bs=1M seek=$((off / 1048576)) conv=notrunc status=none
done <"$work/kinds"
scripts/kernel-read.sh "$work/again.img" >"$work/again"
expect "files read from the images ($(grep -c ^file "$work/again"))" "$(grep -P '^(file|volume)' "$work/again" | sha256sum)" "$(grep -P '^(file|volume)' "$work/read" | sha256sum)"

echo "The files of the NTFS volume are put into FAT volumes; the kernel reads them and writes more."
id=$(bin/jadetrail back-up --partition 1 --kind files --json "$work/kinds.img" | sed 's/.*"backup":"\([^"]*\)".*/\1/')
zstd -dcq "$work/kinds.img.trail/shelf/$id/files.tar.zst" | tar --warning=no-unknown-keyword -t >"$work/names"
for n in 2 6; do bin/jadetrail restore --backup "$id" --partition $n --path "From NTFS/all of it" "$work/kinds.img"; done
scripts/kernel-read.sh write "$work/kinds.img" >"$work/read"
expect "files" "$(compare "$work/kinds.img" "$work/read" | sed 's/^[0-9]* files, //')" "0 of them not alike"
first=$(awk 'NR == 1 {print $2 / 512}' "$work/kinds")
for n in 2 6; do
  start=$(awk -v n=$n 'NR == n {print $2 / 512}' "$work/kinds")
  expect "what arrived in partition $n" "$(grep -P "^file\t$start\t.*\tFrom NTFS/all of it/" "$work/read" | cut -f3- | sed 's,From NTFS/all of it/,,' | sort | sha256sum)" "$(grep -P "^file\t$first\t" "$work/read" | cut -f3- | sort | sha256sum)"
done
expect "volumes that take new files" "$(grep -c 'ok$' "$work/read")" "$(grep -c ^volume "$work/read")"
expect "complaints of the drivers" "$(grep ^says "$work/read" || true)" ""

echo "Drives with sectors of 4096 bytes, with a GPT and with an MBR."
go run ./scripts/kinddrive "$work/large.img" sectors
for image in "$work/large.img" "$work/large.img.mbr"; do
  SECTOR=4096 scripts/kernel-read.sh write "$image" >"$work/read"
  expect "volumes" "$(grep -c ^volume "$work/read")" 2
  expect "files" "$(compare "$image" "$work/read")" "800 files, 0 of them not alike"
  expect "volumes that take new files" "$(grep -c 'ok$' "$work/read")" 2
done

echo "A logical volume is deleted from the demo's drive with an MBR; the others stay as they are."
mbr=$work/drives/brightwater-office.img
scripts/kernel-read.sh "$mbr" >"$work/mbr-before"
echo '{"version": 1, "steps": [{"do": "delete", "partition": "6", "waiver": "only for the check"}]}' >"$work/plan.json"
bin/jadetrail carry-out --serial 4D7C --plan "$work/plan.json" "$mbr"
scripts/kernel-read.sh "$mbr" >"$work/mbr-after"
expect "volumes left" "$(grep -c ^volume "$work/mbr-after")" "$(($(grep -c ^volume "$work/mbr-before") - 1))"
expect "the others' files" "$(grep ^file "$work/mbr-after" | sort | sha256sum)" "$(grep ^file "$work/mbr-before" | grep -vP '^file\t566237184\t' | sort | sha256sum)"

echo "A logical volume slides to the one before it and gives room at its end; the container begins and ends there; the primary grows to it, and another volume is made behind it."
cat >"$work/plan.json" <<'P'
{"version": 1, "steps": [
  {"do": "slide", "partition": "6", "by": "-20 GiB"}, {"do": "slide", "partition": "5", "by": "3 GiB"}, {"do": "shrink", "partition": "6", "by": "70 GiB"},
  {"do": "container", "partition": "2", "act": "shrink", "by": "all"}, {"do": "container", "partition": "2", "act": "shrink", "by": "all", "edge": "head"},
  {"do": "grow", "partition": "1", "by": "all"}, {"do": "create", "size": "30 GiB", "type": "basic", "format": "ntfs", "label": "Plain", "start_lba": 1000000000}]}
P
bin/jadetrail carry-out --pc "$mbr.pc.json" --serial 4D7C --plan "$work/plan.json" "$mbr" >/dev/null
expect "the drive" "$(bin/jadetrail check "$mbr" | tail -1)" "The drive is sound."
scripts/kernel-read.sh write "$mbr" >"$work/mbr-given"
expect "all files ($(grep -c ^file "$work/mbr-given"))" "$(grep ^file "$work/mbr-given" | cut -f3- | sort | sha256sum)" "$(grep ^file "$work/mbr-after" | cut -f3- | sort | sha256sum)"
expect "volumes that take new files" "$(grep -c 'ok$' "$work/mbr-given")" 4

echo "A volume gives 15 GiB at its head, and the one before it takes them; then it takes 14 of them back at its head."
till=$work/drives/mosslane-till.img
scripts/kernel-read.sh "$till" >"$work/till-before"
for plan in '{"do": "shrink", "partition": "4", "by": "15 GiB", "edge": "head"}, {"do": "grow", "partition": "3", "by": "15 GiB"}' \
  '{"do": "shrink", "partition": "3", "by": "14 GiB"}, {"do": "grow", "partition": "4", "by": "14 GiB", "edge": "head"}'; do
  echo "{\"version\": 1, \"steps\": [$plan]}" >"$work/plan.json"
  bin/jadetrail carry-out --plan "$work/plan.json" "$till" >/dev/null
  scripts/kernel-read.sh write "$till" >"$work/till-after"
  expect "all files ($(grep -c ^file "$work/till-after"))" "$(grep ^file "$work/till-after" | cut -f3- | sort | sha256sum)" "$(grep ^file "$work/till-before" | cut -f3- | sort | sha256sum)"
  expect "volumes that take new files" "$(grep -c 'ok$' "$work/till-after")" 3
  expect "complaints of the drivers" "$(grep ^says "$work/till-after" || true)" ""
done

echo "The recovery environment is parked, its partition rebuilt elsewhere; the backups lie in a volume on the shelf's drive."
kiln=$work/drives/kiln-studio.img on=$work/drives/shelf.img
scripts/kernel-read.sh "$kiln" >"$work/kiln-before"
for n in 5 1; do bin/jadetrail back-up --partition $n --kind $([ $n = 1 ] && echo image || echo files) --shelf "$on:1" "$kiln"; done
cat >"$work/plan.json" <<'P'
{"version": 1, "steps": [
  {"do": "park-recovery"}, {"do": "delete", "partition": "5", "release": "it is rebuilt behind C:"}, {"do": "grow", "partition": "4", "by": "100 GiB"},
  {"do": "create", "size": "1 GiB", "type": "recovery", "format": "ntfs", "label": "Recovery", "as": "new"}, {"do": "use-recovery", "partition": "new"},
  {"do": "start-order", "wait_seconds": 10}]}
P
bin/jadetrail carry-out --pc "$kiln.pc.json" --serial 1C8M --shelf "$on:1" --plan "$work/plan.json" "$kiln"
scripts/kernel-read.sh write "$kiln" >"$work/kiln-after"
old=1384769536 new=$(bin/jadetrail inspect --json "$kiln" | node -e 'console.log(JSON.parse(require("fs").readFileSync(0)).spans.find((s) => s.role === "recovery").start_lba)')
expect "the recovery partition lies elsewhere" "$([ "$new" -gt "$old" ] && echo yes)" yes
expect "its files ($(grep -cP "^file\t$new\t" "$work/kiln-after"))" "$(grep -P "^file\t$new\t" "$work/kiln-after" | cut -f3- | sort | sha256sum)" "$(grep -P "^file\t$old\t" "$work/kiln-before" | cut -f3- | sort | sha256sum)"
expect "all other files ($(grep -P ^file "$work/kiln-after" | grep -cvP "^file\t$new\t"))" "$(grep -P ^file "$work/kiln-after" | grep -vP "^file\t$new\t" | sort | sha256sum)" "$(grep -P ^file "$work/kiln-before" | grep -vP "^file\t$old\t" | sort | sha256sum)"
expect "volumes that take new files" "$(grep -c 'ok$' "$work/kiln-after")" "$(grep -c ^volume "$work/kiln-after")"
bin/jadetrail back-up --partition 5 --kind image --shelf "$on:1" "$kiln"
echo '{"version": 1, "steps": [{"do": "delete", "partition": "5", "release": "only for the check", "waiver": "only for the check", "erase": true, "backups": "delete"}]}' >"$work/plan.json"
bin/jadetrail carry-out --serial 1C8M --shelf "$on:1" --plan "$work/plan.json" "$kiln"
scripts/kernel-read.sh write "$on" >"$work/on"
expect "backups on the shelf's volume, of three" "$(grep -c 'manifest.json$' "$work/on")" 2
expect "what the kernel and we read there" "$(compare "$on" "$work/on" | sed 's/^[0-9]* files, //')" "0 of them not alike"
expect "the shelf's volume takes new files" "$(grep -c 'ok$' "$work/on")" 1
expect "complaints of the drivers" "$(grep -h ^says "$work/on" "$work/kiln-after" || true)" ""

for n in fernhill-terminal kiln-studio mosslane-till saltmarsh-notebook; do
  scripts/kernel-read.sh "$work/drives/$n.img" >"$work/read"
  expect "$n" "$(compare "$work/drives/$n.img" "$work/read" | sed 's/^[0-9]* files, //')" "0 of them not alike"
done
# A partition was deleted, its place given away, another deleted and one slid over its place; then
# the drive was walked back to how it was.
mkdir "$work/walk"
JADETRAIL_KEEP=$work/walk go test ./core/run -count=1 -run 'TestWalkBack$' >/dev/null
scripts/kernel-read.sh write "$work/walk/walked-back.img" >"$work/read"
expect "walked back ($(wc -l <"$work/walk/walked-back.tsv") files)" "$(grep -P '^file\t' "$work/read" | LC_ALL=C sort | sha256sum)" "$(LC_ALL=C sort "$work/walk/walked-back.tsv" | sha256sum)"
expect "volumes walked back that take new files" "$(grep -c 'ok$' "$work/read")" "$(grep -c ^volume "$work/read")"
scripts/restore-check.sh || fail=1
exit $fail
