#!/usr/bin/env bash
# Fuzzes every parser for the given time: scripts/fuzz.sh 300s
set -euo pipefail
cd "$(dirname "$0")/.."
for target in core/table:FuzzRead core/volume/ntfs:FuzzVolume core/volume/fat:FuzzVolume core/volume/ntfs:FuzzUnpack core/survey:FuzzKinds core/volume/recognise:FuzzOpen core/intake:FuzzOpen core/pc:FuzzParse core/disk:FuzzParseAmount core/carry:FuzzOpen core/trail:FuzzVerify core/sign:FuzzFind core/shelf:FuzzHoles; do
  echo "== ${target}"
  go test "./${target%:*}" -run '^$' -fuzz "^${target#*:}\$" -fuzztime "${1:-300s}" -fuzzminimizetime 2s -parallel "${FUZZ_PARALLEL:-$(nproc)}"
done
