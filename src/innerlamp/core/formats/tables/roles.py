"""What the columns of each kind of table can be, and the headings by which each is known."""

from __future__ import annotations

from dataclasses import dataclass

from .heading_words import words_of


@dataclass(frozen=True)
class Role:
    """One thing a table can tell: what it is called inside, for people, and by which headings it is known.

    `headings` are the English ones; `words` names the line of `heading_words` with those of other languages.
    """

    name: str
    label: str
    required: bool
    headings: tuple[str, ...]
    words: str = ""

    @property
    def known_by(self) -> tuple[str, ...]:
        """All headings that tell it, the likeliest first."""
        return (*self.headings, *words_of(self.words))


_HOLE = Role(
    "hole",
    "Hole ID",
    True,
    ("holeid", "hole", "bhid", "dhid", "holeno", "drillhole", "holename", "borehole", "dh", "ddh", "holeident"),
    "hole",
)
_EAST = (
    "easting",
    "east",
    "x",
    "xutm",
    "xc",
    "xcentre",
    "xcenter",
    "xcentroid",
    "centroidx",
    "xmid",
    "midx",
    "xcollar",
    "collarx",
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
    *words_of("longitude"),
)
_NORTH = (
    "northing",
    "north",
    "y",
    "yutm",
    "yc",
    "ycentre",
    "ycenter",
    "ycentroid",
    "centroidy",
    "ymid",
    "midy",
    "ycollar",
    "collary",
    "utmn",
    "northingm",
    "coordy",
    "mgan",
    "nutm",
    "ycoord",
    "n",
    "latitude",
    "lat",
    *words_of("latitude"),
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
    "zcollar",
    "zc",
    "zcentre",
    "zcenter",
    "zcentroid",
    "centroidz",
    "zmid",
    "midz",
    "collarz",
    "sensorelev",
    "gpsalt",
)

