"""Page templates: the arrangement of a page as JSON, to be used again and shared."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from ...errors import InputError
from ...items.page import Page, checked

_FORMAT = "inner-lamp page template"
_LARGEST = 20_000_000


def read_template(path: Path | str) -> tuple[float, float, tuple[dict[str, Any], ...]]:
    """Return width, height (mm) and elements of a template file.

    Raises
    ------
    InputError
        When it is none, too large, or wrong.
    """
    path = Path(path)
    try:
        if path.stat().st_size > _LARGEST:
            raise InputError("the template is too large", where=str(path))
        found = json.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise InputError(f"can't read the template ({error.strerror})", where=str(path)) from error
    except (UnicodeDecodeError, json.JSONDecodeError, RecursionError) as error:
        raise InputError("this is no page template", where=str(path)) from error
    if not isinstance(found, dict) or found.get("format") != _FORMAT:
        raise InputError("this is no page template", where=str(path))
    try:
        width, height = float(found["width"]), float(found["height"])
    except (KeyError, TypeError, ValueError) as error:
        raise InputError("the template does not say how large its sheet is", where=str(path)) from error
    if not (50.0 <= width <= 2000.0 and 50.0 <= height <= 2000.0):
        raise InputError(f"a sheet of {width:g} × {height:g} mm can't be made", where=str(path))
    return width, height, checked(found.get("elements"))


def template_text(page: Page) -> str:
    """Return a page as a template: its arrangement and words, without what it shows of this project."""
    bare = [
        {k: v for k, v in e.items() if k not in ("lit", "colour_by", "easting", "northing", "line")}
        for e in page.elements
    ]
    return (
        json.dumps(
            {"format": _FORMAT, "version": 1, "width": page.width, "height": page.height, "elements": bare}, indent=1
        )
        + "\n"
    )


def write_template(page: Page, path: Path) -> None:
    """Write a page as a template."""
    path.write_text(template_text(page), encoding="utf-8")
