#!/usr/bin/env bash
# Starts the program on fresh demo drives, with the database beside it, and runs the program JADETRAIL_E2E, which
# finds it at JADETRAIL_URL.
set -euo pipefail
cd "$(dirname "$0")/.."
bin/jadetrail migrate
bin/jadetrail demo
unset JADETRAIL_OWNER_DSN
: >"$JADETRAIL_DATA/server.log" # there to be looked at before the server has begun
bin/jadetrail serve --demo >"$JADETRAIL_DATA/server.log" 2>&1 &
server=$!
trap 'kill "$server" 2>/dev/null; wait "$server" 2>/dev/null || true' EXIT
for _ in $(seq 100); do
  JADETRAIL_URL=$(sed -n 's/^Jade Trail is at //p' "$JADETRAIL_DATA/server.log")
  [ -z "$JADETRAIL_URL" ] || break
  kill -0 "$server" 2>/dev/null || { cat "$JADETRAIL_DATA/server.log"; exit 1; }
  sleep 0.1
done
export JADETRAIL_URL
$JADETRAIL_E2E "$@"
