"""How an operation is declared: one record from which form, command line, API and recipe come."""

from __future__ import annotations

import typing
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal, TypeVar, overload

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, model_validator

from ..errors import InputError
from ..geometry.mesh import Mesh
from ..items.attributes import is_ground, orientation
from ..items.base import Item
from ..progress import Progress

Area = Literal["Data", "Maps", "Drilling", "Geophysics", "Geology", "Targets"]
AREAS: tuple[Area, ...] = ("Data", "Maps", "Drilling", "Geophysics", "Geology", "Targets")
Editor = Literal[
    "", "file", "files", "attribute", "mapping", "date", "crs", "lines", "picks", "rows", "code", "table", "area"
]


class Params(BaseModel):
    """Base of all parameter sets: unknown names are refused, values are checked."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    @model_validator(mode="before")
    @classmethod
    def _tables_of_texts(cls, values: Any) -> Any:
        """Read tables that were typed as text, as on the command line."""
        if not isinstance(values, dict):
            return values
        out = dict(values)
        for name, info in cls.model_fields.items():
            if isinstance(out.get(name), str) and (info.json_schema_extra or {}).get("editor") == "table":  # type: ignore[union-attr]
                out[name] = rows_of_text(out[name], list(row_of(info.annotation).model_fields))
        return out


class Row(Params):
    """Base of one row of a parameter that is a table; its columns are declared by `param` as parameters are."""


def parted(value: Any) -> Any:
    """Return the parts of a text that parts its values by semicolons; what is a list already stays one."""
    return tuple(part.strip() for part in value.split(";") if part.strip()) if isinstance(value, str) else value


def places(value: Any) -> Any:
    """Return places of a text such as ``503600 5602300; 503700 5602400``; what is a list already stays one."""
    if not isinstance(value, str):
        return value
    return tuple(tuple(part.replace(",", " ").split()) for part in value.split(";") if part.strip())


def whole(value: Any) -> Any:
    """Return a whole number that was typed as text as a number; what is none is left for the check to refuse."""
    return int(value) if isinstance(value, str) and value.strip().isdigit() else value


def given(value: Any) -> Any:
    """Return None for an empty text: a number that need not be given."""
    return None if isinstance(value, str) and not value.strip() else value


Maybe = Annotated[float | None, BeforeValidator(given)]
_LONGEST = 1e8  # metres
Several = Annotated[tuple[str, ...], BeforeValidator(parted)]
Places = Annotated[tuple[tuple[float, float], ...], BeforeValidator(places)]
Whole = Annotated[int, BeforeValidator(whole)]


def row_of(kind: Any) -> type[Row]:
    """Return what the rows of a table are, from the type of the parameter (``tuple[SomeRow, ...]``)."""
    found = typing.get_args(kind)[0]
    if not (isinstance(found, type) and issubclass(found, Row)):
        raise TypeError("a table of parameters is declared as tuple[SomeRow, ...]")
    return found


def rows_of_text(text: str, columns: Sequence[str]) -> list[dict[str, str]]:
    """Return the rows of a table written as text: rows parted by semicolons, cells by commas, in the order of its columns.

    Raises
    ------
    InputError
        When a row has more cells than there are columns.
    """
    out = []
    for number, line in enumerate(parted(text), start=1):
        cells = [cell.strip() for cell in line.split(",")]
        if len(cells) > len(columns):
            raise InputError(f"row {number} has {len(cells)} cells", fix=f"The columns are: {', '.join(columns)}")
        out.append({name: cell for name, cell in zip(columns, cells, strict=False) if cell})
    return out


def param(
    default: Any,
    label: str,
    *,
    unit: str = "",
    help: str = "",
    low: float | None = None,
    high: float | None = None,
    above: float | None = None,
    editor: Editor = "",
    of: str = "",
    more: bool = False,
) -> Any:
    """Declare one parameter.

    Parameters
    ----------
    default
        Value when nothing is given; ``...`` makes it required.
    label, unit, help
        What people read. The unit is written after the label.
    low, high, above
        Bounds (inclusive; `above` exclusive).
    editor
        ``file`` for a path, ``attribute`` for a column of the input slot `of` (``code`` for one of texts),
        ``table`` for rows (``tuple[SomeRow, ...]``).
    more
        Whether the form keeps it under "more".
    """
    extra: dict[str, Any] = {"unit": unit, "editor": editor, "of": of, "more": more}
    return Field(default, title=label, description=help, ge=low, le=high, gt=above, json_schema_extra=extra)


@dataclass(frozen=True)
class Input:
    """An input slot: which kinds of items fit; `need` narrows it further; `proposed` fills it in forms unasked.

    A slot that takes `many` gets any number of items, in the order in which they were named.
    """

    slot: str
    label: str
    kinds: tuple[str, ...]
    optional: bool = False
    help: str = ""
    need: Callable[[Any], bool] | None = None
    proposed: bool = True
    many: bool = False


def ground_slot(help: str = "", optional: bool = True) -> Input:
    """Return the input slot of a ground surface: a grid of elevations."""
    return Input(
        "ground", "Ground surface", ("grid",), optional=optional, need=lambda e: is_ground(e.attributes), help=help
    )


def structures_slot(help: str) -> Input:
    """Return the input slot of structural readings: points with dip and dip direction."""
    return Input(
        "structures",
        "Structural readings",
        ("points",),
        optional=True,
        proposed=False,
        need=lambda e: orientation(e.attributes) is not None,
        help=help,
    )


@dataclass(frozen=True)
class Output:
    """An output slot and the kind of item that it gives; '' for that of the item it replaces."""

    slot: str
    kind: str
    label: str


@dataclass(frozen=True, eq=False)
class Sketch:
    """What a run would work on, for panes to show while its form is open: cells, and places (n, 3) in metres."""

    mesh: Mesh
    places: np.ndarray


@dataclass(frozen=True)
class Cost:
    """What a run will take, said before it runs; `notes` are what a look at the input found, with what will be done.

    `contacts` are pairs of units that touch in holes: younger, older, how often, the unit whose surface they feed.
    """

    text: str
    megabytes: float = 0.0
    seconds: float = 0.0
    notes: tuple[str, ...] = ()
    sketch: Sketch | None = None
    contacts: tuple[tuple[str, str, int, str], ...] = ()


I = TypeVar("I", bound=Item)  # noqa: E741 - an item
J = TypeVar("J", bound=Item)
K = TypeVar("K", bound=Item)


class Inputs(dict[str, Item]):
    """Items by input slot; also knows the project's CRS, for operations that only read files, and where its items lie.

    `area` is west, east, south and north (metres) of what the project holds, None for nothing: only checks go by it.

    Slots that take many items are asked by `all`; the plain look-up gives the first of them.
    """

    def __init__(
        self,
        items: Mapping[str, Item | Sequence[Item]],
        crs: str,
        area: tuple[float, float, float, float] | None = None,
    ) -> None:
        self._many = {k: tuple(v) if isinstance(v, Sequence) else (v,) for k, v in items.items()}
        super().__init__({k: v[0] for k, v in self._many.items() if v})
        self.crs = crs
        self.area = area

    @overload
    def need(self, slot: str, kind: type[I], /) -> I: ...

    @overload
    def need(self, slot: str, kind: type[I], other: type[J], /) -> I | J: ...

    @overload
    def need(self, slot: str, kind: type[I], other: type[J], third: type[K], /) -> I | J | K: ...

    def need(self, slot: str, kind: type[Item], /, *others: type[Item]) -> Item:
        """Return the item of a slot, of one of some kinds.

        Raises
        ------
        InputError
            When there is none, or it is of another kind.
        """
        item, kinds = self.get(slot), (kind, *others)
        if not isinstance(item, kinds):
            wanted = " or ".join(each.title.lower() for each in kinds)
            raise InputError(f"the input '{slot}' must be one of: {wanted}", where=item.name if item else "")
        return item

    def maybe(self, slot: str, kind: type[I]) -> I | None:
        """Return the item of an optional slot, None when it was not given.

        Raises
        ------
        InputError
            When it is of another kind.
        """
        return self.need(slot, kind) if slot in self else None

    def all(self, slot: str, kind: type[I]) -> tuple[I, ...]:
        """Return all items of a slot that takes many."""
        found = self._many.get(slot, ())
        for item in found:
            if not isinstance(item, kind):
                raise InputError(f"the input '{slot}' takes: {kind.title.lower()}", where=item.name)
        return found  # type: ignore[return-value]


@dataclass(frozen=True)
class Example:
    """Inputs (names of items of the demo project) and parameters that the operation runs with there.

    `after` names operations whose examples run first; ``@operation.slot`` as an input is what they made.
    Files are named as the demo ships them; ``@NAME.ext`` is an item of that name, exported.
    """

    inputs: Mapping[str, str | tuple[str, ...]] = field(default_factory=dict)
    params: Mapping[str, Any] = field(default_factory=dict)
    after: tuple[str, ...] = ()


@dataclass(frozen=True)
class Operation:
    """A declared operation.

    `run` gets items by slot, checked parameters and a progress object, and returns items by
    output slot. It writes nothing. `replaces` names output slots whose result becomes a new version
    of the item in an input slot, instead of a new item: the operation is an edit.

    `reads` names input slots of which only the attributes are read that parameters name (and the places): what else
    changes in such an item does not concern the result.

    `pin` turns what parameters of an edit say of rows by number into what is in them, when the edit is first made: given
    the item as it is then and checked parameters (JSON), it returns parameters that mean the same rows wherever they come to stand.

    `instant` edits are quick for any item that a person edits by hand; the window runs them itself.
    `version` grows when parameters change their meaning; `upgrade` turns parameters of an earlier
    version into today's. `renamed` maps earlier names of parameters and input slots to today's,
    `aliases` are earlier names of the operation.
    """

    name: str
    title: str
    area: Area
    help: str
    params: type[Params]
    run: Callable[[Inputs, Any, Progress], dict[str, Item]]
    inputs: tuple[Input, ...] = ()
    outputs: tuple[Output, ...] = ()
    estimate: Callable[[Inputs, Any], Cost] | None = None
    suggest: Callable[[Inputs], dict[str, Any]] | None = None
    replaces: Mapping[str, str] = field(default_factory=dict)
    instant: bool = False
    pin: Callable[[Item, dict[str, Any]], dict[str, Any]] | None = None
    reads: tuple[str, ...] = ()
    version: int = 1
    aliases: tuple[str, ...] = ()
    renamed: Mapping[str, str] = field(default_factory=dict)
    upgrade: Callable[[dict[str, Any], int], dict[str, Any]] | None = None
    example: Example | None = None

    @property
    def base(self) -> str:
        """Input slot of the item that an edit changes, '' for a run."""
        return next(iter(self.replaces.values()), "")

    def today(self, params: Mapping[str, Any], version: int) -> dict[str, Any]:
        """Return parameters of an earlier version of the operation as they are called and meant today."""
        values = {self.renamed.get(name, name): value for name, value in params.items()}
        return self.upgrade(values, version) if self.upgrade is not None and version < self.version else values

    def check(self, values: Mapping[str, Any]) -> Params:
        """Return checked parameters.

        Raises
        ------
        InputError
            Names every parameter that is wrong and what it must be.
        """
        try:
            made = self.params.model_validate(dict(values))
        except ValidationError as error:
            raise InputError(_explain(self, error), where=self.name, fix=f"See 'inner-lamp ops {self.name}'") from error
        for name, info in self.fields().items():
            value = getattr(made, name)
            if info.unit == "m" and isinstance(value, float) and not abs(value) <= _LONGEST:
                raise InputError(f"{info.label} is {value:g} m, more than twice round the Earth", where=self.name)
        return made

    def attributes_read(self, params: Mapping[str, Any]) -> dict[str, list[str]]:
        """Return, for the slots of `reads`, the attributes that parameters name."""
        named: list[tuple[str, Any]] = []
        for name, info in self.fields().items():
            value = params.get(name)
            if info.editor == "table":
                rows = [r if isinstance(r, Mapping) else r.model_dump() for r in value or ()]
                named += [(c.of, row.get(n)) for row in rows for n, c in info.columns.items() if c.of]
            elif info.of and isinstance(value, list | tuple):
                named += [(info.of, each) for each in value]
            elif info.editor in ("attribute", "code"):
                named.append((info.of, value))
        return {slot: sorted({str(v) for of, v in named if of == slot and v}) for slot in self.reads}

    def fields(self) -> dict[str, FieldInfo]:
        """Parameters by name, with what forms and help need to know."""
        return {name: FieldInfo.read(name, info) for name, info in self.params.model_fields.items()}


@dataclass(frozen=True)
class FieldInfo:
    """A parameter as forms and help see it."""

    name: str
    label: str
    unit: str
    help: str
    kind: Any
    default: Any
    required: bool
    low: float | None
    high: float | None
    above: float | None
    editor: Editor
    of: str
    more: bool
    columns: Mapping[str, FieldInfo] = field(default_factory=dict)

    @classmethod
    def read(cls, name: str, info: Any) -> FieldInfo:
        bounds: dict[str, float] = {}
        for rule in info.metadata:
            for key in ("ge", "le", "gt"):
                if getattr(rule, key, None) is not None:
                    bounds[key] = getattr(rule, key)
        extra = info.json_schema_extra or {}
        columns = {}
        if extra.get("editor") == "table":
            columns = {n: cls.read(n, i) for n, i in row_of(info.annotation).model_fields.items()}
        default = None if info.is_required() else info.get_default(call_default_factory=True)
        return cls(
            name,
            info.title or name,
            extra.get("unit", ""),
            info.description or "",
            info.annotation,
            default,
            info.is_required(),
            bounds.get("ge"),
            bounds.get("le"),
            bounds.get("gt"),
            extra.get("editor", ""),
            extra.get("of", ""),
            bool(extra.get("more")),
            columns,
        )

    @property
    def bounds_text(self) -> str:
        """Bounds in words, '' when there are none."""
        parts = []
        if self.low is not None:
            parts.append(f"from {self.low:g}")
        if self.above is not None:
            parts.append(f"above {self.above:g}")
        if self.high is not None:
            parts.append(f"to {self.high:g}")
        return " ".join(parts)


def _explain(operation: Operation, error: ValidationError) -> str:
    fields = operation.fields()
    texts = []
    for problem in error.errors():
        place = problem["loc"]
        name = str(place[0]) if place else "parameters"
        if name in fields and fields[name].columns and len(place) > 1:
            texts.append(_explain_row(fields[name], place, problem))
            continue
        if problem["type"] == "extra_forbidden":
            known = ", ".join(fields)
            texts.append(f"there is no parameter '{name}' (there are: {known})")
        elif problem["type"] == "missing":
            texts.append(f"'{name}' is needed ({fields[name].label})")
        else:
            label = fields[name].label if name in fields else name
            shown = problem.get("input")
            message = str(problem["msg"]).replace("Input should be", "must be").replace("Value error, ", "")
            texts.append(f"{name} ({label}) {message}, not {shown!r}")
    return "; ".join(texts)


def _explain_row(table: FieldInfo, place: tuple[Any, ...], problem: Any) -> str:
    row = f"row {int(place[1]) + 1} of {table.name}"
    column = str(place[2]) if len(place) > 2 else ""
    if column not in table.columns:
        return f"{row}: there is no column '{column}' (there are: {', '.join(table.columns)})"
    label = table.columns[column].label
    if problem["type"] == "missing":
        return f"{row}: '{column}' is needed ({label})"
    message = str(problem["msg"]).replace("Input should be", "must be").replace("Value error, ", "")
    return f"{row}: {column} ({label}) {message}, not {problem.get('input')!r}"
