"""A small, safe language for conditions and computed columns.

Column names stand as they are (``Sn_ppm``) or in brackets (``[Sn ppm]``); numbers, texts in
quotes, ``+ - * / **``, comparisons, ``and or not``, ``in ("A", "B")``, and the functions in
`FUNCTIONS`. The text is parsed, never run: only these forms are walked.

Missing values are handled as in SQL (ISO/IEC 9075, three-valued logic): a comparison with one is neither
true nor false, and so is its negation; ``and`` is false where one side is, ``or`` true where one side is.
A condition takes the rows in which it is true, and ``where(test, a, b)`` takes `b` in all others. Calculations
with a missing value are missing; only ``min`` and ``max`` pass missing values over, and are missing where both
are. ``coalesce(a, b)`` gives the first that is known, ``known(a)`` asks whether it is.
"""

from __future__ import annotations

import ast
import operator
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..errors import InputError
from ..numbers import number_or_none

LONGEST, DEEPEST = 2000, 60


def _known(value: Any) -> Any:
    array = np.asarray(value)
    if array.dtype.kind == "f":
        return np.isfinite(array)
    if array.dtype.kind == "O":
        return ~pd.isna(array) & (array.astype(str) != "")
    return np.ones(array.shape, dtype=bool)


@dataclass(frozen=True)
class Truth:
    """For each row whether something is true, and whether that is known."""

    true: NDArray[np.bool_]
    known: NDArray[np.bool_]

    def __invert__(self) -> Truth:
        return Truth(~self.true & self.known, self.known)

    def __and__(self, other: Truth) -> Truth:
        true = self.true & other.true
        return Truth(true, true | (~self.true & self.known) | (~other.true & other.known))

    def __or__(self, other: Truth) -> Truth:
        true = self.true | other.true
        return Truth(true, true | (self.known & other.known))

    @property
    def values(self) -> NDArray[np.float64]:
        """1 for true, 0 for false, NaN for unknown."""
        return np.where(self.known, self.true.astype(float), np.nan)


def _truth(true: Any, known: Any) -> Truth:
    true, known = np.broadcast_arrays(np.asarray(true, dtype=bool), np.asarray(known, dtype=bool))
    return Truth(true & known, known)


def _contains(texts: Any, part: Any) -> Truth:
    found = np.array([str(part).lower() in str(t).lower() for t in np.atleast_1d(texts)], dtype=bool)
    return _truth(found, _known(texts))


def _where(test: Any, a: Any, b: Any) -> Any:
    if not isinstance(test, Truth):
        raise InputError("'where' needs a condition first", fix="For example: where(Sn_ppm > 200, 1, 0)")
    a, b = (v.values if isinstance(v, Truth) else v for v in (a, b))
    kind: type = object if _is_text(a) or _is_text(b) or isinstance(a, str) or isinstance(b, str) else float
    return np.where(test.true, np.asarray(a, kind), np.asarray(b, kind))


def _coalesce(a: Any, b: Any) -> Any:
    kind: type = object if _is_text(a) or _is_text(b) or isinstance(a, str) or isinstance(b, str) else float
    return np.where(_known(a), np.asarray(a, kind), np.asarray(b, kind))


FUNCTIONS: dict[str, tuple[int, Callable[..., Any]]] = {
    "log10": (1, lambda v: np.log10(np.where(v > 0, v, np.nan))),
    "ln": (1, lambda v: np.log(np.where(v > 0, v, np.nan))),
    "sqrt": (1, lambda v: np.sqrt(np.where(v >= 0, v, np.nan))),
    "abs": (1, np.abs),
    "min": (2, np.fmin),
    "max": (2, np.fmax),
    "round": (1, np.round),
    "where": (3, _where),
    "coalesce": (2, _coalesce),
    "known": (1, lambda v: _truth(_known(v), np.ones(np.shape(v), dtype=bool))),
    "contains": (2, _contains),
}
# These see values as they are; the others take numbers.
_RAW = ("known", "contains", "where", "coalesce")
_BINARY: dict[type, Callable[[Any, Any], Any]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
    ast.Pow: operator.pow,
}
_COMPARE: dict[type, Callable[[Any, Any], Any]] = {
    ast.Lt: operator.lt,
    ast.LtE: operator.le,
    ast.Gt: operator.gt,
    ast.GtE: operator.ge,
    ast.Eq: operator.eq,
    ast.NotEq: operator.ne,
}
_BRACKETS = re.compile(r"\[([^\[\]]+)\]")


