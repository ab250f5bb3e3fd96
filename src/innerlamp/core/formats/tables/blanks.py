"""Text tables without a delimiter: cells parted by runs of blanks, or standing in fixed columns."""

from __future__ import annotations

import itertools
from pathlib import Path

import numpy as np
import pyarrow as pa

from ...findings import Findings
from .heading_rows import find_heading
from .rawtable import Layout, RawTable, decimal_comma, unique

_LOOKED_AT = 200


def look(lines: list[str], encoding: str, name: str) -> Layout | None:
    """Return how lines are laid out, None when they are no such table.

    Cells are parted by blanks when every line then has as many; otherwise columns of characters
    that are blank in all lines part them, so that empty cells keep their place.
    """
    lines = [line.expandtabs(8).rstrip() for line in lines[:_LOOKED_AT]]
    filled = [line for line in lines if line.strip()]
    if len(filled) < 2:
        return None
    counts = [len(line.split()) for line in filled]
    width = int(np.median(counts))
    if width >= 2 and np.mean(np.array(counts) == width) >= 0.7:
        rows = [line.split() for line in lines]
        heading = find_heading(rows, width, name)
        return Layout(
            " ",
            encoding,
            heading.last + 1,
            heading.names,
            decimal_comma(c for row in rows[heading.last + 1 :] for c in row),
            units=heading.units,
        )
    edges = _edges(filled)
    if len(edges) < 2:
        return None
    rows = [_cells(line, edges) for line in lines]
    heading = find_heading(rows, int(np.median([sum(bool(c) for c in row) for row in rows if any(row)])), name)
    # Where the heading has no name, words of one cell happen to stand below each other.
    edges = tuple(edge for edge, title in zip(edges, rows[heading.last], strict=True) if title)
    names = unique(_cells(lines[heading.last], edges))
    return Layout(
        "",
        encoding,
        heading.last + 1,
        names,
        decimal_comma(c for row in rows[heading.last + 1 :] for c in row),
        edges=edges,
    )


def _edges(lines: list[str]) -> tuple[int, ...]:
    long = max(len(line) for line in lines)
    blank = np.ones(long, dtype=bool)
    for line in lines:
        blank[: len(line)] &= np.array([c == " " for c in line])
    ink = np.flatnonzero(~blank)
    starts = ink[np.concatenate([[True], np.diff(ink) > 1])] if len(ink) else ink
    return tuple(int(v) for v in starts)


def _cells(line: str, edges: tuple[int, ...]) -> list[str]:
    return [line[a:b].strip() for a, b in itertools.pairwise((*edges, None))]


def cells(line: str, layout: Layout) -> list[str]:
    """Return the cells of one line."""
    text = line.rstrip("\r\n").expandtabs(8)
    return _cells(text, layout.edges) if layout.edges else text.split()


def read(path: Path, found: Findings, table: str, layout: Layout) -> RawTable:
    """Read all rows; rows with another number of cells are reported and left out."""
    columns: list[list[str]] = [[] for _ in layout.columns]
    numbers: list[int] = []
    with path.open(encoding="utf-8-sig" if layout.encoding == "utf8" else layout.encoding, errors="replace") as handle:
        for number, line in enumerate(handle, start=1):
            if number <= layout.header_line or not line.strip():
                continue
            row = cells(line, layout)
            if len(row) != len(columns):
                what = f"{len(row)} cells where the heading has {len(columns)}"
                found.add("left out", what, "row left out", file=path.name, table=table, line=number)
                continue
            numbers.append(number)
            for column, cell in zip(columns, row, strict=True):
                column.append(cell)
    data = {name: pa.array(column, pa.string()) for name, column in zip(layout.columns, columns, strict=True)}
    return RawTable(path, layout, pa.table(data), np.array(numbers, dtype=np.int64))
