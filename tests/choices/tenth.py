"""Which tenth of a walk is walked in this run: another one each day, one that is named, or all of it."""

from __future__ import annotations

import datetime
import os
from collections.abc import Iterable
from zlib import crc32

from ..scale import LONG

WALK = os.environ.get("INNERLAMP_WALK", "")
TENTH = int(WALK) if WALK.isdigit() else datetime.date.today().toordinal() % 10


def tenth_of(label: str) -> int:
    """The tenth that something belongs to by its name, the same in every run."""
    return crc32(label.encode()) % 10


def third_of_this_run(names: Iterable[str]) -> list[str]:
    """The third of the names whose day it is, or all of them in the long run: each is taken every third day."""
    day = datetime.date.today().toordinal() % 3
    return [name for name in names if WALK == "all" or LONG or crc32(name.encode()) % 3 == day]


def of_this_run(names: Iterable[str]) -> list[str]:
    """Those names that this run walks."""
    return [name for name in names if WALK == "all" or tenth_of(name) == TENTH]
