"""Public computation says what it takes and gives: shapes of arrays, units of lengths and angles, and what it raises."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest

import innerlamp

ROOT = Path(innerlamp.__file__).parent / "core"
MODULES = sorted(p for room in ("compute", "geometry") for p in (ROOT / room).rglob("*.py") if p.name != "__init__.py")
# A shape, or words that leave none open: one value, a grid, rows of a table.
SHAPE = re.compile(
    r"[Ss]hapes?\b|\([a-z0-9, +*]+,?\)|\([a-z] \+ 1|of the (same )?(size|length)|each (cell|column|place|row|sample|value|triangle|hole)",
    re.I,
)
UNIT = re.compile(
    r"\bmetres?\b|\bm\b|m²|m³|degrees|°|\bnT\b|\bmGal\b|\bSI\b|kg/m3|ohm|%|unit|share|seconds|number|count|cells|wavelength|per |dimension|"
    r"pixels|plain|same|as (it|they)|whole|angle|score|rank|log|probab|factor|ratio|correlation|deviation",
    re.I,
)


def functions(path: Path) -> list[ast.FunctionDef]:
    tree = ast.parse(path.read_text())
    found = [n for n in tree.body if isinstance(n, ast.FunctionDef)]
    for each in (n for n in tree.body if isinstance(n, ast.ClassDef) and not n.name.startswith("_")):
        found += [n for n in each.body if isinstance(n, ast.FunctionDef)]
    return [f for f in found if not f.name.startswith("_")]


def is_array(annotation: ast.expr | None) -> bool:
    return annotation is not None and bool(re.search(r"FloatArray|IntArray|NDArray|ndarray", ast.unparse(annotation)))


@pytest.mark.parametrize("path", MODULES, ids=lambda p: str(p.relative_to(ROOT)))
def test_public_functions_say_shapes_units_and_errors(path: Path) -> None:
    source = path.read_text()
    about = ast.get_docstring(ast.parse(source)) or ""
    assert about, "the module says nothing"
    wrong = []
    told = {
        f.name for f in functions(path) if ast.get_docstring(f)
    }  # what a base says holds for those that override it
    for f in functions(path):
        text = ast.get_docstring(f) or ""
        if not text:
            properties = any(isinstance(d, ast.Name) and d.id == "property" for d in f.decorator_list)
            if f.name not in told and not properties:
                wrong.append(f"{f.name}: no docstring")
            continue
        every = [a for a in (*f.args.posonlyargs, *f.args.args, *f.args.kwonlyargs) if a.arg not in ("self", "cls")]
        arrays = [a for a in every if is_array(a.annotation)]
        if (arrays or is_array(f.returns)) and not SHAPE.search(text + about):
            wrong.append(f"{f.name}: no shape of its arrays")
        if (arrays or is_array(f.returns)) and not UNIT.search(text + about):
            wrong.append(f"{f.name}: no unit")
        raised = {
            n.exc.func.id
            for n in ast.walk(f)
            if isinstance(n, ast.Raise) and isinstance(n.exc, ast.Call) and isinstance(n.exc.func, ast.Name)
        }
        for name in raised - {"AssertionError"}:
            if name not in text:
                wrong.append(f"{f.name}: does not say that it raises {name}")
    assert not wrong, "\n".join(wrong)
