#!/usr/bin/env bash
# Runs the tests: test.sh [go|e2e]; both without a word. Go tests run against a
# real MariaDB, interface tests against the real program in a real browser. What
# follows "go" is given to go test, instead of all packages.
set -euo pipefail
cd "$(dirname "$0")/.."
what=${1:-all}
tests=("${@:2}")
[ ${#tests[@]} -gt 0 ] || tests=(./...)
work=$(mktemp -d "${TMPDIR:-/tmp}/jadetrail-test-XXXXXX")
trap 'rm -rf "$work"' EXIT
# Memory is there, and less is spent on looking for what of it is free.
export GOGC=${GOGC:-400} GOMEMLIMIT=${GOMEMLIMIT:-2GiB}
export JADETRAIL_DB="--innodb-flush-method=nosync --innodb-flush-log-at-trx-commit=0"

if [ "$what" != e2e ]; then
  test -z "$(gofmt -l app cmd core)" || { echo "Not formatted: $(gofmt -l app cmd core)"; exit 1; }
  go vet ./...
  if [ "${tests[*]}" = ./... ]; then
    npm run --silent formatted # scripts, styles and templates; "npm run format" mends it
    npm run --silent style -- --output "$work/bulma.css"
    cmp "$work/bulma.css" app/web/static/vendor/bulma.css || { echo "What the pages use of Bulma has changed: run scripts/assets.sh."; exit 1; }
    go tool staticcheck ./...
    # The packages that are light enough for the race detector.
    CGO_ENABLED=1 go test -race ./app/work ./core/disk ./core/intake ./core/trail ./core/plan ./core/route
  fi
  scripts/with-db.sh "$work/go" bash -c '
    export JADETRAIL_TEST_DSN=$JADETRAIL_DSN JADETRAIL_TEST_OWNER_DSN=$JADETRAIL_OWNER_DSN
    unset JADETRAIL_DSN JADETRAIL_OWNER_DSN
    # Three packages beside each other: some wait for programs that they start and kill.
    go test -p 3 -timeout 30m "$@"' tests "${tests[@]}"
fi
if [ "$what" != go ]; then
  if [ -n "${JADETRAIL_E2E:-}" ]; then # another program drives the interface
    export JADETRAIL_DATA=$work/e2e JADETRAIL_ADDR=127.0.0.1:0
    scripts/with-db.sh "$work/e2e" scripts/e2e.sh
  else
    scripts/e2e-tests.sh "$work/e2e" ${JADETRAIL_SPECS:-}
  fi
fi
