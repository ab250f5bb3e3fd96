#!/usr/bin/env bash
# Pins all dependencies anew with their hashes; run it after a change of the dependencies in pyproject.toml.
set -euo pipefail
cd "$(dirname "$0")/.."
tools=$(mktemp -d)
trap 'rm -rf "$tools"' EXIT
python3.11 -m venv "$tools"
"$tools/bin/pip" install --quiet --disable-pip-version-check pip-tools
"$tools/bin/pip-compile" --quiet --generate-hashes --no-header --no-annotate --strip-extras --allow-unsafe --extra dev \
    --no-emit-index-url --no-emit-options "$@" --output-file requirements.lock pyproject.toml
