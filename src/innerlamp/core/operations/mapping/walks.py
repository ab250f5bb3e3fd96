"""Walk-throughs of a prospect: made of views with captions, and rearranged."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BeforeValidator

from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...items.base import Item
from ...items.walk import Walk, checked_stops
from ...progress import Progress
from .pages import parsed

Stops = Annotated[tuple[dict[str, Any], ...], BeforeValidator(parsed)]


class MakeWalk(Params):
    stops: Stops = param(
        ...,
        "Views",
        help='A list as JSON, each view with name, caption, lit and looking or camera: [{"name": "Holes", "lit": ["Ground"], "looking": [135, 28]}]',
    )
    name: str = param("", "Name", help="Walk-through when empty")


class ArrangeWalk(Params):
    stops: Stops = param(..., "Views", help="All of them as JSON, in the order in which they are shown")


def _run_make(inputs: Inputs, p: MakeWalk, progress: Progress) -> dict[str, Item]:
    stops = checked_stops(list(p.stops))
    progress(1.0, f"{len(stops)} views")
    return {"walk": Walk(name=p.name or "Walk-through", crs=inputs.crs, stops=stops)}


def _run_arrange(inputs: Inputs, p: ArrangeWalk, progress: Progress) -> dict[str, Item]:
    walk = inputs.need("walk", Walk)
    stops = checked_stops(list(p.stops))
    progress(1.0, f"{len(stops)} views")
    return {"walk": Walk(name=walk.name, crs=walk.crs, stops=stops)}


_VIEW: dict[str, Any] = {"name": "Ground", "caption": "From the south-east", "lit": ["Ground"], "looking": [135, 28]}
MAKE = Operation(
    name="make-walk",
    example=Example({}, {"stops": [_VIEW, {**_VIEW, "name": "Holes", "lit": ["Ground", "Emberlow holes"]}]}),
    title="Make a walk-through",
    area="Maps",
    help="Puts views of the ground in an order, each with what is lit and a caption, to be played full screen and written as HTML or PDF; the 3D pane adds its view by a button.",
    params=MakeWalk,
    run=_run_make,
    inputs=(),
    outputs=(Output("walk", "walk", "The walk-through"),),
    instant=True,
)
ARRANGE = Operation(
    name="arrange-walk",
    example=Example({"walk": "@make-walk.walk"}, {"stops": [_VIEW]}, after=("make-walk",)),
    title="Arrange a walk-through",
    area="Maps",
    help="Gives a walk-through other views, captions or another order; its pane does it by mouse.",
    params=ArrangeWalk,
    run=_run_arrange,
    inputs=(Input("walk", "Walk-through", ("walk",)),),
    outputs=(Output("walk", "walk", "The walk-through"),),
    replaces={"walk": "walk"},
    instant=True,
)
