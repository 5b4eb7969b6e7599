#!/usr/bin/env bash
# Drives the interface with the tests in e2e/: e2e-tests.sh FOLDER [WHAT PLAYWRIGHT IS GIVEN...]. In the folder one
# shop is made, of which every file of tests gets a copy.
set -euo pipefail
cd "$(dirname "$0")/.."
export JADETRAIL_SHOPS=$1
shift
mkdir -p "$JADETRAIL_SHOPS/first"
JADETRAIL_DATA=$JADETRAIL_SHOPS/first scripts/with-db.sh "$JADETRAIL_SHOPS/first" bash -c 'bin/jadetrail migrate && bin/jadetrail demo'
node_modules/.bin/playwright test -c e2e/playwright.config.mjs "$@"