def evaluate(text: str, columns: Mapping[str, NDArray[Any]], rows: int) -> NDArray[Any]:
    """Return the value of an expression for every row, shape (rows,); of a condition 1, 0 or NaN where it is unknown.

    Raises
    ------
    InputError
        With what is wrong and which columns and functions there are.
    """
    value = _value(text, columns)
    return np.broadcast_to(np.asarray(value.values if isinstance(value, Truth) else value), (rows,)).copy()


def _value(text: str, columns: Mapping[str, NDArray[Any]]) -> Any:
    tree, names = _parse(text)
    try:
        with np.errstate(all="ignore"):
            return _walk(tree, columns, names, 0)
    except RecursionError as error:
        raise InputError("the expression is too deep") from error
    except (TypeError, ValueError, OverflowError, np.exceptions.DTypePromotionError) as error:
        raise InputError(f"the expression mixes things that do not go together ({error})", where=text[:60]) from error


def condition(text: str, columns: Mapping[str, NDArray[Any]], rows: int) -> NDArray[np.bool_]:
    """Return which rows meet a condition; missing values meet none.

    Columns have shape (rows,), and so has the result; a unit is not known here: values compare as they are.

    Raises
    ------
    InputError
        When the text can't be read, or gives no condition.
    """
    value = _value(text, columns)
    if not isinstance(value, Truth):
        raise InputError(
            "a condition must compare something", where=text[:60], fix="For example: Sn_ppm > 200 and rock = 'SLATE'"
        )
    return np.broadcast_to(value.true, (rows,)).copy()


def columns_used(text: str) -> set[str]:
    """Return the names of the columns that an expression reads."""
    tree, names = _parse(text)
    return {names.get(n.id, n.id) for n in ast.walk(tree) if isinstance(n, ast.Name) and n.id not in FUNCTIONS}


def _parse(text: str) -> tuple[ast.expr, dict[str, str]]:
    if not text.strip():
        raise InputError("the expression is empty", fix="For example: Sn_ppm > 200")
    if len(text) > LONGEST:
        raise InputError(f"the expression is longer than {LONGEST} characters")
    names: dict[str, str] = {}

    def hold(found: re.Match[str]) -> str:
        key = f"_column_{len(names)}_"
        names[key] = found.group(1).strip()
        return key

    parts = re.split(r"('[^']*'|\"[^\"]*\")", text)
    for k in range(0, len(parts), 2):  # outside of quotes
        part = _BRACKETS.sub(hold, parts[k])
        part = re.sub(r"(?<![<>=!])=(?!=)", "==", part).replace("<>", "!=").replace("^", "**")
        parts[k] = re.sub(r"\b(AND|OR|NOT|IN)\b", lambda m: m.group(0).lower(), part)
    try:
        return ast.parse("".join(parts).strip(), mode="eval").body, names
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        where = getattr(error, "offset", None)
        raise InputError(
            f"the expression can't be read{f' (near character {where})' if where else ''}",
            where=text[:60],
            fix="Put names with spaces in brackets, such as [Sn ppm] > 20",
        ) from error


def _walk(node: ast.expr, columns: Mapping[str, NDArray[Any]], names: Mapping[str, str], depth: int) -> Any:
    if depth > DEEPEST:
        raise InputError("the expression is too deep")

    def value(part: ast.expr) -> Any:
        return _walk(part, columns, names, depth + 1)

    if (
        isinstance(node, ast.Constant)
        and isinstance(node.value, int | float | str)
        and not isinstance(node.value, bool)
    ):
        return node.value if isinstance(node.value, str) else np.float64(node.value)
    if isinstance(node, ast.Name):
        return _column(names.get(node.id, node.id), columns)
    if isinstance(node, ast.BinOp) and type(node.op) in _BINARY:
        return _BINARY[type(node.op)](_numbers(value(node.left)), _numbers(value(node.right)))
    if isinstance(node, ast.UnaryOp):
        inner = value(node.operand)
        if isinstance(node.op, ast.Not):
            return ~_truths(inner)
        if isinstance(node.op, ast.USub | ast.UAdd):
            return -_numbers(inner) if isinstance(node.op, ast.USub) else _numbers(inner)
    if isinstance(node, ast.BoolOp):
        out = _truths(value(node.values[0]))
        for part in node.values[1:]:
            other = _truths(value(part))
            out = out & other if isinstance(node.op, ast.And) else out | other
        return out
    if isinstance(node, ast.Compare):
        return _comparison(node, value)
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and not node.keywords:
        return _call(node.func.id, [value(a) for a in node.args])
    raise InputError(
        "the expression holds something that is not allowed",
        fix="Allowed are columns, numbers, texts, + - * / **, comparisons, and or not in, and " + ", ".join(FUNCTIONS),
    )


