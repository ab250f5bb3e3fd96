"""Control samples of the laboratory: standards, blanks, duplicates and checks, read from a table of their own."""

from __future__ import annotations

from collections.abc import Mapping

import pandas as pd

from ..findings import Findings
from ..formats.tables import dates, tables_in
from .detection import CellRules
from .reading import attributes, mapped

# The first letters of what laboratories write for each kind; common practice, no source.
_KINDS = (
    ("standard", ("standard", "std", "crm", "reference", "srm")),
    ("blank", ("blank", "blk", "bl")),
    ("duplicate", ("duplicate", "dup", "repeat", "rep", "check", "field dup", "replicate", "fd", "pd")),
)


def kind_of(text: str) -> str:
    """Return standard, blank or duplicate for what a table says; '' for what is none of them."""
    word = text.strip().lower()
    return next((kind for kind, starts in _KINDS if any(word.startswith(s) for s in starts)), "")


def read_controls(file: str, mapping: Mapping[str, str], rules: CellRules, found: Findings) -> pd.DataFrame:
    """Return control samples: sample, type, standard, original, batch, date, line and the grades; empty without a file."""
    if not file:
        return pd.DataFrame()
    raw = tables_in.read(file, found, "controls")
    role = mapped(raw, "controls", mapping)

    def text(name: str) -> pd.Series:
        if name not in role:
            return pd.Series([""] * len(raw.line), dtype="object")
        return raw.text(role[name]).fillna("").astype(str).str.strip()

    said = text("type")
    kinds = [kind_of(t) for t in said]
    strange = [k for k, kind in enumerate(kinds) if not kind]
    if strange:
        found.add(
            "look",
            [f"'{said[k]}' is not a kind of control sample" for k in strange],
            "kept, not judged",
            file=raw.file,
            table="controls",
            line=raw.line[strange],
        )
    out = pd.DataFrame(
        {
            "sample": text("sample"),
            "type": kinds,
            "standard": text("standard"),
            "original": text("original"),
            "batch": text("batch"),
        }
    )
    out["date"] = (
        dates.read_dates(text("date").tolist(), raw.line, found, raw.file, "controls") if "date" in role else ""
    )
    rest, _ = attributes(raw, set(role.values()), rules, found, "controls")
    out["line"] = raw.line
    return pd.concat([out, rest], axis=1)
