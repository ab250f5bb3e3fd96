"""Numbers as people type them, and round ones."""

from __future__ import annotations

import math
import re

from .errors import InputError

_SPACES = re.compile(r"[\s\u00a0\u2007\u2009\u202f'’]")


def parse_number(text: str, what: str = "") -> float:
    """Return a number typed with a decimal point or comma, with or without blanks between thousands.

    Where a text has both a point and a comma the last of them is the decimal sign. A lone comma is
    one as well: ``1,234`` is a little more than one.

    Raises
    ------
    InputError
        When it is none, or is not finite; `what` names it.
    """
    plain = _SPACES.sub("", text).replace("\u2212", "-")
    if "," in plain and "." in plain:
        thousands = "," if plain.rindex(".") > plain.rindex(",") else "."
        plain = plain.replace(thousands, "")
    plain = plain.replace(",", ".")
    try:
        value = float(plain)
    except ValueError:
        value = math.nan
    if not math.isfinite(value) or "_" in plain:
        raise InputError(f"'{text.strip()}' is not a number", where=what, fix="For example 12.5")
    return value


def number_or_none(text: str) -> float | None:
    """Return the number that a text is, None when it is none (an empty one as well)."""
    try:
        return parse_number(text)
    except InputError:
        return None


def parse_numbers(text: str) -> list[float]:
    """Return the numbers of a list parted by semicolons.

    Raises
    ------
    InputError
        When one of them is none.
    """
    try:
        return [parse_number(part) for part in text.split(";") if part.strip()]
    except InputError as error:
        raise InputError(f"'{text.strip()}' is not a list of numbers", fix="Write for example 5; 20; 100") from error


def round_length(longest: float) -> float:
    """Return the largest of 1, 2, 5 times a power of ten that is not longer than `longest`."""
    if not math.isfinite(longest) or longest <= 0:
        return 1.0
    power = 10.0 ** math.floor(math.log10(longest))
    return max((m * power for m in (1, 2, 5) if m * power <= longest), default=power)
