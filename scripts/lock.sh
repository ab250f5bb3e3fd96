#!/usr/bin/env bash
# Pins all dependencies anew with their hashes; run it after a change of the dependencies in pyproject.toml.
# Two locks: requirements.lock is what the program needs to run, requirements-dev.lock adds what its developers need.
set -euo pipefail
cd "$(dirname "$0")/.."
tools=$(mktemp -d)
trap 'rm -rf "$tools"' EXIT
python3.11 -m venv "$tools"
"$tools/bin/pip" install --quiet --disable-pip-version-check pip-tools
compile() {
    "$tools/bin/pip-compile" --quiet --generate-hashes --no-header --no-annotate --strip-extras --allow-unsafe \
        --no-emit-index-url --no-emit-options "$@" pyproject.toml
}
compile --extra dev "$@" --output-file requirements-dev.lock
# The same versions: what developers test is what users run.
sed -E 's/ *\\$//; /^ *--hash/d' requirements-dev.lock >"$tools/constraints.txt"
compile --constraint "$tools/constraints.txt" --output-file requirements.lock
# The installer of packages, by itself: it is there before they are.
echo uv >"$tools/setup.in"
"$tools/bin/pip-compile" --quiet --generate-hashes --no-header --no-annotate --strip-extras --no-emit-index-url \
    --no-emit-options "$@" --output-file requirements-setup.lock "$tools/setup.in"
