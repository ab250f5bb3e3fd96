#!/usr/bin/env bash
# Runs all tests on two cores: files of tests are shared out to two processes, each with a display of its own.
# With arguments (files, -k words) it runs just those, in one process.
set -euo pipefail
cd "$(dirname "$0")/.."
python=.venv/bin/python
if [ "$#" -gt 0 ]; then
    exec "$python" -m pytest "$@"
fi
# Each process has one core: libraries that would start threads on both only wait for each other.
export NUMBA_NUM_THREADS=1 OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1
exec "$python" -m pytest -n 3 --dist loadfile --durations=60
