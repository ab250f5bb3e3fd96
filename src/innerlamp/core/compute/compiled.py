"""numba's compiler as a decorator that type checkers can follow."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, cast

from numba import config, njit

# Kernels are kept for all copies of the program; where that can't be, beside their sources.
config.CACHE_LOCATOR_CLASSES = ",".join(
    (
        "innerlamp.core.compute.kernel_cache.SharedLocator",
        "UserProvidedCacheLocator",
        "InTreeCacheLocator",
        "UserWideCacheLocator",
        "IPythonCacheLocator",
        "ZipCacheLocator",
    )
)

# The arguments of a kernel are typed by numba when it compiles it.
Kernel = Callable[..., Any]


def compiled(**options: Any) -> Callable[[Kernel], Kernel]:
    """Return the decorator that compiles a function without falling back to Python; options as `numba.njit` takes them."""
    return cast(Callable[[Kernel], Kernel], njit(**options))
