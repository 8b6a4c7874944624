# Shared by the commands in this folder; sourced, not run.
# shellcheck shell=bash

say() { printf '%s\n' "vaaka: $*" >&2; }
fail() { say "$*"; exit 1; }

# Installs Debian packages that are missing: need PACKAGE COMMAND-OR-FILE …
need_package() {
  local package=$1 proof=$2 run=()
  if compgen -G "$proof" >/dev/null || command -v "$proof" >/dev/null 2>&1; then return 0; fi
  command -v apt-get >/dev/null 2>&1 || fail "the package “$package” is missing and there is no apt-get here: install it, then run this again."
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null 2>&1 || fail "the package “$package” is missing: install it as root (apt-get install $package), then run this again."
    run=(sudo)
  fi
  say "installing the package $package …"
  if [ "$package" = postgresql ]; then
    # Keeps the package from making and starting a cluster of its own.
    "${run[@]}" mkdir -p /etc/postgresql-common/createcluster.d
    printf 'create_main_cluster = false\n' | "${run[@]}" tee /etc/postgresql-common/createcluster.d/vaaka.conf >/dev/null
  fi
  if ! { "${run[@]}" env DEBIAN_FRONTEND=noninteractive apt-get update -qq &&
         "${run[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq "$package" >/dev/null; }; then
    fail "the package “$package” could not be installed: install it by hand, then run this again."
  fi
}

need_command() {
  command -v "$1" >/dev/null 2>&1 || fail "“$1” is missing: $2"
}

pg_bin() { find /usr/lib/postgresql -maxdepth 2 -name bin 2>/dev/null | sort -V | tail -n 1; }

# PostgreSQL does not run as root: then the user postgres, which its package makes, runs it.
as_pg() {
  if [ "$(id -u)" -eq 0 ]; then (cd / && runuser -u postgres -- "$@"); else "$@"; fi
}

free_port() {
  local port=$1
  while (exec 3<>"/dev/tcp/127.0.0.1/$port") 2>/dev/null; do port=$((port + 1)); done
  printf '%s' "$port"
}

# Makes a cluster: make_cluster FOLDER AUTH [PASSWORD-FILE]
make_cluster() {
  local data=$1 auth=$2 password=${3:-}
  local options=(-D "$data" -U vaaka_owner -A "$auth" -E UTF8 --locale=C.UTF-8)
  [ -n "$password" ] && options+=(--pwfile="$password")
  as_pg "$(pg_bin)/initdb" "${options[@]}" >/dev/null
}

# Starts a cluster: start_cluster FOLDER PORT LOGFILE [MORE POSTGRES OPTIONS]
start_cluster() {
  local data=$1 port=$2 log=$3 more=${4:-}
  as_pg "$(pg_bin)/pg_ctl" -s -w -t 60 -D "$data" -l "$log" \
    -o "-p $port -c listen_addresses=127.0.0.1 -c unix_socket_directories='' $more" start >/dev/null
}

stop_cluster() {
  as_pg "$(pg_bin)/pg_ctl" -s -w -t 60 -D "$1" -m "${2:-fast}" stop >/dev/null 2>&1 || true
}
