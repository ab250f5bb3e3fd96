"""The words of a declaration: what the command line and the documentation say of an operation."""

from __future__ import annotations

import inspect

from ..declaring.operation import Operation


def describe(op: Operation) -> str:
    """Return the parameters of an operation as text, for the command line and the documentation."""
    lines = [f"{op.name} · {op.title} ({op.area})", "", inspect.cleandoc(op.help), ""]
    if op.inputs:
        lines.append("Inputs (name or id of an item):")
        for slot in op.inputs:
            lines.append(f"  {slot.slot:<14} {slot.label}{' (optional)' if slot.optional else ''}")
    lines.append("Parameters:")
    for name, info in op.fields().items():
        default = (
            "needed"
            if info.required
            else f"default {info.default!r}"
            if info.default not in ("", None, ())
            else "default: none"
        )
        options = getattr(info.kind, "__args__", ())
        choice = (
            " | ".join(map(str, options)) if options and all(isinstance(o, str) for o in options) else info.bounds_text
        )
        unit = f" ({info.unit})" if info.unit else ""
        lines.append(f"  {name:<14} {info.label}{unit}; {'; '.join(t for t in (choice, default) if t)}")
        if info.columns:
            inside = ", ".join(f"{c} ({i.label}{f', {i.unit}' if i.unit else ''})" for c, i in info.columns.items())
            lines.append(f"  {'':<14}   rows parted by ';', cells by ',': {inside}")
        if info.help:
            lines.append(f"  {'':<14}   {info.help}")
    lines.append("Makes:")
    lines += [f"  {out.slot:<14} {out.label}{f' ({out.kind})' if out.kind else ''}" for out in op.outputs]
    return "\n".join(lines)
