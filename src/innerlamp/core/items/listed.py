"""Lists of like things in items that are kept as plain values: elements of pages, views of walk-throughs."""

from __future__ import annotations

import json
from typing import Any

from pydantic import BaseModel, ValidationError

from ..errors import InputError


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
