"""Which of several bands or variables of a grid file is meant."""

from __future__ import annotations

from collections.abc import Sequence

from ...errors import InputError


def chosen_layer(names: Sequence[str], wanted: str, what: str, file: str) -> int:
    """Return the place in `names` (band, variable: `what`) of the one that is wanted by its name or number (from 1).

    Raises
    ------
    InputError
        When there is no such one, or there are several and none is wanted.
    """
    word = wanted.strip().lower()
    if word:
        hits = [k for k, each in enumerate(names) if word in (each.lower(), str(k + 1))]
        if not hits:
            raise InputError(f"there is no {what} '{wanted}'", where=file, fix="There are: " + ", ".join(names))
        return hits[0]
    if len(names) > 1:
        raise InputError(
            f"the file has {len(names)} {what}s",
            where=file,
            fix="Name one: " + ", ".join(names),
        )
    return 0
