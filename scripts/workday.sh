#!/usr/bin/env bash
# Six people work for a day while server, database and room are taken from under them: see
# scripts/workday. The data folder gets a disk of its own in memory, which only root can make.
#
#   scripts/workday.sh [FAULTS [SEED]]
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/jadetrail ./cmd/jadetrail
go build -o bin/workday ./scripts/workday
data=$(mktemp -d)
trap 'umount -l "$data"; rmdir "$data"' EXIT
mount -t tmpfs -o size="${ROOM:-6g}" none "$data"
export JADETRAIL_DATA=$data
scripts/with-db.sh "$data" bin/workday "$@"
