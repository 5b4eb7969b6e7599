#!/usr/bin/env bash
# The judge of restored files: scripts/restore-check.sh
#
# A volume with 20 000 files in 2 GiB, some written by our own code and some by the kernel's
# driver, is backed up by its files, deleted, made again smaller and filled from the
# backup; the same files also arrive in a volume that the kernel wrote nearly full. The
# kernel must find every file, old and new, with the same hash, and write more into both.
# Times, streams, attributes and descriptors are compared by a driver that is not ours.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-restore-XXXXXX"); trap 'umount "$work/mount" 2>/dev/null || true; rm -rf "$work"' EXIT
image=$work/drive.img
fail=0
expect() { if [ "$2" = "$3" ]; then echo "ok    $1: $2"; else echo "WRONG $1: $2 instead of $3"; fail=1; fi; }

go run ./scripts/kinddrive "$image" restore
echo "The kernel fills both volumes; the second one until 2.2 GiB are free."
FILES=${FILES:-4500} LEAVE=2300000 scripts/kernel-read.sh fill "$image"
for n in 1 2; do go run ./scripts/kinddrive "$image" "$n"; done
scripts/kernel-read.sh "$image" >"$work/before"
# details PART BYTES-INTO-IMAGE BYTES: what ntfs-3g says of every file.
as=; [ "$(id -u)" = 0 ] || as=sudo
if ! { command -v ntfs-3g && command -v getfattr; } >/dev/null; then
  $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends ntfs-3g attr >/dev/null
fi
mkdir "$work/mount"
details() {
  rm -f "$work/part"
  dd if="$image" of="$work/part" bs=1M skip="$2" count="$3" conv=sparse status=none
  $as ntfs-3g -o ro,streams_interface=xattr "$work/part" "$work/mount"
  # A folder's own times change as things are put into it, and a second name counts for
  # both, so the short name that each has is left to the file.
  (cd "$work/mount/$4" && find . -type f -print0 | sort -z | while IFS= read -r -d '' f; do
    echo "$f"
    getfattr -h -e hex --absolute-names -d -m '^user' "$f" | tail -n +2
    for k in times acl attrib; do getfattr -h -e hex --absolute-names -n "system.ntfs_$k" "$f" | tail -n +2; done
  done) >"$work/details-$1"
  $as umount "$work/mount"
}
details before 1 9216 .
bin/jadetrail back-up --partition 1 --kind files --json "$image" >"$work/backup.json"
id=$(sed 's/.*"backup":"\([^"]*\)".*/\1/' "$work/backup.json")
cat >"$work/plan.json" <<P
{"version": 1, "steps": [
  {"do": "delete", "partition": "1"},
  {"do": "create", "start_lba": 0, "size": "3 GiB", "type": "basic", "format": "ntfs", "label": "Again", "as": "again"},
  {"do": "copy-back", "partition": "again", "backup": "$id"},
  {"do": "copy-back", "partition": "2", "backup": "$id", "folder": "From Scans"}]}
P
bin/jadetrail carry-out --plan "$work/plan.json" "$image"
expect "the drive" "$(bin/jadetrail check "$image" | tail -1)" "The drive is sound."
scripts/kernel-read.sh write "$image" >"$work/after"
first=2048 second=20971520
files() { grep -P "^file\t$2\t" "$work/$1" | cut -f3- | { [ "$3" = all ] && cat || grep "$3" $'\tFrom Scans/' | sed 's,From Scans/,,'; } | sort | sha256sum; }
expect "files of the volume made again ($(grep -cP "^file\t$first\t" "$work/after"))" "$(files after $first all)" "$(files before $first all)"
expect "files that arrived in the volume nearly full ($(grep -cP "\tFrom Scans/" "$work/after"))" "$(files after $second -F)" "$(files before $first all)"
expect "files that had been there ($(grep -cP "^file\t$second\t" "$work/before"))" "$(files after $second -vF)" "$(files before $second all)"
expect "volumes that take new files" "$(grep -c 'ok$' "$work/after")" 2
expect "complaints of the drivers" "$(grep ^says "$work/after" || true)" ""
details again 1 3072 .
details absorbed 10240 13312 "From Scans"
for n in again absorbed; do
  expect "times, streams, attributes and descriptors, $n ($(grep -c ^user "$work/details-$n") streams, $(grep -c ^system "$work/details-$n") lines)" "$(sha256sum <"$work/details-$n")" "$(sha256sum <"$work/details-before")"
  cmp -s "$work/details-before" "$work/details-$n" || diff "$work/details-before" "$work/details-$n" | head -20
done
exit $fail
