#!/usr/bin/env bash
# Runs all tests: those of the core beside those of the window, each with a display of its own, on two cores.
# With arguments (files, -k words) it runs just those, in one go.
set -euo pipefail
cd "$(dirname "$0")/.."
python=.venv/bin/python
if [ "$#" -gt 0 ]; then
    exec bash scripts/with_display.sh "$python" -m pytest "$@"
fi
log=$(mktemp)
trap 'rm -f "$log"' EXIT
# What takes long in the window and needs nothing else goes with the core, so that both end together.
beside=(tests/app/test_controls.py tests/app/test_session.py tests/app/test_tarquel_form.py tests/app/test_finding.py)
bash scripts/with_display.sh "$python" -m pytest tests/core tests/contract "${beside[@]}" >"$log" 2>&1 &
core=$!
failed=0
bash scripts/with_display.sh "$python" -m pytest tests/app "${beside[@]/#/--ignore=}" || failed=1
wait "$core" || failed=1
cat "$log"
exit "$failed"
