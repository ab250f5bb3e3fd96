"""How much memory a process may take: a file or a request that wants more fails with a sentence, and takes nothing down."""

from __future__ import annotations

import contextlib
import os
import re
import resource

from .errors import InputError
from .shown import clipped

VARIABLE = "INNER_LAMP_MEMORY"
_LEAST, _PART, _MOST = 2_000_000_000, 0.9, 2**60
# Address space that compiled code and its libraries take before there is any data, and that of the threads of each core.
_LIBRARIES, _THREADS = 1_800_000_000, 400_000_000
_UNITS = {"": 1, "k": 10**3, "m": 10**6, "g": 10**9, "t": 10**12}


def allowed() -> int:
    """Return how many bytes one process may take: what `INNER_LAMP_MEMORY` says (such as 12G), else 0.8 of the machine's.

    Raises
    ------
    InputError
        When the variable is no amount.
    """
    said = os.environ.get(VARIABLE, "").strip()
    if said:
        found = re.fullmatch(r"([0-9]{1,18}(?:\.[0-9]{1,18})?)\s*([kmgt]?)b?", said.lower())
        if found is None:
            raise InputError(
                f"{VARIABLE} is {clipped(ascii(said), 40)}, which is no amount", fix="Write for example 12G"
            )
        return min(max(int(float(found.group(1)) * _UNITS[found.group(2)]), 100_000_000), _MOST)
    import psutil

    return max(int(0.8 * psutil.virtual_memory().total), _LEAST)


def hold(share: float = 1.0) -> None:
    """Hold this process to a share of what is allowed, beyond the address space that it has already.

    What the program's own libraries need is never withheld: a process that can't load them could not even say why it ends.
    """
    import psutil

    taken = psutil.Process().memory_info().vms
    most = taken + max(int(share * allowed()), _LIBRARIES + _THREADS * (os.cpu_count() or 1))
    with contextlib.suppress(ValueError, OSError):  # where the system gives no limit there is none
        bound(resource.RLIMIT_AS, most)
        bound(resource.RLIMIT_CORE, 0)


def bound(kind: int, most: int) -> None:
    """Set a limit of this process; a lower one that it may not pass stays."""
    _, hard = resource.getrlimit(kind)
    resource.setrlimit(kind, (most if hard == resource.RLIM_INFINITY else min(most, hard), hard))


def afford(count: float, each: float, what: str, fix: str = "") -> None:
    """Refuse, before anything is allocated, what would not fit into memory.

    Parameters
    ----------
    count, each
        How many of something, and how many bytes one of them takes at the peak of the work.
    what
        What they are, in the plural: ``cells of the grid``.

    Raises
    ------
    InputError
        When they take more than a process may; also when their number is none.
    """
    if not 0 <= count < float("inf"):
        raise InputError(f"the number of {what} can't be told", fix=fix or "Look at the numbers that were given")
    fits(count * each, f"{count:,.6g} {what}", fix or "Ask for fewer")


def fits(need: float, what: str, fix: str) -> None:
    """Refuse what would take more bytes than a process may; `what` says what it is.

    Raises
    ------
    InputError
        With both amounts, and how to allow more.
    """
    most = _PART * allowed()
    if not need <= most:
        raise InputError(
            f"{what}: about {need / 1e9:,.4g} GB of memory, and {most / 1e9:,.1f} GB are allowed ({VARIABLE})", fix=fix
        )