# The sensor's elevation by the names that loggers give it. A height above ground (radar, laser, clearance) is none.
_SENSOR = (
    "sensorelevation",
    "sensoralt",
    "sensoraltitude",
    "zsensor",
    "sensorz",
    "magz",
    "zmag",
    "magelev",
    "birdelev",
    "birdz",
    "gpsz",
    "zgps",
    "gpsheight",
    "gpselev",
    "gpselevation",
    "gpsaltitude",
    "altgps",
    "galt",
    "elevgps",
    "altitudegps",
    "heightgps",
    "mslheight",
    "heightmsl",
    "altmsl",
    "altitudemsl",
    "ellipsoidheight",
    "heightellipsoid",
    "hae",
    "orthometricheight",
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
# Daughter holes, in the languages of the imports.
_PARENT = (
    "parent",
    "parenthole",
    "parentholeid",
    "parentid",
    "motherhole",
    "mother",
    "sondajemadre",
    "pozomadre",
    "sondeomadre",
    "madre",
    "troumere",
    "sondagemere",
    "furopai",
    "furomae",
    "mutterbohrung",
    "stammbohrung",
    "emareika",
    "moderhal",
)
_WEDGE = (
    "wedge",
    "wedgedepth",
    "wedgeat",
    "kickoff",
    "kickoffdepth",
    "kop",
    "kopdepth",
    "branchdepth",
    "profundidadcuna",
    "cuna",
    "profondeurcoin",
    "profondeurderivation",
    "profundidadecunha",
    "ablenkpunkt",
    "ablenkteufe",
    "keilteufe",
    "kiilasyvyys",
    "kildjup",
)
_DIP = ("dip", "inclination", "incl", "plunge", "inc")

ROLES: dict[str, tuple[Role, ...]] = {
    "collar": (
        _HOLE,
        Role("x", "Easting", True, _EAST, "x"),
        Role("y", "Northing", True, _NORTH, "y"),
        Role("z", "Elevation", False, _ELEV, "z"),
        Role(
            "depth_m",
            "Final depth",
            False,
            ("depth", "finaldepth", "eoh", "totaldepth", "td", "maxdepth", "length", "enddepth", "eohdepth"),
            "final depth",
        ),
        Role("date", "Date", False, ("date", "drilled", "enddate", "completed", "datecompleted", "drilldate"), "date"),
        Role("azimuth", "Azimuth", False, _AZIMUTH, "azimuth"),
        Role("dip", "Dip", False, _DIP, "dip"),
        Role(
            "declination",
            "Declination",
            False,
            ("declination", "magdec", "magneticdeclination", "declin", "decl", "magdecl", "declinacion", "declinaison"),
        ),
        Role("parent", "Parent hole", False, _PARENT),
        Role("wedge_m", "Wedge depth", False, _WEDGE),
    ),
    "reading": (
        _HOLE,
        Role("depth_m", "Depth", True, ("depth", "at", "depthm", "measureddepth", "md", "dept", "position"), "depth"),
    ),
    "survey": (
        _HOLE,
        Role(
            "depth_m",
            "Depth",
            True,
            ("depth", "at", "surveydepth", "distance", "depthm", "measureddepth", "md", "station"),
            "depth",
        ),
        Role("azimuth", "Azimuth", True, _AZIMUTH, "azimuth"),
        Role("dip", "Dip", True, _DIP, "dip"),
        Role("date", "Date", False, ("date", "surveydate", "measured", "datesurveyed", "readdate"), "date"),
        Role(
            "instrument",
            "Instrument",
            False,
            (
                "instrument",
                "tool",
                "surveymethod",
                "surveytype",
                "device",
                "method",
                "instrumento",
                "gerat",
                "mittalaite",
            ),
        ),
        Role(
            "declination",
            "Declination",
            False,
            ("declination", "magdec", "magneticdeclination", "declin", "decl", "magdecl", "declinacion", "declinaison"),
        ),
    ),
    "interval": (
        _HOLE,
        Role("from_m", "From", True, ("from", "fromm", "depthfrom", "start", "mfrom", "top"), "from"),
        Role("to_m", "To", True, ("to", "tom", "depthto", "end", "mto", "bottom", "base"), "to"),
    ),
    "points": (
        Role("x", "Easting", True, _EAST, "x"),
        Role("y", "Northing", True, _NORTH, "y"),
        Role("z", "Elevation", False, _ELEV, "z"),
    ),
    "structures": (
        Role("x", "Easting", True, _EAST, "x"),
        Role("y", "Northing", True, _NORTH, "y"),
        Role("z", "Elevation", False, _ELEV, "z"),
        Role("dip", "Dip or plunge", True, ("dip", "dipangle", "plunge", "inclination", "dipdeg"), "dip"),
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
            "dip direction strike",
        ),
    ),
    "resistivity": (
        Role("line", "Line", False, ("line", "lineno", "lineid", "linenumber", "profile"), "line"),
        Role("a", "Current a", True, ()),
        Role("b", "Current b", True, ()),
        Role("m", "Voltage m", True, ()),
        Role("n", "Voltage n", True, ()),
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
        Role("voltage", "Voltage", False, ("v", "voltage", "vp", "dv", "u", "vmv", "vpmv", "potential", "vmn", "dvmn")),
        Role("current", "Current", False, ("i", "current", "in", "iab", "ima", "inma"), "current"),
        Role(
            "chargeability",
            "Chargeability (IP)",
            False,
            ("chargeability", "charg", "ip", "m", "mx", "mtotal", "globalm", "mglobal", "ipmvv", "appchargeability"),
            "chargeability",
        ),
        Role(
            "chargeability_error",
            "IP error",
            False,
            ("chargeabilityerror", "charger", "iperr", "iperror", "mdev", "devm", "merr", "ipdev", "mstd"),
        ),
        Role(
            "error",
            "Error",
            False,
            ("error", "err", "errpct", "dev", "q", "stdev", "std", "sd", "uncertainty", "errorpct", "devpct"),
        ),
        Role("stacked", "Stacks", False, ("stack", "stacks", "nstack", "cycles", "repeats")),
    ),
    "electrodes": (
        Role("line", "Line", False, ("line", "lineno", "lineid", "linenumber", "profile"), "line"),
        Role(
            "electrode",
            "Number",
            False,
            ("electrode", "no", "number", "id", "el", "elno", "electrodeno", "pin", "index"),
            "electrode",
        ),
        Role(
            "distance_m",
            "Distance along line",
            False,
            ("distance", "distancem", "chainage", "dist", "station", "position", "along"),
            "distance",
        ),
        Role("x", "Easting", False, _EAST, "x"),
        Role("y", "Northing", False, _NORTH, "y"),
        Role("z", "Elevation", False, _ELEV, "z"),
        Role(
            "buried_m",
            "Depth below ground",
            False,
            ("depth", "depthm", "buried", "burial", "burialdepth", "depthbelowground", "profundidad", "profondeur"),
        ),
    ),
    "controls": (
        Role("sample", "Sample", True, ("sample", "sampleid", "sampleno", "samplenumber", "id", "samp"), "sample"),
        Role(
            "type",
            "Kind of control",
            True,
            ("type", "qctype", "kind", "controltype", "sampletype", "qaqc", "qc", "qaqctype", "control"),
            "type",
        ),
        Role(
            "standard",
            "Standard",
            False,
            ("standard", "standardid", "crm", "std", "reference", "material", "stdid", "crmid"),
            "standard",
        ),
        Role(
            "original",
            "Original sample",
            False,
            ("original", "originalsample", "parent", "parentsample", "duplicateof", "dupof", "origsample", "checkof"),
            "original",
        ),
        Role(
            "batch",
            "Batch",
            False,
            ("batch", "job", "labjob", "despatch", "dispatch", "report", "certificate"),
            "batch",
        ),
        Role("date", "Date", False, ("date", "analysed", "assaydate", "reported", "labdate"), "date"),
    ),
    "lines": (
        Role("line", "Line", False, ("line", "lineno", "lineid", "linenumber", "ln", "flightline"), "line"),
        Role("x", "Easting", True, _EAST, "x"),
        Role("y", "Northing", True, _NORTH, "y"),
        Role("z", "Sensor elevation", False, (*_ELEV, *_SENSOR), "z"),
        Role("date", "Date", False, ("date", "flown", "surveydate", "day", "datetime", "timestamp"), "date"),
        Role("time", "Time", False, ("time", "utc", "utctime", "gpstime", "clock", "hhmmss", "localtime"), "time"),
        Role(
            "fiducial",
            "Fiducial",
            False,
            ("fid", "fiducial", "fidno", "fiducialno", "recno", "record", "seq", "counter"),
        ),
    ),
}
