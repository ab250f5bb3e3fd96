"""Limits: processes that look at files may die, hang or eat memory without harm; what would not fit is refused at once."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from innerlamp.core import limits
from innerlamp.core.errors import Cancelled, InputError
from innerlamp.core.importing import offers
from innerlamp.core.jobs import looking
from innerlamp.core.progress import CallbackProgress


# Called in a process of their own, by their name.
def give(value: int) -> int:
    return value + 1


def die() -> None:
    os.kill(os.getpid(), signal.SIGABRT)


def wait_for_ever() -> None:
    signal.pause()


def eat() -> int:
    return int(np.ones(10**12).sum())


def complain() -> None:
    raise InputError("no such thing", where="a.csv")


def go_wrong() -> None:
    raise KeyError("inside")


def process() -> int:
    return os.getpid()


def test_what_a_process_gives_and_says_comes_back_and_it_stays_warm() -> None:
    assert looking.ask(give, 41) == 42
    first = looking.ask(process)
    assert first != os.getpid()
    with pytest.raises(InputError, match=r"^a\.csv: no such thing"):
        looking.ask(complain)
    with pytest.raises(Exception, match=r"f\.csv: it can't be looked at \(KeyError\)"):
        looking.ask(go_wrong, where="f.csv")
    assert looking.ask(process) == first


def test_a_file_that_ends_its_process_never_ends_or_eats_memory_is_named_and_the_next_is_looked_at() -> None:
    with pytest.raises(InputError, match=r"far\.xlsx: looking at it ended the process.*limit of memory"):
        looking.ask(die, where="far.xlsx")
    with pytest.raises(InputError, match=r"endless\.ply: looking at it takes longer than 0\.3 seconds"):
        looking.ask(wait_for_ever, where="endless.ply", seconds=0.3)
    with pytest.raises(InputError, match="not enough memory"):
        looking.ask(eat, where="big.tif")
    assert looking.ask(give, 1) == 2


def test_offers_come_through_a_process(tmp_path: Path) -> None:
    path = tmp_path / "collars.csv"
    path.write_text("Hole,East,North,RL,Depth\n" + "A1,402000,7502000,3900,100\n" * 3, encoding="utf-8")
    (offer,) = looking.ask(offers.offers_of, path, [], where=path.name)
    assert offer.kind == "collar"


def test_the_allowance_is_what_is_said_else_a_share_of_the_machine(monkeypatch: pytest.MonkeyPatch) -> None:
    import psutil

    monkeypatch.delenv(limits.VARIABLE, raising=False)
    assert limits.allowed() == pytest.approx(0.8 * psutil.virtual_memory().total, rel=0.01)
    for said, bytes_ in (("12G", 12e9), ("1.5 gb", 1.5e9), ("900M", 9e8), ("3000000000", 3e9)):
        monkeypatch.setenv(limits.VARIABLE, said)
        assert limits.allowed() == bytes_
    monkeypatch.setenv(limits.VARIABLE, "much")
    with pytest.raises(InputError, match="no amount"):
        limits.allowed()


@pytest.mark.parametrize("said", ["100M", "300M"])
def test_little_memory_is_enough_to_say_so(said: str, tmp_path: Path) -> None:
    """The libraries that compute are loaded whatever is allowed; a request that wants more is refused in a sentence."""
    project = tmp_path / "p.lamp"
    table = tmp_path / "soils.csv"
    rows = "".join(f"{402000 + 17 * (k * 37 % 101)},{7502000 + 13 * (k * 53 % 97)},{k % 29}\n" for k in range(200))
    table.write_text("x,y,Sn ppm\n" + rows, encoding="utf-8")
    command = [sys.executable, "-P", "-c", "import sys; from innerlamp.command import entry; sys.exit(entry())"]
    env = os.environ | {limits.VARIABLE: said, "XDG_CONFIG_HOME": str(tmp_path), "XDG_STATE_HOME": str(tmp_path)}

    def ended(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([*command, *words], env=env, capture_output=True, text=True, check=False)

    assert ended("new", str(project), "EPSG:32719").returncode == 0
    assert ended("bring", str(project), str(table)).returncode == 0
    small = ended("apply", str(project), "grid-kriging", "samples=soils", "attribute=Sn ppm", "cell=50")
    assert small.returncode == 0, small.stderr
    large = ended("apply", str(project), "grid-kriging", "samples=soils", "attribute=Sn ppm", "cell=0.4")
    assert large.returncode == 2
    assert "GB of memory" in large.stderr, large.stderr


@pytest.mark.parametrize("count", [1e12, float("inf"), float("nan"), -1.0])
def test_what_does_not_fit_is_refused_before_it_is_made(count: float, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(limits.VARIABLE, "4G")
    with pytest.raises(InputError, match=r"GB are allowed|can't be told"):
        limits.afford(count, 8.0, "cells of the grid")
    limits.afford(1e6, 8.0, "cells of the grid")


def offers_but_never_of_a_slow_one(path: Path, saved: list[Any]) -> list[offers.Offer]:
    """Looks at a file as the form does; at one that is called slow for ever."""
    if path.stem.startswith("slow"):
        wait_for_ever()
    return offers.offers_of(path, saved)


def test_looking_is_told_of_and_ends_on_request(tmp_path: Path) -> None:
    told: list[str] = []
    path = tmp_path / "slow.csv"
    progress = CallbackProgress(lambda *report: told.append(report[1]), lambda: len(told) > 3)
    with pytest.raises(Cancelled):
        looking.ask(offers_but_never_of_a_slow_one, path, [], where=path.name, progress=progress)
    assert told == ["slow.csv"] * 4
    assert looking.ask(give, 1) == 2
