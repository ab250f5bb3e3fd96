"""What is asked for a model of units."""

from __future__ import annotations

from typing import Literal, Self

from ....declaring.operation import Maybe, Params, Places, Row, param
from .contact_table import ContactRow
from .logged_units import UnitRow


class EditRow(Row):
    surface: str = param(..., "Unit", help="Whose contact is pushed")
    east: float = param(..., "Easting", unit="m")
    north: float = param(..., "Northing", unit="m")
    elevation: float = param(..., "Elevation", unit="m")
    inside: float = param(0.0, "Inside by", unit="m", help="0 lies on the contact, negative outside of the unit")


class FaultRow(Row):
    fault: str = param(
        ..., "Fault", help="Its name; traces, points and surfaces of that name under 'Traces of faults' give its place"
    )
    east: Maybe = param(None, "Easting", unit="m", help="Of a place on it; the middle of one that dies out")
    north: Maybe = param(None, "Northing", unit="m")
    elevation: Maybe = param(None, "Elevation", unit="m", help="The ground's when empty")
    dip: Maybe = param(None, "Dip", unit="°", help="Of its plane; of its trace, points or surface when empty")
    dip_direction: Maybe = param(None, "Dip direction", unit="°")
    throw: Maybe = param(None, "Throw", unit="m", help="Down on the hangingwall; looked for when empty")
    along: float = param(0.0, "Along strike", unit="m", help="To the left of the dip direction")
    length: Maybe = param(None, "Length", unit="m", help="From tip to tip; it goes through when empty")
    height: Maybe = param(None, "Height", unit="m", help="The same down its dip: the tips are an ellipse")
    ends_at: str = param("", "Ends at", help="Another fault of the list")
    cuts_from: str = param(
        "", "Cuts from", help="The youngest unit that it cuts; younger ones lie over it. All when empty"
    )


class MendRow(Row):
    hole: str = param(..., "Hole")
    surface: str = param("", "Unit", help="Whose contact it is about; all when empty")
    what: Literal["honour", "doubtful"] = param(
        "honour", "Its contacts are", help="Honoured exactly; or doubtful, and not used"
    )


class BuildModel(Params):
    attribute: str = param("", "Logged units", editor="code", of="holes", help="The column of rocks or units")
    units: tuple[UnitRow, ...] = param(
        (), "Age order", editor="table", help="Units from the youngest to the oldest, with the kind of their contact"
    )
    contacts: tuple[ContactRow, ...] = param(
        (),
        "Contact table",
        editor="table",
        help="Pairs of units whose contact feeds another surface than the younger's, or none",
        more=True,
    )
    faults: tuple[FaultRow, ...] = param(
        (),
        "Faults",
        editor="table",
        help="From the youngest to the oldest; without a throw the one is found that fits best",
        more=True,
    )
    edits: tuple[EditRow, ...] = param(
        (), "Pushes", editor="table", help="Places that push the contact of a unit where they want it", more=True
    )
    mends: tuple[MendRow, ...] = param(
        (), "Holes to mend", editor="table", help="Holes whose contacts are honoured exactly, or doubted", more=True
    )
    exact: Literal["nothing", "holes", "everything"] = param(
        "nothing", "Honoured exactly", help="What the smoothing does not touch", more=True
    )
    tolerance: float = param(
        2.0, "Misses from", unit="m", above=0.0, help="A hole that its surface passes by more is listed", more=True
    )
    most_throw: float = param(
        200.0, "Largest throw", unit="m", above=0.0, help="Up to which a throw is looked for", more=True
    )
    cell: float = param(25.0, "Cell size", unit="m", above=0.0)
    cell_z: float = param(10.0, "Cell height", unit="m", above=0.0)
    layers: Literal["are level", "follow the ground"] = param(
        "are level",
        "Layers of cells",
        help="Level ones are cut at the ground; those that follow it, thinner at the top, show thin covers as they are",
    )
    outline: Places = param((), "Boundary", editor="area", help="Of the model in plan; round the holes when empty")
    margin: float = param(
        150.0, "Margin round the holes", unit="m", low=0.0, help="Where no boundary is given", more=True
    )
    base: Maybe = param(None, "Base of the model", unit="m", help="Elevation; 50 m below the deepest hole when empty")
    flat: Maybe = param(None, "Flat ground at", unit="m", help="Where no ground surface is given", more=True)
    step: float = param(4.0, "Step along holes", unit="m", above=0.0, help="Between samples near contacts", more=True)
    cap: float = param(
        40.0,
        "Reach of a side",
        unit="m",
        above=0.0,
        help="Farther from a contact a sample only tells its side",
        more=True,
    )
    smoothing: float = param(
        0.5,
        "Smoothing",
        unit="m",
        low=0.0,
        help="0 honours every contact; more lets surfaces pass them smoothly",
        more=True,
    )
    field: Literal["between its values", "smooth"] = param(
        "between its values",
        "Fields are",
        help="Those between their values never swing out; smooth ones follow curved contacts with fewer holes, but go far out where nothing holds them",
        more=True,
    )
    map_units: str = param("", "Units of the map", editor="attribute", of="map", help="Its column of units", more=True)
    line_units: str = param(
        "", "Units of drawn lines", help="Their column that names a unit; 'body' when empty", more=True
    )
    planes: str = param(
        "",
        "Readings of",
        help="Such as bedding or S0; bedding alone when empty, where readings say what they are of",
        more=True,
    )
    map_reach: float = param(
        0.0,
        "Mapped contacts reach down",
        unit="m",
        low=0.0,
        help="Along the dip of their unit's row, or of the readings around; 0 leaves them on the ground",
        more=True,
    )
    vein_least: float = param(0.5, "Least thickness of veins", unit="m", low=0.0, more=True)
    vein_reach: float = param(
        80.0, "Veins end beyond holes at", unit="m", above=0.0, help="Where no hole says so before", more=True
    )
    left_out: str = param(
        "",
        "Holes left out",
        help="Names, * for any letters, parted by semicolons: the model is held against them",
        more=True,
    )
    name: str = param("", "Name")

    def mended(self, what: str, unit: str) -> list[str]:
        """The holes whose contacts of a unit are honoured, or doubtful."""
        return [r.hole.strip() for r in self.mends if r.what == what and r.surface.strip() in (unit, "")]

    def follow(self, number: int) -> str:
        """How the field of a unit goes on between its values."""
        row = self.units[number].follows
        return self.field if row == "as all" else row

    @property
    def switched(self) -> Self:
        """The same without the units that are switched out, and without what was said of them."""
        out = {row.unit.strip() for row in self.units if row.use == "out"}
        if not out:
            return self
        order = [row.unit.strip() for row in self.units]
        faults = []
        for fault in self.faults:
            first = fault.cuts_from.strip()
            if first in out:  # it cuts from the next older unit that is there
                first = next((n for n in order[order.index(first) :] if n not in out), "")
            faults.append(fault.model_copy(update={"cuts_from": first}))
        return self.model_copy(
            update={
                "units": tuple(row for row in self.units if row.use == "in"),
                "contacts": tuple(
                    r for r in self.contacts if not out & {r.one.strip(), r.other.strip(), r.surface.strip()}
                ),
                "edits": tuple(r for r in self.edits if r.surface.strip() not in out),
                "mends": tuple(r for r in self.mends if r.surface.strip() not in out),
                "faults": tuple(faults),
            }
        )
