"""A page of control samples for a report: charts of standards, blanks, duplicates and batches, and what they say."""

from __future__ import annotations

from datetime import date
from typing import Any, Literal

from ...compute.potential.mainfield import parse_date
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, Several, param
from ...errors import InputError
from ...importing import batches, control_charts
from ...importing.control_series import groups, series_of
from ...items.base import Item
from ...items.holes import HoleSet
from ...items.page import MOST_SHEETS, PAPERS, Page, checked
from ...progress import Progress
from .pages import MARGIN, title_fields

_TITLE, _GAP, _NOTES = 30.0, 5.0, 46.0  # millimetres
_FAILED = 12  # sentences of batches that fail; the rest is counted


class ControlPages(Params):
    attributes: Several = param(
        (), "Grades", editor="lines", help="One or more sheets each; the first three when empty"
    )
    paper: Literal["A4", "A3"] = param("A4", "Paper")
    lying: Literal["landscape", "portrait"] = param("portrait", "Sheet")
    heading: str = param("", "Title")
    author: str = param("", "Drawn by")
    date: str = param("", "Date", editor="date", help="In the title block; today when empty")
    name: str = param("", "Name", help="The title when empty")


def _shown(holes: HoleSet, attribute: str) -> list[tuple[str, str]]:
    """What can be charted of a grade, with what each chart says."""
    out = []
    for group in groups(holes):
        try:
            of = series_of(holes, attribute, group)
        except InputError:
            continue
        out.append((group, f"{of.title}: {of.words}."))
    return out


def _run(inputs: Inputs, p: ControlPages, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    when = p.date or date.today().isoformat()
    parse_date(when)
    asked = control_charts.asked_attributes(holes, p.attributes)
    short, long = PAPERS[p.paper]
    width, height = (long, short) if p.lying == "landscape" else (short, long)
    across, down = (3, 2) if p.lying == "landscape" else (2, 3)
    wide = (width - 2 * MARGIN - _GAP * (across - 1)) / across
    high = (height - 2 * MARGIN - _TITLE - _NOTES - _GAP * (down + 1)) / down
    made: list[dict[str, Any]] = []
    sheets: list[str] = []
    for attribute in asked if p.attributes else asked[:3]:
        charts = _shown(holes, attribute)
        bad = batches.words_of(batches.judged_batches(holes, [attribute]))
        more = [f"… and {len(bad) - _FAILED} more."] if len(bad) > _FAILED else []
        for first in range(0, len(charts), across * down):
            part = charts[first : first + across * down]
            sheet = len(sheets)
            sheets.append(attribute)
            if len(sheets) > MOST_SHEETS:
                raise InputError(f"the charts take more than {MOST_SHEETS} sheets", fix="Name fewer grades")
            for k, (group, _) in enumerate(part):
                made.append(
                    {
                        "kind": "chart",
                        "x": round(MARGIN + (k % across) * (wide + _GAP), 1),
                        "y": round(MARGIN + (k // across) * (high + _GAP), 1),
                        "w": round(wide, 1),
                        "h": round(high, 1),
                        "text": group,
                        "fields": {"attribute": attribute},
                        "lit": [holes.name],
                        "sheet": sheet,
                    }
                )
            said = [words for _, words in part]
            if first == 0:
                said += [w[0].upper() + w[1:] + "." for w in bad[:_FAILED]] + more
            made.append(
                {
                    "kind": "notes",
                    "x": MARGIN,
                    "y": height - MARGIN - _TITLE - _NOTES - _GAP,
                    "w": width - 2 * MARGIN,
                    "h": _NOTES,
                    "text": "\n".join(said),
                    "sheet": sheet,
                }
            )
    if not sheets:
        raise InputError("there is nothing to chart", where=holes.name)
    heading = p.heading or f"Control samples of {holes.name}"
    fields = title_fields(inputs, "", when, p.author)
    for k, attribute in enumerate(sheets):
        made.append(
            {
                "kind": "title",
                "x": MARGIN,
                "y": height - MARGIN - _TITLE,
                "w": width - 2 * MARGIN,
                "h": _TITLE,
                "text": f"{heading}\n{attribute}" + (f", sheet {k + 1} of {len(sheets)}" if len(sheets) > 1 else ""),
                "fields": fields,
                "sheet": k,
            }
        )
    progress(1.0, f"{len(sheets)} sheet{'s' * (len(sheets) > 1)}")
    page = Page(name=p.name or heading, crs=inputs.crs, width=width, height=height, elements=checked(made))
    return {"page": page}


OPERATION = Operation(
    name="control-pages",
    example=Example({"holes": "Emberlow holes"}, {"attributes": ["Sn_ppm"]}),
    title="Pages of control samples",
    area="Drilling",
    help="Charts of the laboratory's standards, blanks, duplicates and batches at a grade a sheet, with what they say below. The charts are drawn from the holes as they are when the page is shown.",
    params=ControlPages,
    run=_run,
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("page", "page", "Control samples"),),
)
