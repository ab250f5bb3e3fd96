"""Veins of a model: from pieces of holes, from mapped and drawn lines; one body, or several parallel ones."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ....compute.geology.contacts import pieces
from ....compute.geology.faults import Fault, taken_back
from ....compute.geology.units.by_hand import densified
from ....compute.geology.units.vein_bodies import Bodies, bodies_of, deeper, upright_along, walls_across
from ....compute.geometry.orientations import plane_normal
from ....errors import InputError
from ....items.features import LINE, Features, part_vertices
from .hand_evidence import drawn_units, is_of, mapped_units
from .model_extent import height_at
from .model_sources import Sources
from .unit_params import BuildModel


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
        across = normal if normal is not None else upright_along(line)
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
    without = taken_back(ends[0], faults), taken_back(ends[1], faults)
    return bodies_of(
        whole_top, whole_foot, without, np.vstack([*tops, *feet]), np.concatenate(hole),
        normal=normal, apart=row.apart, lines=[len(line) for line in lines], upright=not drilled_only,
        least=p.vein_least, reach=row.beyond or p.vein_reach,
    )  # fmt: skip


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
        walls = walls_across(shape, normal, max(2.0 * p.cell, 20.0))
        if walls:
            top, foot = (np.array([w[end] for w in walls]) for end in (-1, 0))
            pair = [np.column_stack([w, height_at(of.ground, w[:, 0], w[:, 1])]) for w in (top, foot)]
            carried = [np.vstack([w, *deeper(w, row.dip, row.dip_direction, p.map_reach)]) for w in pair]
            out.append((carried[0], carried[1]))
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
                at = np.vstack([at, *deeper(at, row.dip, row.dip_direction, p.map_reach)])
            out.append(at)
    return out
