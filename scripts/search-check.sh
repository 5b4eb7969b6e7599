#!/usr/bin/env bash
# The search on 300 drives of which all is known that was ever on them: scripts/search-check.sh
#
# Volumes of our own, and of other programs and a stock kernel, were deleted, resized, moved,
# reformatted and partly written over, tables wiped or replaced, images put into files, on GPT
# drives and on MBR drives with chains. What was found, and what was told of the clusters, is
# compared with what was there and written to docs/search.txt. JADETRAIL_SEED repeats a run.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-seek-XXXXXX"); trap 'rm -rf "$work"' EXIT
scripts/bases.sh "$work/bases" "${BASES:=3}"
JADETRAIL_PROVE=1 JADETRAIL_BASES=$work/bases go test ./core/seek -count=1 -timeout 30m -v -run TestKnownHistories | tee "$work/log"
{
  echo "The search on drives of known history (make prove)"
  echo "$(grep -o 'JADETRAIL_SEED=.*' "$work/log"), 300 drives, $BASES drives filled by the kernel to take volumes from, $(date -u +%F)"
  sed -n 's/^ *known_test.go:[0-9]*: \(kind .*\|drives: .*\|[a-z0-9]\+  .*\|of [0-9]* .*\)$/\1/p' "$work/log"
  cat <<'WORDS'

lost: partitions that were deleted, reformatted or lost with their table. Of these something is left: the start; else the
copy of it that their kind keeps at another place (end only); else the table of files of an NTFS volume (table); else only a
second table or a container's chain that names them (named).
former, nested: former places of volumes that live on, and images in files, that the search saw; all are told as ghosts.
untold: images of whose file no record is left, and which begin where partitions begin, or lie in a volume of which
nothing is left: nothing tells them from partitions; those that do not begin there are doubtful. in use: what the finds have in use by their
own maps, compared with what it was when they were lost; taken: what of it living partitions have in use now, compared
with these, and what of that they have not written to (unwritten). no map: finds that say that nobody knows what was in use.
WORDS
} | tee docs/search.txt
