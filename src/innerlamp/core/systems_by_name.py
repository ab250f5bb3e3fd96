"""Coordinate systems found by what people call them: a code, a zone, a name, a place."""

from __future__ import annotations

import functools
import re
from dataclasses import dataclass

import pyproj

from .crs import is_metric
from .elements import letters_of


@dataclass(frozen=True)
class Found:
    """A projected coordinate system in metres: its code (``EPSG:32719``), name, and the area that it is meant for."""

    code: str
    name: str
    area: str

    @property
    def words(self) -> str:
        """Code, name and area, as a list shows them."""
        return f"{self.code} · {self.name}" + (f" · {self.area}" if self.area else "")


@functools.lru_cache(maxsize=1)
def _all() -> tuple[tuple[Found, str, bool], ...]:
    """All projected systems that are in use, with the text that they are found by, and whether they are WGS 84."""
    from pyproj.database import query_crs_info
    from pyproj.enums import PJType

    out = []
    for info in query_crs_info(auth_name="EPSG", pj_types=PJType.PROJECTED_CRS):
        if info.deprecated:
            continue
        area = str(info.area_of_use.name or "") if info.area_of_use is not None else ""
        found = Found(f"EPSG:{info.code}", info.name, area)
        out.append((found, letters_of(f"{info.code} {info.name} {area}"), info.name.startswith("WGS 84 / UTM")))
    return tuple(out)


def systems_named(text: str, most: int = 20) -> list[Found]:
    """Return projected systems in metres that a text names: all of its words, in any order; the likeliest first.

    ``UTM 19S`` finds the zone of every datum, WGS 84 first; a number alone finds the code.
    """
    plain = letters_of(text.replace("EPSG:", "").replace("epsg:", ""))
    zone = re.search(r"\b(?:utm\s*)?(?:zone\s*)?(\d{1,2})\s*([ns])\b", plain)
    words = [w for w in re.split(r"[^a-z0-9]+", plain) if w and w != "zone"]
    if zone and ("utm" in plain or len(words) <= 2):
        words = [w for w in words if w not in (zone.group(1), zone.group(2), zone.group(1) + zone.group(2), "utm")]
        words += ["utm", f"{int(zone.group(1))}{zone.group(2)}"]
    if not words:
        return []
    hits = []
    for found, known, usual in _all():
        parts = set(re.split(r"[^a-z0-9]+", known))
        if not all(w in parts or (len(w) > 3 and w in known) for w in words):
            continue
        exact = found.code.rpartition(":")[2] == words[0]
        whole = sum(w in parts for w in words)
        hits.append(((not exact, not usual, -whole, len(found.name)), found))
    hits.sort(key=lambda h: h[0])
    out = []
    for _, found in hits:
        if _in_metres(found.code):
            out.append(found)
        if len(out) == most:
            break
    return out


@functools.lru_cache(maxsize=4096)
def _in_metres(code: str) -> bool:
    try:
        system = pyproj.CRS.from_user_input(code)
    except pyproj.exceptions.CRSError:
        return False
    return is_metric(system)
