#!/usr/bin/env bash
# Sets up a machine: system packages that are missing (when we may), virtual environment, locked packages.
# `setup.sh` installs what the program needs to run, `setup.sh dev` what its developers need as well.
set -euo pipefail
cd "$(dirname "$0")/.."

need=()
have() { dpkg -s "$1" >/dev/null 2>&1; }
if command -v dpkg >/dev/null; then
    for package in xvfb libgl1 libgl1-mesa-dri libegl1 libxkbcommon-x11-0 libxcb-cursor0 libxcb-icccm4 \
        libxcb-keysyms1 libxcb-shape0 libxcb-xinerama0 libxcb-image0 libxcb-render-util0 libdbus-1-3 \
        libfontconfig1 libxrender1 libxi6 libglib2.0-0 fonts-dejavu-core; do
        have "$package" || need+=("$package")
    done
    if [ "${1:-}" = dev ]; then # the judges of the menu entry, and the browser that reads written scenes
        for package in desktop-file-utils appstream shared-mime-info chromium strace; do
            have "$package" || need+=("$package")
        done
    fi
    python3 -c 'import venv, ensurepip' 2>/dev/null || need+=(python3-venv)
fi
if [ "${#need[@]}" -gt 0 ]; then
    echo "Qt needs X libraries and software OpenGL, and a machine without a screen a virtual one. Missing: ${need[*]}"
    if [ "$(id -u)" = 0 ]; then run=(); elif sudo -n true 2>/dev/null; then run=(sudo); else run=(false); fi
    if [ "${run[*]:-}" = false ]; then
        echo "They can't be installed without root; the window may not start. Ask for: apt-get install ${need[*]}"
    else
        echo "Installing them with apt-get."
        "${run[@]}" apt-get update -qq
        DEBIAN_FRONTEND=noninteractive "${run[@]}" apt-get install -y -qq --no-install-recommends "${need[@]}"
    fi
fi

python=python3
command -v python3.11 >/dev/null && python=python3.11
"$python" -c 'import sys; sys.exit(sys.version_info[:2] != (3, 11))' || { echo "Python 3.11 is needed." >&2; exit 1; }
[ -x .venv/bin/python ] || "$python" -m venv .venv
lock=requirements.lock
[ "${1:-}" = dev ] && lock=requirements-dev.lock
# Packages come by an installer that takes a minute where pip takes five; where it can't work, pip does.
install() {
    .venv/bin/python -m uv pip install --quiet --python .venv/bin/python "$@" 2>/dev/null ||
        .venv/bin/python -m pip install --quiet --disable-pip-version-check "$@"
}
.venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements-setup.lock || true
install --require-hashes -r "$lock"
install --no-deps -e .
# Compile the kernels once, on all cores, so that the first start does not wait for them.
.venv/bin/python -m innerlamp.warm
touch .venv/.ready
[ "${1:-}" = dev ] && touch .venv/.ready-dev || true
