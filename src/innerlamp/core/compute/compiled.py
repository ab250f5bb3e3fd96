"""numba's compiler as a decorator that type checkers can follow."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, cast

from numba import njit

# The arguments of a kernel are typed by numba when it compiles it.
Kernel = Callable[..., Any]


def compiled(**options: Any) -> Callable[[Kernel], Kernel]:
    """Return the decorator that compiles a function without falling back to Python; options as `numba.njit` takes them."""
    return cast(Callable[[Kernel], Kernel], njit(**options))
