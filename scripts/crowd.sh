#!/usr/bin/env bash
# Thirty people at once at a bench with 60 drives, 2,000 jobs and 100,000 entries: see scripts/crowd. What it measures
# is of this machine; the ratio to one person alone counts. Written to docs/crowd.txt.
#
#   scripts/crowd.sh [SECONDS [SEED]]
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/jadetrail ./cmd/jadetrail
go build -o bin/crowd ./scripts/crowd
data=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-crowd-XXXXXX")
trap 'rm -rf "$data"' EXIT
export JADETRAIL_DATA=$data
{
  echo "Thirty people at once (scripts/crowd.sh), $(date -u +%F)"
  scripts/with-db.sh "$data" bin/crowd "$@"
} | tee docs/crowd.txt
