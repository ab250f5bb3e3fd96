"""Intercepts in the words in which they are reported: ``EMB-014: 12.4 m @ 0.83 % Sn from 143.0 m, including ...``."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace


@dataclass(frozen=True)
class Grade:
    """A mean grade: value, unit and what it is of."""

    value: float
    unit: str
    of: str


@dataclass(frozen=True)
class Reported:
    """One intercept: hole, start and length in metres, grades; those that it includes; its true thickness, NaN if unknown."""

    hole: str
    start: float
    length: float
    grades: tuple[Grade, ...]
    including: tuple[Reported, ...] = ()
    thickness: float = math.nan


def grade_words(value: float) -> str:
    """Return a grade with as many digits as reports give: three that count, and three decimals at most unless it is smaller."""
    if not math.isfinite(value):
        return "not analysed"
    if value == 0:
        return "0"
    if abs(value) < 0.0005:  # three decimals would say that there is none
        return f"{value:.{2 - math.floor(math.log10(abs(value)))}f}".rstrip("0")
    decimals = max(0, min(3, 2 - math.floor(math.log10(abs(value)))))
    if abs(value) < 10:  # two decimals from 0.1 on, as is usual
        decimals = min(decimals, 2) if abs(value) >= 0.1 else decimals
    return f"{value:.{decimals}f}"


def sentence(intercept: Reported) -> str:
    """Return an intercept with what it includes in the usual wording."""
    inner = [part(replace(each, thickness=math.nan)) for each in sorted(intercept.including, key=lambda e: e.start)]
    return f"{intercept.hole}: {part(intercept)}" + "".join(f", including {words}" for words in inner)


def part(intercept: Reported) -> str:
    """Return an intercept without its hole: ``12.4 m @ 0.83 % Sn from 143.0 m``."""
    grades = ", ".join(_grade(g) for g in intercept.grades)
    thick = f" (true thickness about {intercept.thickness:.1f} m)" if math.isfinite(intercept.thickness) else ""
    return f"{intercept.length:.1f} m @ {grades} from {intercept.start:.1f} m{thick}"


def _grade(grade: Grade) -> str:
    words = grade_words(grade.value)
    unit = f" {grade.unit}" if grade.unit and math.isfinite(grade.value) else ""
    return f"{words}{unit} {grade.of}"


def report(intercepts: Sequence[Reported]) -> str:
    """Return all intercepts, one a line."""
    return "\n".join(sentence(each) for each in intercepts)
