#!/usr/bin/env bash
# Serves a demo whose database and drives are there, without the rights that only migrations need.
set -euo pipefail
cd "$(dirname "$0")/.."
unset JADETRAIL_OWNER_DSN
exec bin/jadetrail serve --demo
