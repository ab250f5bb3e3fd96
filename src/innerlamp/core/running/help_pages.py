"""Pages of help: the guide, and one for each operation made from its declaration."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ..declaring.operation import FieldInfo, Operation
from .groups import group_of
from .methods import METHODS
from .table import OPERATIONS

GUIDE = Path(__file__).parents[2] / "guide"


@dataclass(frozen=True)
class HelpPage:
    """A page: its title, where it belongs, and its text in Markdown."""

    key: str
    title: str
    where: str
    text: str


def guide_pages() -> list[HelpPage]:
    """Return the pages of the guide that ships with the program, by the order of their names."""
    out = []
    for path in sorted(GUIDE.glob("*.md")):
        text = path.read_text(encoding="utf-8")
        out.append(HelpPage(path.stem, text.splitlines()[0].lstrip("# "), "Guide", text))
    return out


def operation_page(op: Operation) -> HelpPage:
    """Return the page of an operation: what it does and how, what it needs and gives, every parameter."""
    area, group = group_of(op.name)
    lines = [f"# {op.title}", "", f"*{area} · {group}*", "", op.help, ""]
    if op.name in METHODS:
        lines += ["## Method", "", METHODS[op.name], ""]
    if op.inputs:
        lines += ["## Needs", ""]
        for slot in op.inputs:
            also = " (optional)" if slot.optional else ""
            lines.append(f"- **{slot.label}**{also}: {', '.join(slot.kinds)}{'. ' + slot.help if slot.help else ''}")
        lines.append("")
    gives = ", ".join(o.label for o in op.outputs)
    changes = " The item is changed: its earlier version stays, and undo brings it back." if op.replaces else ""
    lines += ["## Gives", "", f"{gives}.{changes}", "", "## Parameters", ""]
    for name, info in op.fields().items():
        lines += _parameter(name, info)
    slots = " ".join(f"{s.slot}=ITEM" for s in op.inputs if not s.optional)
    needed = " ".join(f"{n}=VALUE" for n, i in op.fields().items() if i.required)
    words = " ".join(w for w in (slots, needed) if w)
    lines += ["", "## On the command line", "", f"    inner-lamp apply PROJECT {op.name} {words}", ""]
    return HelpPage(op.name, op.title, f"{area} · {group}", "\n".join(lines))


def _parameter(name: str, info: FieldInfo) -> list[str]:
    unit = f" ({info.unit})" if info.unit else ""
    default = "needed" if info.required else f"{info.default}" if info.default not in ("", (), {}, None) else "empty"
    bounds = f"; allowed: {info.bounds_text}" if info.bounds_text else ""
    return [f"- **{info.label}**{unit} `{name}`: {info.help or '—'} *({default}{bounds})*"]


def marks_page() -> HelpPage:
    """Return what the marks and signs of the window mean."""
    rows = [
        ("·", "a step that made nothing yet"),
        ("○", "a step that lacks an input; the line below says which"),
        ("✓", "a step that made something; its last item stands below"),
        ("◐", "what it made is stale: something that it was made from has changed"),
        ("☀ lit / ○ dim", "the lamp of an item: lit items are drawn in every pane"),
        ("behind (held)", "a held item is never made again by itself"),
        ("⋯", "tools of a pane that have no room in its head"),
        ("⤢", "fill the centre with one pane, and back"),
        ("✓ ✗ – ?", "a file that came in, failed, is left out, or waits for an answer"),
    ]
    text = "# What the marks mean\n\n" + "\n".join(f"- **{sign}** {words}" for sign, words in rows) + "\n"
    return HelpPage("marks", "What the marks mean", "Guide", text)


def pages() -> list[HelpPage]:
    """Return all pages: the guide first, then operations in working order."""
    return [*guide_pages(), marks_page(), *(operation_page(op) for op in OPERATIONS.values())]


def found(all_pages: list[HelpPage], text: str, also: dict[str, str]) -> list[HelpPage]:
    """Return the pages that have all words of a text: those with them in the title first. `also` are further words by key."""
    wanted = text.lower().split()
    title = [p for p in all_pages if all(w in p.title.lower() for w in wanted)]
    known = [
        p for p in all_pages if p not in title and all(w in f"{p.title} {also.get(p.key, '')}".lower() for w in wanted)
    ]
    inside = [p for p in all_pages if p not in title and p not in known and all(w in p.text.lower() for w in wanted)]
    return [*title, *known, *inside]


def whole_guide() -> dict[str, str]:
    """Return the files of the guide as they stand in the repository's docs: its pages, and all operations as one."""
    out = {f"{page.key}.md": page.text for page in guide_pages()}
    parts = [
        page.text.replace("\n## ", "\n### ").replace("# ", "## ", 1)
        for page in map(operation_page, OPERATIONS.values())
    ]
    out["operations.md"] = "# Operations\n\nMade from their declarations by `make guide`.\n\n" + "\n".join(parts)
    return out


if __name__ == "__main__":
    import shutil
    import sys

    for name, text in whole_guide().items():
        (Path(sys.argv[1]) / name).write_text(text, encoding="utf-8")
    shutil.copytree(GUIDE / "pictures", Path(sys.argv[1]) / "pictures", dirs_exist_ok=True)
