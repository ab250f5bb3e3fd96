"""A writer that is killed at random moments: every committed change is there afterwards, nothing half-made.

The children are forked from one process that has imported everything, so that a hundred kills take
seconds. Each child tells on a pipe when a change has returned; what it told before it was killed
must be in the project.
"""

from __future__ import annotations

import os
import random
import select
import signal
from pathlib import Path

import numpy as np
import pytest

from innerlamp.core.items.fields import Grid
from innerlamp.core.project.store import Store, stage

from ..scale import share

KILLS = share(120)


def _grid(value: float) -> Grid:
    values = np.full((60, 60), value)
    return Grid(name=f"grid {value:g}", crs="EPSG:32629", values=values, x0=0.0, y0=0.0, dx=1.0, dy=1.0, attribute="a")


def _write_for_ever(path: Path, start: int, tell: int) -> None:
    with Store.open(path) as store:
        for number in range(start, start + 10_000):
            kind = number % 4
            entries = store.entries()
            if kind == 3 and len(entries) > 6:
                store.remove([entries[0].id])
                note = f"gone {entries[0].id}\n"
            elif kind == 2 and entries:
                results = {"0": stage(store.payloads, _grid(number))}
                store.add(results, "replace", replace={"0": entries[-1].id})
                note = f"value {entries[-1].id} {number}\n"
            else:
                note = f"value {store.put(_grid(number))} {number}\n"
            os.write(tell, note.encode())


@pytest.mark.filterwarnings("ignore::DeprecationWarning")  # forking with threads about: this child only writes
def test_a_hundred_kills(tmp_path: Path) -> None:
    path = tmp_path / "crash.lamp"
    Store.create(path, "EPSG:32629").close()
    rng = random.Random(7)
    known: dict[str, int] = {}
    number, told_in_all = 1, 0
    for turn in range(KILLS):
        read, tell = os.pipe()
        child = os.fork()
        if child == 0:
            try:
                os.close(read)
                _write_for_ever(path, number, tell)
            finally:
                os._exit(1)
        os.close(tell)
        ended = os.pidfd_open(child)
        if turn % 2:  # half of them have written something, however busy the machine is
            select.select([read], [], [], 20.0)
        select.select([ended], [], [], rng.uniform(0.0, 0.09))  # it lives until it is killed, at any moment
        os.close(ended)
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        text = b""
        while chunk := os.read(read, 65536):
            text += chunk
        os.close(read)
        for line in text.decode().splitlines():
            word, item, *value = line.split()
            told_in_all += 1
            if word == "gone":
                known.pop(item)
            else:
                known[item] = int(value[0])
                number = max(number, int(value[0]) + 1)
        with Store.open(path) as store:
            present = {e.id: e for e in store.entries()}
            # One more change may have been committed and not yet told; never more, never a part of one.
            beyond = [i for i in present if i not in known]
            lost = [i for i in known if i not in present]
            moved = [i for i in present if i in known and float(store.load(i).values[0, 0]) != known[i]]  # type: ignore[attr-defined]
            assert len(beyond) + len(lost) + len(moved) <= 1
            for item in present:
                values = store.load(item).values  # type: ignore[attr-defined]
                assert np.all(values == values[0, 0])
            assert store.damaged() == {}
            assert not (path / "staging").exists()
            known = {i: int(store.load(i).values[0, 0]) for i in present}  # type: ignore[attr-defined]
            number = max([number, *(v + 1 for v in known.values())])
    assert told_in_all > KILLS // 4  # the children did get to write, also where others have the cores
