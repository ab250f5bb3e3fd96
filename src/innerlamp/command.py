"""The command `inner-lamp` as it is started: what reads files or writes projects runs in a process of its own.

A library that a damaged file brings down then ends that process and not the answer: one sentence says so. The process
is held to the memory that one may take, and it ends when the one that waits for it is killed.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
import sys
import traceback
from collections.abc import Callable

_APART = ("apply", "bring", "change", "check", "compare", "export", "findings", "items", "new", "refresh", "systems")
_DIE_WITH_PARENT = 1  # PR_SET_PDEATHSIG of Linux's prctl


def entry() -> int:
    """Run the command line with the words that the program was started with; returns the exit code."""
    from .cli import main
    from .core import limits
    from .core.errors import LampError

    try:
        limits.allowed()
    except LampError as error:
        print(f"inner-lamp: {error}", file=sys.stderr)
        return 2
    if len(sys.argv) < 2 or sys.argv[1] not in _APART:
        return main()
    return apart(main)


def _stop_once(*_: object) -> None:
    """Stop what runs; being told twice does not break off what puts things in order."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    raise KeyboardInterrupt


def apart(run: Callable[[], int]) -> int:
    """Call a function in a process of its own and return its code, 2 with a sentence when the process dies."""
    parent = os.getpid()
    sys.stdout.flush()
    sys.stderr.flush()
    child = os.fork()
    if child == 0:
        code = 3
        try:
            ctypes.CDLL(None).prctl(_DIE_WITH_PARENT, signal.SIGKILL)
            signal.signal(signal.SIGINT, _stop_once)
            if os.getppid() == parent:
                from .core import limits

                limits.hold()
                code = run()
        except SystemExit as ended:
            code = ended.code if isinstance(ended.code, int) else 0 if ended.code is None else 1
        except BaseException:
            traceback.print_exc()
        finally:
            for stream in (sys.stdout, sys.stderr):
                try:
                    stream.flush()
                except OSError:
                    code = code or 0
            os._exit(code)
    while True:
        try:
            _, status = os.waitpid(child, 0)
            break
        except KeyboardInterrupt:  # from a keyboard the other process got it too; sent to this one alone it did not
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, signal.SIGINT)
    if os.WIFSIGNALED(status):
        name = signal.Signals(os.WTERMSIG(status)).name
        hint = " (perhaps there was not enough memory)" if name in ("SIGKILL", "SIGBUS") else ""
        print(
            f"inner-lamp: the process that did this was ended by {name}{hint}; nothing is half-written."
            " Leave out the file that it read, or make it smaller.",
            file=sys.stderr,
        )
        return 2
    return os.waitstatus_to_exitcode(status)
