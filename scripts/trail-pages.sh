#!/usr/bin/env bash
# The trail's pages with 100,000 entries beside those with 100: scripts/trail-pages.sh
#
# The times are of this machine, the best of seven each; what counts is their ratio. Written to
# docs/trail-pages.txt.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-trail-XXXXXX"); trap 'rm -rf "$work"' EXIT
scripts/with-db.sh "$work" bash -c 'export JADETRAIL_TEST_DSN=$JADETRAIL_DSN JADETRAIL_TEST_OWNER_DSN=$JADETRAIL_OWNER_DSN; unset JADETRAIL_DSN JADETRAIL_OWNER_DSN
  JADETRAIL_PROVE=1 go test ./app/web -count=1 -timeout 30m -v -run TestLongTrail' | tee "$work/log"
{
  echo "The trail's pages with 100,000 entries and with 100 (make prove), $(date -u +%F)"
  sed -n 's/^ *trail_test.go:[0-9]*: \(.* times as long\)$/\1/p' "$work/log"
} | tee docs/trail-pages.txt
grep -q '^ok' "$work/log"
