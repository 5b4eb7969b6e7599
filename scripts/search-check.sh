#!/usr/bin/env bash
# The search on 300 drives of which all is known that was ever on them: scripts/search-check.sh
#
# Volumes of our own, and of other programs and a stock kernel, were deleted, resized, moved,
# reformatted and partly written over, tables wiped, images put into files. What was found is
# written to docs/search.txt. JADETRAIL_SEED repeats a run.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-seek-XXXXXX"); trap 'rm -rf "$work"' EXIT
scripts/bases.sh "$work/bases" "${BASES:=3}"
JADETRAIL_PROVE=1 JADETRAIL_BASES=$work/bases go test ./core/seek -count=1 -timeout 30m -v -run TestKnownHistories | tee "$work/log"
{
  echo "The search on drives of known history (make prove)"
  echo "$(grep -o 'JADETRAIL_SEED=.*' "$work/log"), 300 drives, $BASES drives filled by the kernel to take volumes from, $(date -u +%F)"
  sed -n 's/^ *history_test.go:[0-9]*: \(kind .*\|[a-z0-9]\+  .*\|of [0-9]* finds.*\)$/\1/p' "$work/log"
} | tee docs/search.txt
