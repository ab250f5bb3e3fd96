#!/usr/bin/env bash
# Runs all tests on two cores: files of tests are shared out to three processes (one waits now and then), each with a display of its own.
# With arguments (files, -k words) it runs just those, in one process.
set -euo pipefail
cd "$(dirname "$0")/.."
python=.venv/bin/python
if [ "$#" -gt 0 ]; then
    exec "$python" -m pytest "$@"
fi
# Each process has one core: libraries that would start threads on both only wait for each other.
export NUMBA_NUM_THREADS=1 OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1
failed=$(mktemp)
trap 'rm -f "$failed"' EXIT
INNERLAMP_FAILED=$failed "$python" -m pytest -n 3 --dist loadfile --no-loadscope-reorder --durations=30 && exit 0
# A few may have failed for what ran beside them (pictures of a window wait for a busy machine): they are tried once more
# alone, and named above in any case. Many are no accident.
count=$(wc -l <"$failed")
[ "$count" -gt 0 ] && [ "$count" -le 8 ] || exit 1
echo "Tried once more alone:"
cat "$failed"
"$python" -m pytest "@$failed"
