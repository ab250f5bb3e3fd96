"""Units of one hole tied to those of the next: which contacts stand for each other."""

from __future__ import annotations

from collections.abc import Sequence

MOST_RUNS = 2000
_FAR = 0.9  # of a tie's worth is lost when its ends lie as far apart as the holes are deep


def tied(first: Sequence[tuple[str, float]], second: Sequence[tuple[str, float]]) -> list[tuple[int, int]]:
    """Return pairs of numbers of runs of the same unit in two holes, from the top down, none crossing another.

    The best alignment of two sequences by dynamic programming (Needleman & Wunsch 1970):
    as many ties as can be, and those that lie at near depths rather than far ones. A run is its unit and the depth (or
    any other level) of its top in metres; one without a name ties nothing. At most 2,000 runs of each hole are held
    against each other.
    """
    a, b = list(first)[:MOST_RUNS], list(second)[:MOST_RUNS]
    levels = [level for _, level in (*a, *b)]
    reach = max(max(levels, default=1.0) - min(levels, default=0.0), 1e-9)
    best = [[0.0] * (len(b) + 1) for _ in range(len(a) + 1)]

    def worth(i: int, j: int) -> float:
        same = a[i][0] == b[j][0] and a[i][0] != ""
        return 1.0 - _FAR * abs(a[i][1] - b[j][1]) / reach if same else -1.0

    for i in range(len(a) - 1, -1, -1):
        row, below = best[i], best[i + 1]
        for j in range(len(b) - 1, -1, -1):
            row[j] = max(below[j], row[j + 1], below[j + 1] + worth(i, j))
    out = []
    i = j = 0
    while i < len(a) and j < len(b):
        if worth(i, j) > 0 and best[i][j] == best[i + 1][j + 1] + worth(i, j):
            out.append((i, j))
            i, j = i + 1, j + 1
        elif best[i + 1][j] >= best[i][j + 1]:
            i += 1
        else:
            j += 1
    return out
