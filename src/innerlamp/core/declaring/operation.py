"""How an operation is declared: one record from which form, command line, API and recipe come."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError

from ..errors import InputError
from ..items.base import Item
from ..progress import Progress

Area = Literal["Data", "Maps", "Drilling", "Geophysics", "Geology", "Targets"]
AREAS: tuple[Area, ...] = ("Data", "Maps", "Drilling", "Geophysics", "Geology", "Targets")
Role = Literal["", "file", "files", "attribute", "mapping", "date", "crs", "lines", "picks", "rows", "code"]


class Params(BaseModel):
    """Base of all parameter sets: unknown names are refused, values are checked."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


def parted(value: Any) -> Any:
    """Return the parts of a text that parts its values by semicolons; what is a list already stays one."""
    return tuple(part.strip() for part in value.split(";") if part.strip()) if isinstance(value, str) else value


def whole(value: Any) -> Any:
    """Return a whole number that was typed as text as a number; what is none is left for the check to refuse."""
    return int(value) if isinstance(value, str) and value.strip().isdigit() else value


def given(value: Any) -> Any:
    """Return None for an empty text: a number that need not be given."""
    return None if isinstance(value, str) and not value.strip() else value


Maybe = Annotated[float | None, BeforeValidator(given)]
Several = Annotated[tuple[str, ...], BeforeValidator(parted)]
Whole = Annotated[int, BeforeValidator(whole)]


def param(
    default: Any,
    label: str,
    *,
    unit: str = "",
    help: str = "",
    low: float | None = None,
    high: float | None = None,
    above: float | None = None,
    role: Role = "",
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
    role
        ``file`` for a path, ``attribute`` for a column of the input slot `of` (``code`` for one of texts).
    more
        Whether the form keeps it under "more".
    """
    extra: dict[str, Any] = {"unit": unit, "role": role, "of": of, "more": more}
    return Field(default, title=label, description=help, ge=low, le=high, gt=above, json_schema_extra=extra)


@dataclass(frozen=True)
class Input:
    """An input slot: which kinds of items fit; `need` narrows it further; `proposed` fills it in forms unasked."""

    slot: str
    label: str
    kinds: tuple[str, ...]
    optional: bool = False
    help: str = ""
    need: Callable[[Any], bool] | None = None
    proposed: bool = True


def ground_slot(help: str = "", optional: bool = True) -> Input:
    """Return the input slot of a ground surface: a grid of elevations."""
    return Input(
        "ground", "Ground surface", ("grid",), optional=optional, need=lambda e: "elevation" in e.attributes, help=help
    )


@dataclass(frozen=True)
class Output:
    """An output slot and the kind of item that it gives; '' for that of the item it replaces."""

    slot: str
    kind: str
    label: str


@dataclass(frozen=True)
class Cost:
    """What a run will take, said before it runs."""

    text: str
    megabytes: float = 0.0
    seconds: float = 0.0


class Inputs(dict[str, Item]):
    """Items by input slot; also knows the project's CRS, for operations that only read files."""

    def __init__(self, items: Mapping[str, Item], crs: str) -> None:
        super().__init__(items)
        self.crs = crs


@dataclass(frozen=True)
class Operation:
    """A declared operation.

    `run` gets items by slot, checked parameters and a progress object, and returns items by
    output slot. It writes nothing. `replaces` names output slots whose result becomes a new version
    of the item in an input slot, instead of a new item.
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

    def check(self, values: Mapping[str, Any]) -> Params:
        """Return checked parameters.

        Raises
        ------
        InputError
            Names every parameter that is wrong and what it must be.
        """
        try:
            return self.params.model_validate(dict(values))
        except ValidationError as error:
            raise InputError(_explain(self, error), where=self.name, fix=f"See 'inner-lamp ops {self.name}'") from error

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
    role: Role
    of: str
    more: bool

    @classmethod
    def read(cls, name: str, info: Any) -> FieldInfo:
        bounds: dict[str, float] = {}
        for rule in info.metadata:
            for key in ("ge", "le", "gt"):
                if getattr(rule, key, None) is not None:
                    bounds[key] = getattr(rule, key)
        extra = info.json_schema_extra or {}
        default = None if info.is_required() else info.get_default(call_default_factory=True)
        return cls(
            name, info.title or name, extra.get("unit", ""), info.description or "", info.annotation, default,
            info.is_required(), bounds.get("ge"), bounds.get("le"), bounds.get("gt"),
            extra.get("role", ""), extra.get("of", ""), bool(extra.get("more")),
        )  # fmt: skip

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
        name = str(problem["loc"][0]) if problem["loc"] else "parameters"
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
