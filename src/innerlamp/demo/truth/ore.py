"""What Emberlow carries: grades at places, and the bodies that nobody has drilled yet."""

from __future__ import annotations

import numpy as np

from . import land, rocks
from .frame import (
    APEX,
    FAULT_POINT,
    GABBRO,
    ICE_DRAG,
    ICE_TOWARDS,
    LENS_CUPOLA,
    ORIGIN,
    SKARN_CUPOLA,
    VEIN_STRIKE,
    FloatArray,
    along_and_across,
    code_of,
)

ELEMENTS = ("Sn", "W", "Cu", "As", "Zn", "Bi")  # ppm, Cu in %
BODIES = ("veins east of the fault", "skarn on the hidden cupola", "blind greisen lens")


def grades(x: FloatArray, y: FloatArray, z: FloatArray) -> dict[str, FloatArray]:
    """Expected grades, without local variation: Sn, W, As, Zn, Bi in ppm, Cu in %."""
    code = rocks.rock(x, y, z)
    p = rocks.restored(x, y, z)
    zone = rocks.over_crest(x, y, z)
    halo = np.exp(-rocks.vein_distance(x, y, z) / 5.0)
    shoot = np.exp(-((rocks.dyke_distance(p[0], p[1]) / 140.0) ** 2))
    strong = zone * halo * (0.25 + 1.6 * shoot)
    # The lens is even inside; its halo reaches some tens of metres up and carries tungsten and arsenic more than tin.
    place = rocks.lens_distance(*p)
    lens = (place < 1.0).astype(float)
    aura = np.where(place < 1.0, 1.0, np.exp(-(place - 1.0) / 0.55))
    skarn = (code == code_of("SKARN")).astype(float)
    rich = np.where(skarn > 0, 0.4 + 0.6 * _on_hidden(p[0], p[1]), 0.0)
    graphite = (code == code_of("GRSL")).astype(float)
    basic = ((code == code_of("GABB")) | (code == code_of("DOLR"))).astype(float)
    cover = np.where(code == code_of("TILL"), 0.08, 1.0)
    return {
        "Sn": cover * (6.0 + 5_200.0 * strong + 420.0 * skarn + 4_300.0 * lens + 25.0 * aura),
        "W": cover * (3.0 + 1_500.0 * strong * (0.4 + shoot) + 160.0 * skarn + 900.0 * lens + 120.0 * aura),
        "Cu": cover
        * (0.004 + 0.10 * strong + 0.55 * skarn + 0.75 * rich + 0.03 * lens + 0.006 * graphite + 0.009 * basic),
        "As": cover * (18.0 + 1_900.0 * strong + 260.0 * skarn + 500.0 * lens + 380.0 * aura + 55.0 * graphite),
        "Zn": cover * (75.0 + 130.0 * strong + 2_400.0 * skarn + 160.0 * graphite + 45.0 * basic),
        "Bi": cover * (0.4 + 70.0 * strong + 45.0 * skarn + 30.0 * lens + 8.0 * aura),
    }


def _on_hidden(x: FloatArray, y: FloatArray) -> FloatArray:
    return np.asarray(np.exp(-(((x - SKARN_CUPOLA[0]) / 500.0) ** 2) - ((y - SKARN_CUPOLA[1]) / 500.0) ** 2))


def body(x: FloatArray, y: FloatArray, z: FloatArray) -> np.ndarray:
    """Number of the blind body at places, 1..3 in the order of `BODIES`; 0 elsewhere."""
    code = rocks.rock(x, y, z)
    p = rocks.restored(x, y, z)
    t, _ = along_and_across(p[0] - APEX[0], p[1] - APEX[1], VEIN_STRIKE)
    greisen = code == code_of("GREIS")
    beyond = greisen & rocks.fault_side(x, y, z) & (t > 400.0) & (rocks.over_crest(x, y, z) > 0.25)
    lens = greisen & (rocks.lens_distance(*p) < 1.0)
    near = np.hypot(p[0] - SKARN_CUPOLA[0], p[1] - SKARN_CUPOLA[1]) < 700.0
    skarn = (code == code_of("SKARN")) & near
    return np.where(beyond, 1, np.where(skarn, 2, np.where(lens, 3, 0)))


def soil_source(x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Where what lies in the till at places came from: up-ice by the whole drag, a little uphill as well."""
    a = np.radians(ICE_TOWARDS)
    gx = (land.ground(x + 10.0, y) - land.ground(x - 10.0, y)) / 20.0
    gy = (land.ground(x, y + 10.0) - land.ground(x, y - 10.0)) / 20.0
    return x - ICE_DRAG * np.sin(a) + 120.0 * gx, y - ICE_DRAG * np.cos(a) + 120.0 * gy


def known_facts() -> list[dict[str, object]]:
    """What is hidden and what fools, with its place, for `planted.json`."""
    a = np.radians(ICE_TOWARDS)

    def at(kind: str, name: str, place: tuple[float, float], signature: str, reach: float) -> dict[str, object]:
        return {
            "kind": kind,
            "name": name,
            "easting": round(ORIGIN[0] + place[0], 1),
            "northing": round(ORIGIN[1] + place[1], 1),
            "radius": reach,
            "signature": signature,
        }

    t = np.radians(VEIN_STRIKE)
    dx, dy, _ = rocks.slip()
    east = (APEX[0] + 800.0 * np.sin(t) + dx, APEX[1] + 800.0 * np.cos(t) + dy)
    skarn = (SKARN_CUPOLA[0] + dx, SKARN_CUPOLA[1] + dy)
    ice = (APEX[0] + ICE_DRAG * np.sin(a), APEX[1] + ICE_DRAG * np.cos(a))
    return [
        at("blind body", BODIES[0], east, "chargeable and resistive at depth; nothing in soils", 300.0),
        at("blind body", BODIES[1], skarn, "magnetic, dense on the flank of a gravity low, conductive", 300.0),
        at("blind body", BODIES[2], LENS_CUPOLA, "gravity low; faint tungsten and arsenic in a hole beside it", 200.0),
        at("fooler", "soil anomaly that the ice moved", ice, "tin in soils without ore below", 300.0),
        at("fooler", "gabbro stock", GABBRO, "magnetic and dense, barren", 350.0),
        at("fooler", "graphitic slate", (2_600.0, 3_300.0), "conductive and chargeable, barren", 400.0),
        at("fooler", "fence", (1_460.0, 3_430.0), "magnetic spikes on neighbouring lines", 500.0),
        at("fact", "fault", (FAULT_POINT[0], FAULT_POINT[1]), "normal, down to the east, dies out northwards", 0.0),
    ]
