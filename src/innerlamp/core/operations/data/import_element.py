"""Importing one element of an Open Mining Format file."""

from __future__ import annotations

import dataclasses

from ...compute.geometry.triangles import is_closed, volume
from ...declaring.operation import Example, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...formats.shapes import mining
from ...formats.tables import tables_in
from ...items.base import Item
from ...items.fields import Surface
from ...progress import Progress


class ImportElement(Params):
    file: str = param(..., "File", editor="file", help="Open Mining Format, version 1")
    element: str = param("", "Element", help="Its name; empty when the file has one")
    name: str = param("", "Name", help="The element's name when empty")


def _run(inputs: Inputs, p: ImportElement, progress: Progress) -> dict[str, Item]:
    path, _ = tables_in.split(p.file)
    progress(0.1, "Reading")
    names = mining.elements(path)
    element = p.element or (names[0] if len(names) == 1 else "")
    if not element:
        raise InputError(f"the file has {len(names)} elements", where=path.name, fix="Name one: " + ", ".join(names))
    item = mining.read_element(path, element, inputs.crs)
    if isinstance(item, Surface) and is_closed(item.triangles):
        item = dataclasses.replace(item, closed=True, volume_m3=abs(volume(item.vertices, item.triangles)))
    item = item.told_by_headings()
    return {"item": dataclasses.replace(item, name=p.name) if p.name else item}


OPERATION = Operation(
    name="import-element",
    example=Example({}, {"file": "@Sn shell 800 ppm.omf"}),
    title="Import from Open Mining Format",
    area="Data",
    help="Reads points, lines, a surface, a grid or a block model out of an Open Mining Format file. Coordinates are taken as the project's.",
    params=ImportElement,
    run=_run,
    outputs=(Output("item", "", "What the element is"),),
)
