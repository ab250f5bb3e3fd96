"""Looking at files from outside in processes of their own: a file that ends one, or never lets it end, does no more harm."""

from __future__ import annotations

import atexit
import contextlib
import os
import threading
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from typing import Any

from .. import limits
from ..errors import InputError, LampError, ProjectError
from ..progress import SILENT, Progress
from .starting import environment, few, take_environment, without_current_folder

SECONDS = 90.0
_MOST = 2
_LOOK_UP = 0.2  # seconds between two looks at whether to stop
_SHARE = 0.5  # of the memory that a process may take


class _Looker:
    """One warm process that calls functions, one after the other."""

    def __init__(self) -> None:
        context = few()
        with without_current_folder():  # also for the process that the library starts beside it
            here, there = context.Pipe()
            self.process: BaseProcess = context.Process(
                target=_serve, args=(there, environment()), daemon=True, name="inner-lamp looker"
            )
            self.process.start()
        there.close()
        self.connection: Connection = here

    def ask(self, call: Callable[..., Any], args: tuple[Any, ...], where: str, seconds: float, told: Progress) -> Any:
        end = time.monotonic() + seconds
        try:
            self.connection.send((call, args))
            while not self.connection.poll(min(_LOOK_UP, seconds)):
                told(0.0, where)
                if time.monotonic() >= end:
                    raise InputError(
                        f"looking at it takes longer than {seconds:g} seconds",
                        where=where,
                        fix="Leave it out, or make it smaller",
                    )
            good, result = self.connection.recv()
        except (EOFError, OSError) as error:
            raise InputError(
                f"looking at it ended the process that did so ({_limit()})",
                where=where,
                fix="Leave it out, or make it smaller",
            ) from error
        if good:
            return result
        raise result if isinstance(result, LampError) else ProjectError(str(result), where=where)

    def end(self) -> None:
        with contextlib.suppress(OSError):
            self.connection.close()
        self.process.kill()
        self.process.join(2)


_FREE: list[_Looker] = []
_LOCK = threading.Lock()
_TURN = threading.Semaphore(_MOST)


def ask(
    call: Callable[..., Any], *args: Any, where: str = "", seconds: float = SECONDS, progress: Progress = SILENT
) -> Any:
    """Call a function in a process of its own and return what it gives; any thread may ask.

    Parameters
    ----------
    call, args
        A function of a module with its arguments; they are sent to the process.
    where
        The file that is looked at, for messages.
    progress
        Is told a few times a second that the process is at work; may raise `Cancelled`, which ends it.

    Raises
    ------
    LampError
        What the function raises; also when the process dies or takes too long, naming the file.
    Cancelled
        When `progress` says so.
    """
    with _TURN:
        progress(0.0, where)
        with _LOCK:
            looker = _FREE.pop() if _FREE else None
        if looker is None or not looker.process.is_alive():
            looker = _Looker()
        try:
            result = looker.ask(call, args, where, seconds, progress)
        except LampError:
            if looker.process.is_alive() and not looker.connection.closed and not _waits(looker):
                _give_back(looker)
            else:
                looker.end()
            raise
        _give_back(looker)
        return result


def _waits(looker: _Looker) -> bool:
    """Whether a process is still at work on what it was asked: then it must end."""
    try:
        looker.connection.send(None)
        return not (looker.connection.poll(1.0) and looker.connection.recv() == "here")
    except (EOFError, OSError):
        return True


def _give_back(looker: _Looker) -> None:
    with _LOCK:
        _FREE.append(looker)


def _limit() -> str:
    return f"its limit of memory is {_SHARE * limits.allowed() / 1e9:,.1f} GB"


@atexit.register
def close() -> None:
    """End all processes."""
    with _LOCK:
        while _FREE:
            _FREE.pop().end()


def _serve(connection: Connection, variables: dict[str, str]) -> None:
    take_environment(variables)
    os.nice(5)
    limits.hold(_SHARE)
    while True:
        try:
            asked = connection.recv()
        except (EOFError, OSError):
            return
        if asked is None:
            connection.send("here")
            continue
        call, args = asked
        try:
            answer: tuple[bool, Any] = True, call(*args)
        except LampError as error:
            answer = False, error
        except MemoryError:
            answer = False, InputError(f"there is not enough memory to look at it ({_limit()})")
        except Exception as error:
            answer = False, f"it can't be looked at ({type(error).__name__})"
        try:
            connection.send(answer)
        except (TypeError, ValueError, AttributeError):
            connection.send((False, "what was found can't be told"))
