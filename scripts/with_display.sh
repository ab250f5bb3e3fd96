#!/usr/bin/env bash
# Runs a command on a virtual display of its own, so that tests and benchmarks see the same screen everywhere.
set -euo pipefail
exec 3<> <(:)
Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp +extension GLX >/dev/null 2>&1 &
server=$!
trap 'kill $server 2>/dev/null || true' EXIT
read -r -t 30 number <&3
export DISPLAY=":$number" QT_QPA_PLATFORM=xcb LIBGL_ALWAYS_SOFTWARE=1
unset WAYLAND_DISPLAY
"$@"
