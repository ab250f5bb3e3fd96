"""Which column of a table plays which role, guessed from its heading; the user has the last word."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Role:
    """One thing a table can tell: what it is called inside, for people, and by which headings it is known."""

    name: str
    label: str
    required: bool
    headings: tuple[str, ...]


_HOLE = Role(
    "hole", "Hole ID", True, ("holeid", "hole", "bhid", "dhid", "holeno", "drillhole", "holename", "borehole", "dh")
)
_EAST = (
    "easting",
    "east",
    "x",
    "xutm",
    "utme",
    "eastingm",
    "coordx",
    "mgae",
    "eutm",
    "xcoord",
    "e",
    "longitude",
    "lon",
    "long",
    "lng",
)
_NORTH = (
    "northing",
    "north",
    "y",
    "yutm",
    "utmn",
    "northingm",
    "coordy",
    "mgan",
    "nutm",
    "ycoord",
    "n",
    "latitude",
    "lat",
)
_ELEV = (
    "elevation",
    "elev",
    "z",
    "rl",
    "altitude",
    "height",
    "elevationm",
    "zm",
    "alt",
    "masl",
    "collarrl",
    "sensorelev",
    "gpsalt",
)

_AZIMUTH = (
    "azimuth",
    "azi",
    "az",
    "bearing",
    "azimuthgrid",
    "brg",
    "azgrid",
    "azimuthtrue",
    "azimuthmag",
    "azimag",
    "azitrue",
)
_DIP = ("dip", "inclination", "incl", "plunge", "inc")

ROLES: dict[str, tuple[Role, ...]] = {
    "collar": (
        _HOLE,
        Role("x", "Easting", True, _EAST),
        Role("y", "Northing", True, _NORTH),
        Role("z", "Elevation", False, _ELEV),
        Role(
            "depth_m",
            "Final depth",
            False,
            ("depth", "finaldepth", "eoh", "totaldepth", "td", "maxdepth", "length", "enddepth", "eohdepth"),
        ),
        Role("date", "Date", False, ("date", "drilled", "enddate", "completed", "datecompleted", "drilldate")),
        Role("azimuth", "Azimuth", False, _AZIMUTH),
        Role("dip", "Dip", False, _DIP),
    ),
    "reading": (
        _HOLE,
        Role("depth_m", "Depth", True, ("depth", "at", "depthm", "measureddepth", "md", "dept", "position")),
    ),
    "survey": (
        _HOLE,
        Role(
            "depth_m",
            "Depth",
            True,
            ("depth", "at", "surveydepth", "distance", "depthm", "measureddepth", "md", "station"),
        ),
        Role("azimuth", "Azimuth", True, _AZIMUTH),
        Role("dip", "Dip", True, _DIP),
    ),
    "interval": (
        _HOLE,
        Role("from_m", "From", True, ("from", "fromm", "depthfrom", "start", "mfrom", "top")),
        Role("to_m", "To", True, ("to", "tom", "depthto", "end", "mto", "bottom", "base")),
    ),
    "points": (
        Role("x", "Easting", True, _EAST),
        Role("y", "Northing", True, _NORTH),
        Role("z", "Elevation", False, _ELEV),
    ),
    "structures": (
        Role("x", "Easting", True, _EAST),
        Role("y", "Northing", True, _NORTH),
        Role("z", "Elevation", False, _ELEV),
        Role("dip", "Dip or plunge", True, ("dip", "dipangle", "plunge", "inclination", "dipdeg")),
        Role(
            "direction",
            "Dip direction, strike or trend",
            True,
            (
                "dipdirection",
                "dipdir",
                "dipazimuth",
                "dipazi",
                "dipaz",
                "ddir",
                "strike",
                "str",
                "trend",
                "azimuth",
                "azi",
                "direction",
            ),
        ),
    ),
    "resistivity": (
        Role("line", "Line", False, ("line", "lineno", "lineid", "linenumber", "profile")),
        Role("a", "Current a", True, ("a", "c1", "ael", "aelectrode", "ax", "xa", "sa")),
        Role("b", "Current b", True, ("b", "c2", "bel", "belectrode", "bx", "xb", "sb")),
        Role("m", "Voltage m", True, ("m", "p1", "mel", "melectrode", "mx", "xm", "sm")),
        Role("n", "Voltage n", True, ("n", "p2", "nel", "nelectrode", "nx", "xn", "sn")),
        Role(
            "rho",
            "Apparent resistivity",
            False,
            ("rhoa", "rho", "apparentresistivity", "resistivity", "appres", "rhoaohmm", "rhoohmm", "appresohmm", "ra"),
        ),
        Role(
            "resistance",
            "Resistance",
            False,
            ("resistance", "r", "ohm", "rohm", "resistanceohm", "res", "voveri", "vi", "dvi"),
        ),
        Role("voltage", "Voltage", False, ("v", "voltage", "vp", "dv", "u", "vmv", "vpmv")),
        Role("current", "Current", False, ("i", "current", "in", "iab", "ima", "inma")),
        Role(
            "error",
            "Error",
            False,
            ("error", "err", "errpct", "dev", "q", "stdev", "std", "sd", "uncertainty", "errorpct", "devpct"),
        ),
        Role("stacked", "Stacks", False, ("stack", "stacks", "nstack", "cycles", "repeats")),
    ),
    "electrodes": (
        Role("line", "Line", False, ("line", "lineno", "lineid", "linenumber", "profile")),
        Role(
            "electrode",
            "Number",
            False,
            ("electrode", "no", "number", "id", "el", "elno", "electrodeno", "pin", "index"),
        ),
        Role(
            "distance_m",
            "Distance along line",
            False,
            ("distance", "distancem", "chainage", "dist", "station", "position", "along"),
        ),
        Role("x", "Easting", False, _EAST),
        Role("y", "Northing", False, _NORTH),
        Role("z", "Elevation", False, _ELEV),
        Role(
            "buried_m",
            "Depth below ground",
            False,
            ("depth", "depthm", "buried", "burial", "burialdepth", "depthbelowground", "profundidad", "profondeur"),
        ),
    ),
    "controls": (
        Role("sample", "Sample", True, ("sample", "sampleid", "sampleno", "samplenumber", "id", "samp")),
        Role(
            "type",
            "Kind of control",
            True,
            ("type", "qctype", "kind", "controltype", "sampletype", "qaqc", "qc", "qaqctype", "control"),
        ),
        Role(
            "standard",
            "Standard",
            False,
            ("standard", "standardid", "crm", "std", "reference", "material", "stdid", "crmid"),
        ),
        Role(
            "original",
            "Original sample",
            False,
            ("original", "originalsample", "parent", "parentsample", "duplicateof", "dupof", "origsample", "checkof"),
        ),
        Role("batch", "Batch", False, ("batch", "job", "labjob", "despatch", "dispatch", "report", "certificate")),
        Role("date", "Date", False, ("date", "analysed", "assaydate", "reported", "labdate")),
    ),
    "lines": (
        Role("line", "Line", False, ("line", "lineno", "lineid", "linenumber", "ln", "flightline")),
        Role("x", "Easting", True, _EAST),
        Role("y", "Northing", True, _NORTH),
        Role("z", "Sensor elevation", False, (*_ELEV, "gpsz", "gpsheight", "zsensor", "sensorz")),
        Role("date", "Date", False, ("date", "flown", "surveydate", "day", "datetime", "timestamp")),
        Role("time", "Time", False, ("time", "utc", "utctime", "gpstime", "clock", "hhmmss", "localtime")),
        Role(
            "fiducial",
            "Fiducial",
            False,
            ("fid", "fiducial", "fidno", "fiducialno", "recno", "record", "seq", "counter"),
        ),
    ),
}


def plain(heading: str) -> str:
    """Reduce a heading to letters and digits without its unit: ``Depth (m)`` becomes ``depth``."""
    text = re.sub(r"[\(\[].*?[\)\]]", "", heading.lower())
    return re.sub(r"[^a-z0-9]", "", text)


def guess(columns: Sequence[str], table: str) -> dict[str, str]:
    """Return the likely column of each role of a kind of table; roles without a candidate are absent."""
    flat = {c: plain(c) for c in columns}
    taken: set[str] = set()
    mapping: dict[str, str] = {}
    for role in ROLES[table]:
        ranked = [
            (role.headings.index(name), c) for c, name in flat.items() if name in role.headings and c not in taken
        ]
        if not ranked:
            # "Azi grid", "From depth": the first word alone may tell.
            first = {c: re.split(r"[^a-z0-9]+", c.strip().lower())[0] for c in flat}
            ranked = [
                (role.headings.index(word), c)
                for c, word in first.items()
                if c not in taken and len(word) > 1 and word in role.headings
            ]
        if ranked:
            mapping[role.name] = min(ranked)[1]
            taken.add(mapping[role.name])
    return mapping


def missing(mapping: Mapping[str, str], table: str) -> list[str]:
    """Labels of required roles that have no column."""
    return [r.label for r in ROLES[table] if r.required and not mapping.get(r.name)]
