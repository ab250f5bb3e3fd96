"""Units of grades that no heading says: in a column of their own, in the cells, or nowhere."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

import numpy as np
import pandas as pd
import pyarrow as pa

from ..elements import letters_of, measured
from ..findings import Findings
from ..formats.tables import rawtable
from ..formats.tables.rawtable import NO_VALUE, RawTable
from ..numbers import number_or_none
from ..units import OF_A_TON, factor, unit_alone
from .detection import GRADES

_UNIT_WORDS = re.compile(
    r"^(units?|uom|unitofmeasure|unidad(es)?|unites?|unidades?|einheit(en)?|yksikko|yksikot|enhet(er)?)$"
)
_CELL = re.compile(r"^\s*([<>≤≥]?\s*-?[\d.,]+(?:[eE][-+]?\d+)?)\s*([a-zA-Zµ%][\wµ%/. ]*)\s*$")


def with_units(raw: RawTable, used: set[str], found: Findings, table: str) -> tuple[RawTable, dict[str, str]]:
    """Return a table whose elements have one unit each, and those units by column where the headings say none.

    A column of units holds for the element whose name it has as well ("Au", "Au unit"), or for all that have none. Cells
    with their unit behind the number are brought to the commonest unit of their column. What names an element and has no
    unit at all is a finding: it is a number, and no grade.
    """
    free = [c for c in raw.layout.columns if c not in used]
    elements = [
        c
        for c in free
        if not _ends_as_unit(c) and (told := measured(c, raw.layout.unit_of(c))) is not None and not told.unit
    ]
    made: dict[str, pa.Array] = {}
    units: dict[str, str] = {}
    for column in elements:
        of_rows = _unit_column(raw, column, free, elements)
        if not of_rows and not _has_units(raw, column):
            continue
        texts = _texts(raw, column)
        if of_rows:
            own = [unit_alone(t) for t in _texts(raw, of_rows)]
            said = f"units stand in column '{of_rows}'"
        else:
            texts, own = _in_cells(texts, raw.layout.unit_of(column))
            said = "units stand in the cells"
        counts = Counter(
            u for u, t in zip(own, texts, strict=True) if u in GRADES and t.strip().lower() not in NO_VALUE
        )
        if not counts:
            continue
        main = counts.most_common(1)[0][0]
        lost = [
            k
            for k, (u, t) in enumerate(zip(own, texts, strict=True))
            if u not in GRADES and t.strip().lower() not in NO_VALUE
        ]
        made[column] = pa.array(
            [
                _times(t, u, main, raw.layout.decimal_comma) if u in GRADES else ""
                for t, u in zip(texts, own, strict=True)
            ],
            pa.string(),
        )
        units[column] = main
        others = ", ".join(f"{n} in {u} × {factor(u, main):g}" for u, n in counts.most_common() if u != main)
        found.add(
            "mended" if others else "note",
            f"{column}: {said}",
            f"all in {main}" + (f" ({others})" if others else ""),
            file=raw.file,
            table=table,
        )
        if lost:
            what = [f"{column} '{texts[k].strip()}' has no unit that is known" for k in lost]
            found.add("look", what, "left empty", file=raw.file, table=table, line=raw.line[lost])
    if made:
        cells = raw.cells
        for column, values in made.items():
            cells = cells.set_column(cells.column_names.index(column), column, values)
        raw = RawTable(raw.path, raw.layout, cells, raw.line)
    _say_lacking(raw, [c for c in elements if c not in units], free, found, table)
    for column in free:
        unit = units.get(column) or raw.layout.unit_of(column)
        if unit in OF_A_TON:
            grams = factor(unit, "g/t")
            found.add(
                "look",
                f"{column} is in {unit}, and a ton may be short, long or metric",
                f"read as of a short ton ({grams:.4f} g/t); write {unit[:-1]}st, {unit[:-1]}lt or {unit[:-1]}tonne where it is another",
                file=raw.file,
                table=table,
            )
    return raw, units


def has_unit(text: str) -> bool:
    """Whether a cell is a number with the unit of a grade behind it."""
    found = _CELL.match(text)
    return found is not None and unit_alone(found.group(2)) in GRADES


def _ends_as_unit(heading: str) -> bool:
    """Whether a heading names a column of units: its last word is one for them."""
    words = re.findall(r"[a-z0-9]+", letters_of(heading))
    return bool(words) and _UNIT_WORDS.match(words[-1]) is not None


def _texts(raw: RawTable, column: str) -> list[str]:
    return raw.text(column).fillna("").astype(str).tolist()


def _unit_column(raw: RawTable, column: str, free: Sequence[str], elements: Sequence[str]) -> str:
    """The column that says the unit of each row of an element; '' for none."""
    name = re.sub(r"[^a-z0-9]", "", letters_of(column))
    whole = ""
    for other in free:
        if other in elements:
            continue
        bare = re.sub(r"[^a-z0-9]", "", letters_of(other))
        mine = bare.startswith(name) and _UNIT_WORDS.match(bare[len(name) :]) is not None
        if not mine and not _UNIT_WORDS.match(bare):
            continue
        words = [t for t in pd.unique(pd.Series(_texts(raw, other))) if t.strip().lower() not in NO_VALUE]
        if words and sum(unit_alone(w) in GRADES for w in words) > 0.5 * len(words):
            if mine:
                return other
            whole = other
    return whole


def _has_units(raw: RawTable, column: str) -> bool:
    """Whether a cell of a column has a unit behind its number; a text that repeats is looked at once."""
    cells = raw.cells.column(column)
    return pa.types.is_string(cells.type) and any(has_unit(str(w)) for w in rawtable.words_of(cells)[1].to_pylist())


def _in_cells(texts: Sequence[str], usual: str) -> tuple[list[str], list[str]]:
    """Numbers of cells, and the unit behind each; `usual` where none stands."""
    known: dict[str, tuple[str, str]] = {}
    for text in set(texts):
        found = _CELL.match(text)
        unit = unit_alone(found.group(2)) if found else ""
        known[text] = (found.group(1), unit) if found and unit in GRADES else (text, usual)
    return [known[t][0] for t in texts], [known[t][1] for t in texts]


def _times(text: str, unit: str, main: str, comma: bool) -> str:
    """A cell in another unit; what is below or above a limit stays so."""
    if unit == main or text.strip().lower() in NO_VALUE:
        return text
    sign = re.match(r"\s*([<>≤≥]?)\s*", text)
    head = sign.group(1) if sign else ""
    bare = text[sign.end() :] if sign else text
    value = number_or_none(bare.replace(".", "").replace(",", ".") if comma else bare)
    if value is None or not np.isfinite(value):
        return text
    told = repr(round(value * factor(unit, main), 12))
    return head + (told.replace(".", ",") if comma else told)


def _say_lacking(raw: RawTable, lacking: Sequence[str], free: Sequence[str], found: Findings, table: str) -> None:
    """Say which columns name an element and have no unit, where the table has grades: a symbol of one letter is not enough alone."""
    graded = any(raw.layout.unit_of(c) in GRADES for c in free)
    for column in lacking:
        told = measured(column)
        sure = graded or len(lacking) > 1 or (told is not None and len(told.element) > 1)
        values, odd = rawtable.numbers(raw.cells.column(column), raw.layout.decimal_comma)
        if not sure or int(np.isfinite(values).sum()) <= int(odd.sum()):
            continue
        found.add(
            "left out",
            f"{column} names an element and no unit",
            "kept as a number: no grade; write its unit into the heading, such as "
            f"'{column}_ppm', or beside it in a column 'unit'",
            file=raw.file,
            table=table,
        )
