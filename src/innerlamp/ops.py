"""Every operation as a function, made from its declaration: ``ops.grid_minimum_curvature(project, samples=..., ...)``.

``help(ops.grid_minimum_curvature)`` shows its page; ``dir(ops)`` lists all. A function returns the ids of
the items that were made, by output.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable
from typing import Any

from .api import Project
from .core.declaring.operation import Operation
from .core.running.help_pages import operation_page
from .core.running.table import OPERATIONS

_MADE: dict[str, Callable[..., dict[str, str]]] = {}
_NAMES = {name.replace("-", "_"): name for name in OPERATIONS}


def _function(op: Operation) -> Callable[..., dict[str, str]]:
    def run(project: Project, **values: Any) -> dict[str, str]:
        return project.run(op.name, **values)

    kind = inspect.Parameter.KEYWORD_ONLY
    parameters = [inspect.Parameter("project", inspect.Parameter.POSITIONAL_OR_KEYWORD, annotation=Project)]
    for slot in op.inputs:
        default = "" if slot.optional else inspect.Parameter.empty
        parameters.append(inspect.Parameter(slot.slot, kind, default=default, annotation=str))
    for name, info in op.fields().items():
        default = inspect.Parameter.empty if info.required else info.default
        parameters.append(inspect.Parameter(name, kind, default=default))
    run.__name__ = run.__qualname__ = op.name.replace("-", "_")
    run.__doc__ = operation_page(op).text
    vars(run)["__signature__"] = inspect.Signature(parameters, return_annotation=dict[str, str])
    return run


def __getattr__(name: str) -> Callable[..., dict[str, str]]:
    if name not in _NAMES:
        raise AttributeError(f"there is no operation '{name}'; dir(innerlamp.ops) lists them")
    if name not in _MADE:
        _MADE[name] = _function(OPERATIONS[_NAMES[name]])
    return _MADE[name]


def __dir__() -> list[str]:
    return sorted(_NAMES)
