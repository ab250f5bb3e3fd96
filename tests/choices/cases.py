"""Every choice that an operation offers, as cases beside its example: one thing changed in each, or pairs of things.

Choices are each value of a `Literal`, each switch, each optional input there and absent, each number at its bounds, and
the same in the first row of a table. A new parameter is walked by being declared.
"""

from __future__ import annotations

import itertools
import typing
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

from innerlamp.core.declaring.operation import FieldInfo, Input, Operation, row_of
from innerlamp.core.project.records import Entry

from .tenth import tenth_of

# What makes examples small: the walk is about choices, not about size.
SMALL: dict[str, dict[str, Any]] = {
    "invert-magnetics": {"cell": 400.0, "cell_z": 200.0, "depth": 800.0, "iterations": 6},
    "invert-gravity": {"cell": 400.0, "cell_z": 200.0, "depth": 800.0, "iterations": 6},
    "invert-together": {"cell": 400.0, "cell_z": 200.0, "depth": 800.0, "iterations": 6},
    "regional-of-survey": {"cell": 500.0, "cell_z": 250.0, "depth": 1000.0},
    "build-units": {"cell": 100.0, "cell_z": 50.0, "step": 20.0},
    "unit-uncertainty": {"cell": 100.0, "cell_z": 50.0, "step": 20.0, "realisations": 2},
    "leave-holes-out": {"cell": 100.0, "cell_z": 50.0, "step": 20.0, "parts": 2},
    "grade-shell": {"cell": 25.0},
}
# Rows for tables that examples leave empty, so that what stands in their columns is walked as well.
ROWS: dict[tuple[str, str], list[dict[str, Any]]] = {
    ("invert-magnetics", "classes"): [{"value": 0.0}, {"value": 0.02}],
    ("invert-gravity", "classes"): [{"value": 0.0}, {"value": -0.05}],
}
# What a choice needs beside it, by parameter (or '@slot' of an input) and value.
COMPANIONS: dict[tuple[str, Any], dict[str, Any]] = {
    ("heights", "above ground"): {"height": 60.0},
    ("heights", "one elevation"): {"height": 900.0},
    ("levels", "given"): {"given": "10; 20; 40"},
    ("by", "rock"): {"code": "Rock"},
    ("whole", True): {"by": "rock", "code": "Rock"},
    ("shape", "note"): {"words": "Here"},
    ("@ground", None): {"flat": 0.0},
}


@dataclass(frozen=True)
class Case:
    """An operation with what differs from its example.

    Attributes
    ----------
    params, inputs
        Values by name; an input that is None is left out, one that is '' is any item that fits.
    bound
        Whether a number stands at its bound: that may be refused in a sentence, where a choice may not.
    """

    operation: str
    params: Mapping[str, Any] = field(default_factory=dict)
    inputs: Mapping[str, str | None] = field(default_factory=dict)
    bound: bool = False

    @property
    def label(self) -> str:
        told = [f"{k}={_short(v)}" for k, v in self.params.items()]
        told += [f"{'without ' if v is None else 'with '}{k}" for k, v in self.inputs.items()]
        return f"{self.operation}: {', '.join(told) or 'as its example'}"

    @property
    def tenth(self) -> int:
        """Which tenth of the walk it belongs to, the same in every run."""
        return tenth_of(self.label)


def _short(value: Any) -> str:
    if isinstance(value, list) and value and isinstance(value[0], dict):
        return "[" + " ".join(f"{k}:{v}" for k, v in value[0].items()) + "]"
    return str(value)[:60]


def options(kind: Any) -> tuple[Any, ...]:
    """All values of a choice or a switch, () for anything else."""
    while typing.get_origin(kind) is Annotated:
        kind = typing.get_args(kind)[0]
    if kind is bool:
        return (False, True)
    return typing.get_args(kind) if typing.get_origin(kind) is Literal else ()


def bounds(info: FieldInfo) -> tuple[Any, ...]:
    """The smallest and the largest number that a parameter takes, where they are declared."""
    whole = info.kind is int or "int" in str(info.kind)
    out: list[Any] = []
    if info.low is not None:
        out.append(int(info.low) if whole else float(info.low))
    if info.above is not None:
        out.append(int(info.above) + 1 if whole else float(info.above) + 1e-6 * max(abs(info.above), 1.0))
    if info.high is not None:
        out.append(int(info.high) if whole else float(info.high))
    return tuple(out)


def _rows(op: Operation, info: FieldInfo, base: Mapping[str, Any]) -> list[dict[str, Any]]:
    rows = list(base.get(info.name) or ())
    if not rows and (op.name, info.name) in ROWS:
        rows = list(ROWS[op.name, info.name])
    return [dict(r) if isinstance(r, Mapping) else dict(r.model_dump()) for r in rows if not isinstance(r, str)]


