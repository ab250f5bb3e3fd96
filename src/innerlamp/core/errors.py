"""The few ways in which Inner Lamp says no.

Every error carries what is wrong, where, and what to do about it, so that the window and the
command line can show one clear sentence without knowing the details.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from .shown import clipped, one_line

# Letters of a message: what a file holds may be long, what is said of it must not be.
_MOST, _MOST_WHAT, _MOST_WHERE, _LEAST_FIX = 298, 170, 80, 46


class LampError(Exception):
    """Base of all errors that a user is meant to read.

    Parameters
    ----------
    what
        What is wrong, as a sentence without its full stop.
    where
        File, line, item or parameter concerned; empty when there is none.
    fix
        What the user can do about it; empty when nothing helps.
    """

    def __init__(self, what: str, where: str = "", fix: str = "") -> None:
        super().__init__(what)
        self.what, self.where, self.fix = what, where, fix

    def __str__(self) -> str:
        what = clipped(one_line(self.what), _MOST_WHAT)
        where = one_line(self.where)
        where = where if len(where) <= _MOST_WHERE else "…" + where[1 - _MOST_WHERE :]  # the end of a path tells most
        text = (f"{where}: {what}" if where else what).rstrip(". ") + "."
        if self.fix:
            text += " " + clipped(one_line(self.fix).rstrip(". "), max(_MOST - len(text) - 2, _LEAST_FIX)) + "."
        return text

    def __reduce__(self) -> tuple[type[LampError], tuple[str, str, str]]:
        return (type(self), (self.what, self.where, self.fix))


class InputError(LampError):
    """A file, value or combination of values that can't be used."""


class UnitError(LampError):
    """A unit that is unknown or does not fit."""


class CrsError(LampError):
    """A coordinate reference system that is missing, unknown or of the wrong kind."""


class ConvergenceError(LampError):
    """A computation that did not reach a usable answer."""


class ProjectError(LampError):
    """A project folder that can't be read or written as asked."""


class Cancelled(LampError):
    """The user asked to stop."""

    def __init__(self, what: str = "Stopped on request", where: str = "", fix: str = "") -> None:
        super().__init__(what, where, fix)


@contextlib.contextmanager
def refused(words: str, where: str) -> Iterator[None]:
    """Turn whatever a damaged file leads a reader into a sentence.

    Raises
    ------
    InputError
        In place of anything that is not already a `LampError`.
    """
    try:
        yield
    except LampError:
        raise
    except Exception as error:
        raise InputError(f"{words} ({error})", where=where) from error
