#!/usr/bin/env bash
# What files have besides their contents, through every way: scripts/features-check.sh
#
# Two volumes are formatted, and one of them filled, by a driver that is not ours (ntfs-3g): with
# streams, extended attributes, descriptors, sparse and compressed files, second and short names,
# object ids, reparse points, and times before 1677 and after 2262. The volume then goes every way
# that files can go, each from the same state, and the same driver lists what it has. What a way
# does not keep, it must have said.
set -euo pipefail
cd "$(dirname "$0")/.."
as=; [ "$(id -u)" = 0 ] || as=sudo
need=(); command -v ntfs-3g >/dev/null || need+=(ntfs-3g); command -v sfdisk >/dev/null || need+=(fdisk)
[ ${#need[@]} = 0 ] || $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${need[@]}" >/dev/null
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-features-XXXXXX")
trap '$as umount "$work"/mount* 2>/dev/null || true; rm -rf "$work"' EXIT
mkdir "$work/mount" "$work/mount2"
go build -o bin/features ./scripts/features
image=$work/full.img
first=100 second=1700 size=1400 # MiB

# part IMAGE START SIZE: a partition as a file of its own, and back with put.
part() { rm -f "$work/part"; dd if="$1" of="$work/part" bs=1M skip="$2" count="$3" conv=sparse status=none; }
put() { dd if="$work/part" of="$1" bs=1M seek="$2" conv=notrunc,sparse status=none; }
# details IMAGE START SIZE FOLDER NAME: what the driver says of everything in the folder.
details() {
  part "$1" "$2" "$3"
  $as ntfs-3g -o ro,streams_interface=xattr "$work/part" "$work/mount"
  $as ntfs-3g -o ro,streams_interface=windows "$work/part" "$work/mount2"
  bin/features list "$work/mount/$4" "$work/mount2/$4" | LC_ALL=C sort >"$work/list-$5"
  $as umount "$work/mount" "$work/mount2"
}

truncate -s 4G "$image"
sfdisk -q "$image" <<T
label: gpt
start=$((first * 2048)), size=$((size * 2048)), type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7
start=$((second * 2048)), size=$((size * 2048)), type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7
T
for at in $first $second; do
  rm -f "$work/part"; truncate -s "${size}M" "$work/part"
  mkntfs -q -F -Q -c 4096 -L "At $at" -p $((at * 2048)) "$work/part" >/dev/null 2>&1
  [ $at = $second ] || { $as ntfs-3g -o streams_interface=windows,compression "$work/part" "$work/mount"; $as bin/features fill "$work/mount"; $as umount "$work/mount"; }
  put "$image" $at
done
details "$image" $first $size . before

ways=()
# way NAME START SIZE FOLDER STEPS: from the same state, by a plan; or with - for the steps by what was done already.
way() {
  local drive=$work/$1.img
  if [ "$5" != - ]; then
    printf '{"version": 1, "steps": [%s]}' "$5" >"$work/plan.json"
    [ -e "$drive" ] || cp --sparse=always "$image" "$drive"
    bin/jadetrail carry-out --plan "$work/plan.json" "$drive" >"$work/said-$1" 2>&1 || { echo "WRONG $1: $(cat "$work/said-$1")"; exit 1; }
  fi
  bin/jadetrail check "$drive" | tail -1 | grep -qx "The drive is sound." || { echo "WRONG $1: $(bin/jadetrail check "$drive")"; exit 1; }
  details "$drive" "$2" "$3" "$4" "$1"
  grep -iE 'compressed|sparse|not kept|left out' "$work/said-$1" | sed "s/^/$1 says: /" || true
  if [ "${6:-}" = kernel ]; then # and a second reader, with every file's hash
    scripts/kernel-read.sh "$drive" >"$work/kernel"
    [ -z "$(grep ^says "$work/kernel" || true)" ] || { echo "WRONG $1: the kernel complains: $(grep ^says "$work/kernel")"; exit 1; }
    local in=${4%.}; in=${in:+$in/}
    diff <(awk -F'\t' '$2 == "contents" {split($3, a, " "); print a[2] "\t" $1}' "$work/list-$1" | LC_ALL=C sort) \
      <(awk -F'\t' -v s=$(($2 * 2048)) -v folder="$in" '$1 == "file" && $2 == s && index($4, folder) == 1 {print $3 "\t" substr($4, length(folder) + 1)}' "$work/kernel" | LC_ALL=C sort) >"$work/diff" ||
      { echo "WRONG $1: the kernel reads otherwise"; head "$work/diff"; exit 1; }
    echo "ok    $1: a kernel reads the same $(grep -c $'\tcontents\t' "$work/list-$1") files, and has no complaint"
  fi
  ways+=("$1=$work/list-$1")
  rm -rf "$drive"*
}
way slide 60 $size . '{"do": "slide", "partition": "1", "by": "-40 MiB"}'
way shrink $first 1000 . '{"do": "shrink", "partition": "1", "by": "400 MiB"}'
way head 50 1450 . '{"do": "grow", "partition": "1", "by": "50 MiB", "edge": "head"}'
way give 300 1200 . '{"do": "shrink", "partition": "1", "by": "200 MiB", "edge": "head"}'

cp --sparse=always "$image" "$work/back.img"
id=$(bin/jadetrail back-up --partition 1 --kind files --json "$work/back.img" | sed 's/.*"backup":"\([^"]*\)".*/\1/')
way back $first $size . '{"do": "delete", "partition": "1"}, {"do": "create", "start_lba": '$((first * 2048))', "size": "'$size' MiB", "type": "basic", "format": "ntfs", "label": "Again", "as": "again"}, {"do": "copy-back", "partition": "again", "backup": "'"$id"'"}' kernel

way park $first $size . '{"do": "copy-out", "partition": "1", "volume": "2", "as": "kept"}, {"do": "delete", "partition": "1", "waiver": "its files wait"}, {"do": "create", "start_lba": '$((first * 2048))', "size": "'$size' MiB", "type": "basic", "format": "ntfs", "label": "Again", "as": "again"}, {"do": "copy-back", "partition": "again", "backup": "kept"}'

cp --sparse=always "$image" "$work/into.img"
id=$(bin/jadetrail back-up --partition 1 --kind files --json "$work/into.img" | sed 's/.*"backup":"\([^"]*\)".*/\1/')
bin/jadetrail restore --backup "$id" --partition 2 --path "From the first" "$work/into.img" >"$work/said-into" 2>&1
bin/jadetrail restore --backup "$id" --to "$work/folder" "$work/into.img" >"$work/said-folder" 2>&1
diff <(awk -F'\t' '$2 == "contents" {split($3, a, " "); print a[2] "  " $1}' "$work/list-before" | LC_ALL=C sort) \
  <(cd "$work/folder" && find . -type f ! -name '*:*' -exec sha256sum {} + | sed 's,  \./,  ,' | LC_ALL=C sort) >"$work/diff" || { echo "WRONG folder: $(head "$work/diff")"; exit 1; }
taken=$(du -s --block-size=1M "$work/folder/sparse" | cut -f1)
[ "$taken" -lt 50 ] || { echo "WRONG folder: what is sparse takes $taken MiB"; exit 1; }
echo "ok    folder: the same contents; what is sparse takes $taken MiB"
way into $second $size "From the first" -

cp --sparse=always "$image" "$work/whole.img"
id=$(bin/jadetrail back-up --partition 1 --kind image --json "$work/whole.img" | sed 's/.*"backup":"\([^"]*\)".*/\1/')
way whole $first $size . '{"do": "delete", "partition": "1"}, {"do": "create", "start_lba": '$((first * 2048))', "size": "'$size' MiB", "backup": "'"$id"'"}'

way absorb $second $size "From the first" '{"do": "absorb", "partition": "1", "into": "2", "folder": "From the first", "waiver": "its files stay"}' kernel

cp --sparse=always "$image" "$work/returned.img"
bin/jadetrail back-up --partition 1 --kind image "$work/returned.img" >/dev/null
printf '{"version": 1, "steps": [{"do": "delete", "partition": "1"}]}' >"$work/plan.json"
bin/jadetrail carry-out --json --plan "$work/plan.json" "$work/returned.img" >"$work/deleted"
record=$(ls "$work/returned.img.trail/records" | head -1)
bin/jadetrail bring-back --record "$record" "$work/returned.img" >"$work/said-returned" 2>&1
way returned $first $size . -

bin/features compare "$work/list-before" "${ways[@]}"
