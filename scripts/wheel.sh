#!/usr/bin/env bash
# Builds the wheel, installs it with the locked packages in an empty environment, and starts it there.
set -euo pipefail
cd "$(dirname "$0")/.."
place=$(mktemp -d)
trap 'rm -rf "$place"' EXIT
.venv/bin/python -m build --wheel --no-isolation --outdir "$place/dist" . >"$place/build.log" 2>&1 || { cat "$place/build.log"; exit 1; }
python3.11 -m venv "$place/empty"
install() {
    .venv/bin/python -m uv pip install --quiet --python "$place/empty/bin/python" "$@" 2>/dev/null ||
        "$place/empty/bin/python" -m pip install --quiet --disable-pip-version-check "$@"
}
install --require-hashes -r requirements.lock
install --no-deps "$place"/dist/*.whl
cd "$place"
"$place/empty/bin/inner-lamp" doctor
"$place/empty/bin/inner-lamp" ops >/dev/null
"$place/empty/bin/inner-lamp" new "$place/made" EPSG:32719 >/dev/null
"$place/empty/bin/inner-lamp" check "$place/made.lamp"
echo "The wheel installs and starts in an empty environment."
