"""The corpus in tests/data/hostile: every reader meets every file, and a tracer sees that none opens another or calls."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from .hostile_corpus import CORPUS, SECRET, corpus

TRACER = ["strace", "-f", "-qq", "-e", "trace=open,openat,openat2,connect,sendto"]


def test_the_corpus_is_what_its_maker_writes() -> None:
    made = corpus()
    assert {f.name for f in CORPUS.iterdir()} == set(made)
    for name, content in made.items():
        if not name.endswith((".sqlite", ".gpkg", ".xlsx")):  # those differ by the libraries that write them
            assert (CORPUS / name).read_bytes() == content, name


@pytest.mark.skipif(shutil.which("strace") is None, reason="there is no tracer; scripts/setup.sh dev installs it")
def test_no_file_of_the_corpus_opens_another_or_calls_a_server(tmp_path: Path) -> None:
    trace = tmp_path / "trace"
    run = subprocess.run(
        [*TRACER, "-o", str(trace), sys.executable, "-m", "tests.core.hostile_corpus", "read", str(tmp_path / "in")],
        check=False,
        cwd=Path(__file__).parents[2],
        env=os.environ | {"XDG_CONFIG_HOME": str(tmp_path), "XDG_STATE_HOME": str(tmp_path), "INNER_LAMP_MEMORY": "1G"},
        capture_output=True,
        text=True,
        errors="replace",
        timeout=900,  # a reader that never ends
    )
    assert run.returncode == 0, run.stderr[-2000:]
    told = json.loads(run.stdout.strip().rpartition("\n")[2])
    assert told["faults"] == [] and told["count"] > 150
    calls = trace.read_text("utf-8", "replace").splitlines()
    assert any(f"{tmp_path}/in/" in call for call in calls)  # the tracer sees the files that are meant
    assert [call for call in calls if SECRET in call] == []
    assert [call for call in calls if re.search(r"connect\(.*AF_INET", call)] == []
    outside = [c for c in calls if "O_WRONLY" in c or "O_RDWR" in c]
    written = {m.group(1) for c in outside if (m := re.search(r'"([^"]+)"', c)) and "= -1" not in c}
    allowed = (str(tmp_path), "/dev/", "/proc/", "/tmp/", "/var/tmp/")
    assert [w for w in sorted(written) if not w.startswith(allowed) and "__pycache__" not in w] == []
