"""How much is tried: a fifth of the long batteries in each run, all of them by `make test-long`."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TypeVar

import pytest

T = TypeVar("T")
LONG = bool(os.environ.get("INNERLAMP_LONG"))
# What takes long and looks at nothing that a user sees.
long_run = pytest.mark.skipif(not LONG, reason="part of make test-long")


def share(whole: int) -> int:
    """How many of so many are tried here."""
    return whole if LONG else max(whole // 5, 1)


def fifth(cases: Sequence[T]) -> list[T]:
    """Every fifth case, from the middle on, or all of them."""
    return list(cases) if LONG else list(cases[2 % len(cases) :: 5])
