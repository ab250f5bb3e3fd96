"""A short view of a project for notebooks, as HTML; items have their own."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape

from ..core.items.base import html_table
from ..core.items.kinds import KINDS
from ..core.project.records import Entry


def project_html(name: str, crs: str, entries: Sequence[Entry], states: Mapping[str, str]) -> str:
    """Items of a project: name, kind, whether they are fresh, and the attributes with their units."""
    rows = []
    for entry in entries:
        title = KINDS[entry.kind].title if entry.kind in KINDS else entry.kind
        named = [f"{n} ({a.unit})" if a.unit else n for n, a in entry.attributes.items()]
        more = ", …" if len(named) > 6 else ""
        rows.append((entry.name, title, states.get(entry.id, ""), ", ".join(named[:6]) + more))
    table = html_table(rows, [("Item", "Kind", "State", "Attributes")])
    return f"<div><b>{escape(name)}</b> {escape(crs)}, {len(rows)} items{table}</div>"
