#!/usr/bin/env bash
# Makes the demo's drives and starts the application; with-db.sh runs it.
set -euo pipefail
cd "$(dirname "$0")/.."
export JADETRAIL_DATA=${JADETRAIL_DATA:-var}
bin/jadetrail migrate
bin/jadetrail demo
unset JADETRAIL_OWNER_DSN
exec bin/jadetrail serve --demo
