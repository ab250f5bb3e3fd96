"""The words of a declaration: what the command line and the documentation say of an operation."""

from __future__ import annotations

import inspect
import json
import shlex

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
    if op.example is not None:
        lines += ["An example, as it runs on the demo project:", f"  {example_command(op)}"]
        if op.example.after:
            lines.append(f"  where @ stands for what was made before by {', '.join(op.example.after)}")
    return "\n".join(lines)


def example_command(op: Operation) -> str:
    """Return the whole line of a shell that runs an operation's example."""
    words = ["inner-lamp", "apply", "Emberlow.lamp", op.name]
    if op.example is not None:
        for slot, chosen in op.example.inputs.items():
            words.append(f"{slot}={chosen if isinstance(chosen, str) else '; '.join(chosen)}")
        for name, value in op.example.params.items():
            plain = isinstance(value, str | int | float) and not isinstance(value, bool)
            words.append(f"{name}={value if plain else json.dumps(value, ensure_ascii=False)}")
    return shlex.join(words)