def _comparison(node: ast.Compare, value: Callable[[ast.expr], Any]) -> Truth:
    left = value(node.left)
    out: Truth | None = None
    for op, part in zip(node.ops, node.comparators, strict=True):
        if isinstance(op, ast.In | ast.NotIn):
            if not isinstance(part, ast.Tuple | ast.List):
                raise InputError("'in' needs a list", fix="For example: rock in ('SLATE', 'CARB')")
            hit = _truth(np.zeros(np.shape(left), bool), _known(left))
            for each in part.elts:
                hit = hit | _equal(left, value(each))
            result, right = (hit if isinstance(op, ast.In) else ~hit), left
        else:
            right = value(part)
            if isinstance(op, ast.Eq | ast.NotEq):
                same = _equal(left, right)
                result = same if isinstance(op, ast.Eq) else ~same
            elif type(op) in _COMPARE:
                a, b = _numbers(left), _numbers(right)
                result = _truth(_COMPARE[type(op)](a, b), _known(a) & _known(b))
            else:
                raise InputError("this comparison is not known", fix="Known are < <= > >= = != in")
        out = result if out is None else out & result
        left = right
    assert out is not None
    return out


def _equal(a: Any, b: Any) -> Truth:
    known = _known(a) & _known(b)
    texts = [isinstance(v, str) or _is_text(v) for v in (a, b)]
    if all(texts):
        return _truth(np.asarray(a).astype(str) == np.asarray(b).astype(str), known)
    if any(texts):  # a number and a text: the same when the text is that number
        text, number = (a, b) if texts[0] else (b, a)
        if isinstance(text, str):
            worth = number_or_none(text)
            if worth is None:
                raise InputError(f"a number is never '{text}'", fix="Compare it with a number")
            return _truth(np.asarray(number, dtype=float) == worth, known)
        worths = pd.to_numeric(pd.Series(np.atleast_1d(text)), errors="coerce").to_numpy(float)
        return _truth(worths == np.asarray(number, dtype=float), known)
    return _truth(np.asarray(a) == np.asarray(b), known)


def _is_text(value: Any) -> bool:
    return isinstance(value, np.ndarray) and value.dtype.kind in "OUST"


def _numbers(value: Any) -> Any:
    if isinstance(value, Truth):
        return value.values
    if isinstance(value, str) or _is_text(value):
        raise InputError("a text can't be calculated with or put in order", fix="Compare texts with = or in")
    return np.asarray(value, dtype=float) if not isinstance(value, np.float64) else value


def _truths(value: Any) -> Truth:
    if not isinstance(value, Truth):
        raise InputError("'and', 'or' and 'not' need comparisons on both sides", fix="For example: a > 1 and b < 2")
    return value


def _column(name: str, columns: Mapping[str, NDArray[Any]]) -> NDArray[Any]:
    if name in columns:
        return columns[name]
    near = [c for c in columns if c.lower() == name.lower()]
    if len(near) == 1:
        return columns[near[0]]
    raise InputError(
        f"there is no column '{name}'", fix="There are: " + ", ".join(f"[{c}]" if " " in c else c for c in columns)
    )


def _call(name: str, arguments: list[Any]) -> Any:
    if name not in FUNCTIONS:
        raise InputError(f"there is no function '{name}'", fix="There are: " + ", ".join(FUNCTIONS))
    count, run = FUNCTIONS[name]
    if len(arguments) != count:
        raise InputError(f"'{name}' takes {count} value{'s' if count > 1 else ''}, not {len(arguments)}")
    if name in _RAW:
        return run(*arguments)
    return run(*[_numbers(a) for a in arguments])
