"""What file names of core pictures tell: hole, from and to, as in ``EMB014_143.0-147.5.jpg`` or ``EMB-14 box 12 40,5 to 45``."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable

_NUMBER = re.compile(r"(?<![\d.,])\d+(?:[.,]\d+)?(?![\d]|[.,]\d)")


def hole_pattern(hole: str) -> re.Pattern[str]:
    """Return what finds a hole's name in a file name: blanks, dots, dashes and underscores between its parts do not count."""
    parts = re.findall(r"[^\W\d_]+|\d+", hole)
    inside = r"[\s._-]*".join(re.escape(p) for p in parts) or re.escape(hole)
    return re.compile(rf"(?<![^\W_]){inside}(?![^\W_])", re.IGNORECASE)


def names_depths(stem: str) -> bool:
    """Return whether a file name looks like that of a core picture: a name with a number, then from and to in metres."""
    found = re.match(r"[\s_]*[^\W\d_]+[\s._-]*\d+", stem)
    return found is not None and Names([found.group(0)]).read(stem) is not None


class Names:
    """Reads file names against the holes that there are."""

    def __init__(self, holes: Iterable[str]) -> None:
        self._holes = [(h, hole_pattern(h)) for h in sorted(holes, key=len, reverse=True)]

    def read(self, stem: str) -> tuple[str, float, float] | None:
        """Return hole, from and to of a file name without its ending; None where one of them is not told.

        The depths are the last two numbers, after the hole's name, of which the first is the smaller one.
        """
        for hole, pattern in self._holes:
            found = pattern.search(stem)
            if found is None:
                continue
            numbers = [float(n.replace(",", ".")) for n in _NUMBER.findall(stem[found.end() :])]
            pairs = [(a, b) for a, b in itertools.pairwise(numbers) if a < b]
            return (hole, *pairs[-1]) if pairs else None
        return None
