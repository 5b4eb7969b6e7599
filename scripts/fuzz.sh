#!/usr/bin/env bash
# Fuzzes every parser for the given time: scripts/fuzz.sh 60s
set -euo pipefail
cd "$(dirname "$0")/.."
for target in core/table:FuzzRead core/volume/ntfs:FuzzVolume core/volume/fat:FuzzVolume core/volume/recognise:FuzzOpen core/disk:FuzzParseAmount core/carry:FuzzOpen core/trail:FuzzVerify; do
  echo "== ${target}"
  go test "./${target%:*}" -run '^$' -fuzz "^${target#*:}\$" -fuzztime "${1:-60s}" -fuzzminimizetime 2s -parallel "$(nproc)"
done
