#!/usr/bin/env bash
# Brings the database up to date and starts the application on a data folder: run.sh FOLDER. The database is the one
# that JADETRAIL_DSN and JADETRAIL_OWNER_DSN name, or without them a private one in the folder.
set -euo pipefail
cd "$(dirname "$0")/.."
export JADETRAIL_DATA=$1
umask 077
mkdir -p "$1"
if [ -z "${JADETRAIL_DSN:-}" ]; then
  exec scripts/with-db.sh "$1" scripts/run.sh "$1"
fi
[ -z "${JADETRAIL_OWNER_DSN:-}" ] || bin/jadetrail migrate
unset JADETRAIL_OWNER_DSN
exec bin/jadetrail serve
