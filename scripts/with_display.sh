#!/usr/bin/env bash
# Runs a command on a virtual display of its own, so that tests and benchmarks see the same screen everywhere.
set -euo pipefail
# Only who has the key may use it (Xauthority, any host and display): see innerlamp/display.py.
key=$(mktemp)
printf '\xff\xff\x00\x00\x00\x00\x00\x12MIT-MAGIC-COOKIE-1\x00\x10' >"$key"
head -c 16 /dev/urandom >>"$key"
exec 3<> <(:)
Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp -auth "$key" +extension GLX >/dev/null 2>&1 &
server=$!
trap 'kill $server 2>/dev/null || true; rm -f "$key"' EXIT
read -r -t 30 number <&3
export DISPLAY=":$number" XAUTHORITY="$key" QT_QPA_PLATFORM=xcb LIBGL_ALWAYS_SOFTWARE=1
unset WAYLAND_DISPLAY
"$@"
