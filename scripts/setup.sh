#!/usr/bin/env bash
# Installs what is missing: setup.sh demo | test
set -euo pipefail
cd "$(dirname "$0")/.."
need=()
[ -x /usr/sbin/mariadbd ] || command -v mariadbd >/dev/null || need+=(mariadb-server-core)
command -v mariadb >/dev/null || need+=(mariadb-client-core)
if [ "$1" = test ]; then
  [ -x /usr/bin/chromium ] || need+=(chromium)
  command -v zstd >/dev/null || need+=(zstd)
  command -v strace >/dev/null || need+=(strace)
  # Drives that are not ours, for the tests.
  [ -x /usr/sbin/sfdisk ] || need+=(fdisk)
  [ -x /usr/sbin/mkfs.fat ] || need+=(dosfstools)
  [ -x /usr/sbin/mke2fs ] || need+=(e2fsprogs)
  command -v gcc >/dev/null || need+=(gcc libc6-dev) # for the race detector
fi
if [ ${#need[@]} -gt 0 ]; then
  echo "Installing ${need[*]}."
  as=
  [ "$(id -u)" = 0 ] || as=sudo
  $as env DEBIAN_FRONTEND=noninteractive apt-get update -qq
  $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${need[@]}" >/dev/null
fi
if [ "$1" = test ] && { [ ! -d node_modules/@playwright/test ] || [ ! -d node_modules/prettier ]; }; then
  PLAYWRIGHT_SKIP_BROWSER_DOWNLOAD=1 npm ci --no-audit --no-fund --loglevel=error
fi
