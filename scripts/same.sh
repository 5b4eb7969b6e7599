#!/usr/bin/env bash
# What the program does, beside what it did: scripts/same.sh record|compare [FOLDER]
#
# Plans from seeds that are the same each time are carried out at the terminal and through the pages, with a
# clock that stands still and randomness that is the same. What was said, the trail, the JSON of every command
# and page and the contents of the drive go into a folder, in words; record keeps their sums in
# docs/same.txt, and compare holds them against these. FOLDER keeps the words: with one of record's, compare
# shows what is different. JADETRAIL_PLANS is another number of plans than 300.
set -euo pipefail
cd "$(dirname "$0")/.."
how=${1:?record or compare} keep=${2:-}
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-same-XXXXXX"); trap 'rm -rf "$work"' EXIT
mkdir "$work/now"
JADETRAIL_SAME=$work/now go test ./cmd/jadetrail -count=1 -timeout 3h -run 'TestSame$'
JADETRAIL_SAME=$work/now scripts/test.sh go ./app/web -count=1 -timeout 3h -run 'TestSamePages$'
(cd "$work/now" && sha256sum -- *.txt) >"$work/sums"
case $how in
record)
  cp "$work/sums" docs/same.txt
  [ -z "$keep" ] || { mkdir -p "$keep" && cp "$work"/now/* "$keep"; }
  echo "$(wc -l <docs/same.txt) recordings" ;;
compare)
  changed=$(LC_ALL=C comm -13 <(LC_ALL=C sort docs/same.txt) <(LC_ALL=C sort "$work/sums") | sed 's/.* //')
  for f in $changed; do
    echo "different: $f"
    [ -z "$keep" ] || diff "$keep/$f" "$work/now/$f" | head -"${LINES_EACH:-10}" || true
  done
  [ -z "$changed" ] && echo "$(wc -l <"$work/sums") recordings, all the same" || exit 1 ;;
esac
