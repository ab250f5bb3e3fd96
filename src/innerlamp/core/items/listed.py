"""Lists of like things in items that are kept as plain values: elements of pages, views of walk-throughs."""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from ..errors import InputError, ProjectError

M = TypeVar("M", bound=BaseModel)


def understood(kind: type[M], rows: Iterable[Any], what: str) -> list[M]:
    """Return stored rows as what they stand for.

    Raises
    ------
    ProjectError
        When one of them is damaged.
    """
    try:
        return [kind.model_validate(each) for each in rows]
    except ValidationError as error:
        raise ProjectError(f"the {what} is damaged", fix="Restore it from a back-up, or make it anew") from error


def plain_list(
    model: type[BaseModel], found: Any, one: str, whole: str, least: int, most: int
) -> tuple[dict[str, Any], ...]:
    """Return things of a list as plain values, after a check of each by a model.

    Parameters
    ----------
    one, whole
        What a thing and the list are called in messages.
    least, most
        How many there may be.

    Raises
    ------
    InputError
        Says which thing is wrong, and how.
    """
    if not isinstance(found, list | tuple) or not least <= len(found) <= most:
        count = f"{least} to {most}" if least else f"at most {most}"
        raise InputError(f"a {whole} holds a list of {count} {one}s")
    out = []
    for number, each in enumerate(found, start=1):
        try:
            out.append(json.loads(model.model_validate(each).model_dump_json(exclude_defaults=True)))
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(str(part) for part in first["loc"])
            raise InputError(f"{one} {number} of the {whole} is wrong ({where}: {first['msg']})") from error
    return tuple(out)