def small(op: Operation) -> dict[str, Any]:
    """What makes the example of an operation small."""
    return {k: v for k, v in SMALL.get(op.name, {}).items() if k in op.fields()}


def base_params(op: Operation) -> dict[str, Any]:
    """The parameters of an example, made small."""
    assert op.example is not None
    return {**op.example.params, **small(op)}


def accompanied(case: Case, op: Operation) -> dict[str, Any]:
    """What the choices of a case need beside them, where the operation has such a parameter."""
    chosen = [*case.params.items(), *((f"@{slot}", given) for slot, given in case.inputs.items())]
    out: dict[str, Any] = {}
    for name, value in chosen:
        if isinstance(value, str | bool | None):
            out |= COMPANIONS.get((name, value), {})
    return {name: value for name, value in out.items() if name in op.fields() and name not in case.params}


def cases(op: Operation) -> Iterator[Case]:
    """The example, and one case for each single choice beside it."""
    assert op.example is not None
    base = base_params(op)
    yield Case(op.name)
    for name, info in op.fields().items():
        for value in options(info.kind):
            if value != base.get(name, info.default):
                yield Case(op.name, {name: value})
        for value in bounds(info):
            if value != base.get(name, info.default):
                yield Case(op.name, {name: value}, bound=True)
        if info.editor == "table":
            yield from _of_rows(op, info, base)
    for slot in op.inputs:
        if slot.optional:
            yield Case(op.name, {}, {slot.slot: None if slot.slot in op.example.inputs else ""})


def _of_rows(op: Operation, info: FieldInfo, base: Mapping[str, Any]) -> Iterator[Case]:
    rows = _rows(op, info, base)
    if not rows:
        return
    if not base.get(info.name):
        yield Case(op.name, {info.name: rows})
    for name, column in info.columns.items():
        given = row_of(info.kind).model_fields[name].default
        for value in options(column.kind):
            if value != rows[0].get(name, given):
                yield Case(op.name, {info.name: [{**rows[0], name: value}, *rows[1:]]})


def choices_of(op: Operation) -> dict[str, list[Any]]:
    """All options that can be chosen beside each other, by parameter or input slot; inputs as '@slot'."""
    assert op.example is not None
    out = {name: list(options(info.kind)) for name, info in op.fields().items() if options(info.kind)}
    for slot in op.inputs:
        if slot.optional:
            out[f"@{slot.slot}"] = [None, op.example.inputs.get(slot.slot, "")]
    return out


def covering(values: Mapping[str, Sequence[Any]]) -> list[dict[str, Any]]:
    """Rows in which every pair of options of any two choices stands once at least (greedy, the order is fixed)."""
    names = list(values)
    left = {
        (a, i, b, j)
        for a, b in itertools.combinations(names, 2)
        for i in range(len(values[a]))
        for j in range(len(values[b]))
    }
    rows: list[dict[str, Any]] = []
    while left:
        a, i, b, j = min(left)
        row = {a: i, b: j}
        for name in names:
            if name in row:
                continue

            def gained(k: int, name: str = name, row: dict[str, int] = row) -> int:
                pairs = [
                    (x, row[x], name, k) if names.index(x) < names.index(name) else (name, k, x, row[x]) for x in row
                ]
                return sum(p in left for p in pairs)

            row[name] = max(range(len(values[name])), key=gained)
        for x, y in itertools.combinations(names, 2):
            left.discard((x, row[x], y, row[y]))
        rows.append({name: values[name][row[name]] for name in names})
    return rows


def pairs(op: Operation) -> list[Case]:
    """Cases in which every pair of choices of an operation stands once at least."""
    assert op.example is not None
    out = []
    base = base_params(op)
    for row in covering(choices_of(op)):
        params = {k: v for k, v in row.items() if not k.startswith("@") and v != base.get(k, op.fields()[k].default)}
        inputs = {k[1:]: v for k, v in row.items() if k.startswith("@")}
        told = {k: v for k, v in inputs.items() if v != op.example.inputs.get(k)}
        out.append(Case(op.name, params, {k: None if v is None else "" for k, v in told.items()}))
    return out


def fitting(slot: Input, entries: Sequence[Entry], taken: set[str], last: Callable[[Entry], bool]) -> str:
    """The first item that fits a slot and stands in no other, those that are `last` after the others; '' for none."""
    good = [e for e in entries if e.kind in slot.kinds and (slot.need is None or slot.need(e)) and e.id not in taken]
    return min(good, key=last).id if good else ""
