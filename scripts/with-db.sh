#!/usr/bin/env bash
# Runs a command with a private MariaDB beside it, and stops it afterwards.
#
#   scripts/with-db.sh DATA-FOLDER COMMAND...
#
# The server's data, socket, port and passwords lie in DATA-FOLDER/mariadb. It
# listens on a loopback port of its own: the one it had before if that is free,
# else another free one, never 3306. The command finds JADETRAIL_DSN (the
# application's account) and JADETRAIL_OWNER_DSN (for migrations). JADETRAIL_DB is
# given to the server: the tests, whose data need not outlive them, do not wait
# for the disk.
set -euo pipefail
data=$1; shift
mkdir -p "$data/mariadb"
dir=$(cd "$data/mariadb" && pwd)
server=$(command -v mariadbd || echo /usr/sbin/mariadbd)

umask 077
# Its temporary tables have a folder of their own: a server that starts removes those of others in a shared one.
mkdir -p "$dir/tmp"

# Set up beside, and moved when it is whole: what was cut short is not taken for a database.
if [ ! -d "$dir/data" ]; then
  rm -rf "$dir/new"
  mariadb-install-db --no-defaults --tmpdir="$dir/tmp" --datadir="$dir/new" --user="$(id -un)" --skip-test-db \
    --auth-root-authentication-method=socket --auth-root-socket-user="$(id -un)" >"$dir/install.log" 2>&1 ||
    { echo "The database could not be set up; see $dir/install.log." >&2; exit 1; }
  mv "$dir/new" "$dir/data"
fi
[ -s "$dir/passwords" ] || printf 'owner=%s\napp=%s\n' "$(od -An -N18 -tx1 /dev/urandom | tr -d ' \n')" "$(od -An -N18 -tx1 /dev/urandom | tr -d ' \n')" >"$dir/passwords"
. "$dir/passwords"

busy() { (exec 3<>"/dev/tcp/127.0.0.1/$1") 2>/dev/null; }
port=$(cat "$dir/port" 2>/dev/null || echo 33071)
choose() {
  while [ "$port" = 3306 ] || busy "$port"; do port=$((33071 + RANDOM % 2000)); done
  echo "$port" >"$dir/port"
}
choose

# A path longer than a socket's name may be gets a short one.
socket=$dir/socket
[ ${#socket} -lt 100 ] || socket=$(mktemp -u "${TMPDIR:-/tmp}/jadetrail-XXXXXX")

# A group of its own, so that a Ctrl-C meant for the command does not stop the
# database before the command is done with it.
serve() {
  set -m
  "$server" --no-defaults --tmpdir="$dir/tmp" --datadir="$dir/data" --socket="$socket" --port="$port" \
    --bind-address=127.0.0.1 --user="$(id -un)" --pid-file="$dir/pid" --log-error="$dir/error.log" --skip-log-bin \
    --innodb-buffer-pool-size=64M --max-allowed-packet=64M \
    --character-set-server=utf8mb4 ${JADETRAIL_DB:-} >/dev/null 2>&1 &
  db=$!
  set +m
}
serve
child=
stop() {
  trap - EXIT INT TERM
  [ -z "$child" ] || { kill -TERM "$child" 2>/dev/null || true; wait "$child" 2>/dev/null || true; }
  kill "$db" 2>/dev/null || true
  wait "$db" 2>/dev/null || true
  rm -f "$socket"
}
trap 'stop' EXIT
trap 'stop; exit 130' INT
trap 'stop; exit 143' TERM

answers=
for _ in $(seq 300); do
  if mariadb --no-defaults --socket="$socket" -e "SELECT 1" >/dev/null 2>&1; then answers=yes; break; fi
  if ! kill -0 "$db" 2>/dev/null; then
    # Another that started at the same moment has taken the port.
    tail -n 20 "$dir/error.log" | grep -q "Bind on TCP/IP port" ||
      { echo "The database did not start; see $dir/error.log." >&2; exit 1; }
    choose
    serve
  fi
  sleep 0.2
done
[ -n "$answers" ] ||
  { echo "The database does not let its owner in; see $dir/error.log and $dir/install.log." >&2; exit 1; }
mariadb --no-defaults --socket="$socket" <<SQL
CREATE DATABASE IF NOT EXISTS jadetrail CHARACTER SET utf8mb4;
CREATE USER IF NOT EXISTS jadetrail_owner@'127.0.0.1' IDENTIFIED BY '$owner';
ALTER USER jadetrail_owner@'127.0.0.1' IDENTIFIED BY '$owner';
CREATE USER IF NOT EXISTS jadetrail_app@'127.0.0.1' IDENTIFIED BY '$app';
ALTER USER jadetrail_app@'127.0.0.1' IDENTIFIED BY '$app';
GRANT ALL PRIVILEGES ON \`jadetrail%\`.* TO jadetrail_owner@'127.0.0.1' WITH GRANT OPTION;
SQL
export JADETRAIL_DSN="jadetrail_app:$app@tcp(127.0.0.1:$port)/jadetrail"
export JADETRAIL_OWNER_DSN="jadetrail_owner:$owner@tcp(127.0.0.1:$port)/jadetrail"
umask 022
"$@" &
child=$!
status=0
wait "$child" || status=$?
child=
exit "$status"
