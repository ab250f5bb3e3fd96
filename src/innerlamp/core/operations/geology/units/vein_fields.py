"""Veins of a model: from pieces of holes, from mapped and drawn lines; one body, or several parallel ones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ....compute.geology.contacts import pieces
from ....compute.geology.faults import Fault, taken_back
from ....compute.geology.veins import Vein, ended, fit_vein, mean_plane, parted
from ....compute.geometry.orientations import plane_normal
from ....errors import InputError
from ....items.features import LINE, Features, part_vertices
from .hand_evidence import densified, drawn_units, is_of, mapped_units
from .model_extent import height_at
from .model_sources import Sources
from .unit_params import BuildModel


@dataclass(frozen=True)
class Bodies:
    """The bodies of a vein unit, the walls (n, 3) as they lie now with their hole, and where their pieces were before faults."""

    veins: tuple[Vein, ...]
    walls: np.ndarray
    hole: np.ndarray
    centres: np.ndarray

    def value(self, then: np.ndarray) -> np.ndarray:
        """Return metres (n,) inside of any of them at places before faults."""
        return np.asarray(np.max([v.value(then) for v in self.veins], axis=0))

    def ended(self, values: np.ndarray, other: Bodies, then: np.ndarray) -> np.ndarray:
        """Return metres (n,) inside when they end at the first body of another vein."""
        return ended(values, other.veins[0].off(then), other.veins[0].off(self.centres))


def vein_bodies(number: int, of: Sources, p: BuildModel, faults: Sequence[Fault]) -> Bodies:
    """Return the bodies of a vein unit.

    Raises
    ------
    InputError
        When neither a hole nor a line has it, or its plane can't be told.
    """
    name, row = of.units[number].name, p.units[number]
    normal = None
    if row.dip is not None and row.dip_direction is not None:
        normal = plane_normal(np.array([row.dip]), np.array([row.dip_direction]))[0]
    doubted = p.mended("doubtful", name)
    tops, feet, hole, ends = [np.empty((0, 3))], [np.empty((0, 3))], [np.empty(0, object)], np.empty((2, 0, 3))
    log = of.log
    if log is not None:
        names = np.array([*map(str, log.names)], dtype=object)
        sure = ~np.isin(names[log.runs.hole], doubted)
        of_hole, start, stop = pieces(log.runs, log.unit, number)
        mine = ~np.isin(names[of_hole], doubted) if len(of_hole) else np.zeros(0, dtype=bool)
        others = np.flatnonzero((log.unit > number) & sure)
        tops, feet = ([log.places(of_hole[mine], d[mine])] for d in (start, stop))
        hole = [names[of_hole[mine]]] if len(of_hole) else hole
        ends = np.stack([log.places(log.runs.hole[others], d[others]) for d in (log.runs.start, log.runs.stop)])
    lines = _lines(number, of, p)
    thick = row.thickness or 2.0 * max(p.vein_least, 0.5)
    for line in lines:
        across = normal if normal is not None else _upright(line)
        tops.append(line + 0.5 * thick * across)
        feet.append(line - 0.5 * thick * across)
        hole.append(np.full(len(line), "", dtype=object))
    drilled_only = not lines
    for top, foot in _outcrops(number, of, p, normal):
        drilled_only = False
        tops.append(top)
        feet.append(foot)
        hole.append(np.full(len(top), "", dtype=object))
    whole_top, whole_foot = (taken_back(np.vstack(w), faults) for w in (tops, feet))
    if not len(whole_top):
        raise InputError(f"no hole has the vein '{name}', and no line", fix="Look at its codes")
    without = tuple(taken_back(e, faults) for e in ends)
    centres = 0.5 * (whole_top + whole_foot)
    of_body = np.zeros(len(centres), dtype=np.int64)
    if row.apart is not None:
        across = mean_plane(centres)[1][2] if normal is None else normal
        of_body = parted(centres @ across, row.apart)
        if normal is None:
            normal = across
    elif lines and len(whole_top) == sum(map(len, lines)):
        of_body = np.repeat(np.arange(len(lines)), [len(line) for line in lines])
    made = []
    for k in range(int(of_body.max()) + 1):
        rows = of_body == k
        plane = normal if normal is not None else (None if drilled_only else _upright(centres[rows]))
        made.append(
            fit_vein(
                whole_top[rows],
                whole_foot[rows],
                (without[0], without[1]),
                plane,
                p.vein_least,
                row.beyond or p.vein_reach,
            )
        )
    return Bodies(tuple(made), np.vstack([*tops, *feet]), np.tile(np.concatenate(hole), 2), centres)


def _upright(line: np.ndarray) -> np.ndarray:
    """The level normal (3,) of an upright plane along a line."""
    away = line[:, :2] - line[:, :2].mean(axis=0)
    _, _, rows = np.linalg.svd(away, full_matrices=False)
    return np.array([-rows[0, 1], rows[0, 0], 0.0])


def _outcrops(
    number: int, of: Sources, p: BuildModel, normal: np.ndarray | None
) -> list[tuple[np.ndarray, np.ndarray]]:
    """Walls (n, 3) of a vein at its mapped polygons: where lines across its strike enter and leave them, on the ground and down dip."""
    if of.chart is None:
        return []
    import shapely

    from ....formats.shapes.features import polygons_of

    mine = is_of(number, mapped_units(of.chart, p.map_units), of)
    row = p.units[number]
    west, east, south, north = of.mesh.bounds[:4]
    box, out = shapely.box(west, south, east, north), []
    for owner, whole in polygons_of(of.chart):
        shape = whole.intersection(box)
        if not mine[owner] or shape.is_empty:
            continue
        corners = np.array(shapely.minimum_rotated_rectangle(shape).exterior.coords)
        sides = np.diff(corners[:3], axis=0)
        long = sides[int(np.argmax(np.linalg.norm(sides, axis=1)))]
        across = np.array([-long[1], long[0]]) if normal is None or np.hypot(*normal[:2]) < 0.05 else normal[:2]
        across = across / np.linalg.norm(across)
        along = np.array([across[1], -across[0]])
        middle = np.array(shape.centroid.coords[0])
        ring = shapely.get_coordinates(shape) - middle
        reach = float(np.abs(ring @ across).max()) + 10.0
        spots = np.arange(float((ring @ along).min()) + 5.0, float((ring @ along).max()), max(2.0 * p.cell, 20.0))
        walls: list[np.ndarray] = []
        for s in spots:
            at = middle + s * along
            cut = shape.intersection(shapely.LineString([at - reach * across, at + reach * across]))
            walls += [
                np.array(g.coords) for g in shapely.get_parts(cut) if g.geom_type == "LineString" and g.length > 0
            ]
        if walls:
            top, foot = (np.array([w[end] for w in walls]) for end in (-1, 0))
            pair = [np.column_stack([w, height_at(of.ground, w[:, 0], w[:, 1])]) for w in (top, foot)]
            deeper = [np.vstack([w, *_deeper(w, row.dip, row.dip_direction, p.map_reach)]) for w in pair]
            out.append((deeper[0], deeper[1]))
    return out


def _lines(number: int, of: Sources, p: BuildModel) -> list[np.ndarray]:
    """Mapped and drawn lines of a vein, their places (n, 3); what lies on the ground is carried down the dip as far as asked."""
    row, out = p.units[number], []
    charts: list[tuple[Features, np.ndarray]] = [(item, drawn_units(item, p.line_units)) for item in of.drawn]
    if of.chart is not None:
        charts.append((of.chart, mapped_units(of.chart, p.map_units)))
    west, east, south, north = of.mesh.bounds[:4]
    for item, names in charts:
        mine = is_of(number, names, of)
        for k in np.flatnonzero((item.part_types == LINE) & mine[item.owner]):
            path = part_vertices(item, int(k)).astype(float)
            on_ground = ~np.isfinite(path[:, 2])
            path = np.where(np.isfinite(path), path, 0.0)
            at = densified(path, max(2.0 * p.cell, 10.0))
            at = at[(at[:, 0] > west) & (at[:, 0] < east) & (at[:, 1] > south) & (at[:, 1] < north)]
            if len(at) < 2:
                continue
            if on_ground.any():
                at[:, 2] = height_at(of.ground, at[:, 0], at[:, 1])
                at = np.vstack([at, *_deeper(at, row.dip, row.dip_direction, p.map_reach)])
            out.append(at)
    return out


def _deeper(at: np.ndarray, dip: float | None, direction: float | None, reach: float) -> list[np.ndarray]:
    if not reach:
        return []
    d, a = np.radians(90.0 if dip is None else dip), np.radians(direction or 0.0)
    down = np.array([np.cos(d) * np.sin(a), np.cos(d) * np.cos(a), -np.sin(d)])
    return [at + w * reach * down for w in (0.35, 0.7, 1.0)]
