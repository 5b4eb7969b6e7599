#!/usr/bin/env bash
# Six people work for a day while server, database and room are taken from under them: see
# scripts/workday. The data folder, runs, records and shelf and the folder for passing
# things have disks of their own in memory, which only root can make.
#
#   scripts/workday.sh [FAULTS [SEED]]
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/jadetrail ./cmd/jadetrail
go build -o bin/workday ./scripts/workday
disks=$(mktemp -d)
mounted=()
trap 'for m in "${mounted[@]}"; do umount -l "$m"; done; rm -rf "$disks"' EXIT

# disk NAME SIZE: a disk in memory, of which the folder "in" is used and the rest can be filled.
disk() {
  mkdir "$disks/$1"
  mount -t tmpfs -o size="$2" none "$disks/$1"
  mounted=("$disks/$1" "${mounted[@]}")
  mkdir "$disks/$1/in"
}
disk data "${ROOM:-6g}"
disk tmp 1g
data=$disks/data/in
for folder in runs records shelf; do
  disk "$folder" 2g
  mkdir "$data/$folder"
  mount --bind "$disks/$folder/in" "$data/$folder"
  mounted=("$data/$folder" "${mounted[@]}")
done
export JADETRAIL_DATA=$data JADETRAIL_DISKS=$disks TMPDIR=$disks/tmp/in
scripts/with-db.sh "$data" bin/workday "$@"
