#!/usr/bin/env bash
# Fuzzes every parser for the given time, with every fuzz target that there is: scripts/fuzz.sh 300s
set -euo pipefail
cd "$(dirname "$0")/.."
grep -rn --include='*_test.go' -o '^func Fuzz[A-Za-z]*' core app | sed -E 's#/[^/]*:[0-9]+:func #:#' | LC_ALL=C sort | while read -r target; do
  echo "== ${target}"
  go test "./${target%:*}" -run '^$' -fuzz "^${target#*:}\$" -fuzztime "${1:-300s}" -fuzzminimizetime 2s -parallel "${FUZZ_PARALLEL:-$(nproc)}" </dev/null
done
