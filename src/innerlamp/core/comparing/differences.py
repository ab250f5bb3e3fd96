"""What moved between two versions of an item, in numbers: the difference card.

Each row says what was measured, before and after, and where the largest change lies if it has a
place. Rows come in the order in which a person asks: sizes first, then values, then extremes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from ..compute.geometry.sampling import bilinear
from ..errors import InputError
from ..items.base import Item, numeric_columns, rows_of_table
from ..items.core_pictures import CorePictures
from ..items.electrodes import ElectrodeSurvey
from ..items.features import Features
from ..items.fields import BlockModel, Grid, Surface
from ..items.holes import INTERVAL_PLACES, INTERVAL_ROLES, HoleSet, hole_codes
from ..items.page import Page
from ..items.picture import Picture
from ..items.points import POINT_ROLES, PointSet, SurveyLines, TargetSet
from ..items.walk import Walk


@dataclass(frozen=True)
class Change:
    """One line of a difference card; `place` is (x, y, z) in metres or None."""

    what: str
    before: str
    after: str
    place: tuple[float, float, float] | None = None


def difference(old: Item, new: Item) -> list[Change]:
    """Return what moved from one version of an item to another of the same kind.

    Raises
    ------
    InputError
        When the two are of different kinds.
    """
    if old.kind != new.kind:
        raise InputError(f"{old.title.lower()} can't be compared with {new.title.lower()}", where=new.name)
    return _BY_KIND[old.kind](old, new)


def compare_holes(old: HoleSet, new: HoleSet) -> pd.DataFrame:
    """Return one row a hole: status (new, changed, gone, unchanged), and in words what changed."""
    a, b = old.collars.set_index("hole"), new.collars.set_index("hole")
    both = a.index.intersection(b.index)
    before, after = ({"survey": h.surveys, **h.tables, **h.readings} for h in (old, new))
    words: dict[str, list[str]] = {}
    for hole in both[_collars_differ(a.loc[both], b.loc[both])]:
        words.setdefault(hole, []).extend(_moved(a.loc[hole], b.loc[hole]))
    for name in dict.fromkeys([*before, *after]):
        one, two = before.get(name), after.get(name)
        for hole in _holes_that_differ(one, two, both):
            words.setdefault(hole, []).extend(_rows_changed(name, _of(one, hole), _of(two, hole)))
    rows = []
    for hole in [*b.index, *(h for h in a.index if h not in b.index)]:
        if hole not in a.index:
            rows.append((hole, "new", f"{float(b.loc[hole, 'depth_m']):g} m"))
        elif hole not in b.index:
            rows.append((hole, "gone", ""))
        else:
            said = words.get(hole, [])
            rows.append((hole, "changed" if said else "unchanged", ", ".join(said)))
    return pd.DataFrame(rows, columns=["hole", "status", "what"])


def _collars_differ(a: pd.DataFrame, b: pd.DataFrame) -> np.ndarray:
    columns = ["x", "y", "z", "depth_m"]
    return np.asarray((np.abs(a[columns].to_numpy(float) - b[columns].to_numpy(float)) > 0.005).any(axis=1))


def _of(table: pd.DataFrame | None, hole: str) -> pd.DataFrame | None:
    if table is None:
        return None
    rows = table[table["hole"] == hole]
    return rows if len(rows) else None


def _holes_that_differ(a: pd.DataFrame | None, b: pd.DataFrame | None, both: pd.Index) -> list[str]:
    """Holes whose rows are not the same in both tables; a row counts by its values, not by its line or place."""
    if a is None or b is None:
        other = a if b is None else b
        return [h for h in both if other is not None and h in set(other["hole"].astype(str))]
    columns = [c for c in a.columns if c in b.columns and c not in ("line", "hole", *INTERVAL_PLACES)]
    sums = []
    for table in (a, b):
        codes = hole_codes(table["hole"], both)
        inside = codes >= 0
        values = table.loc[inside, columns]
        hashes = (
            pd.util.hash_pandas_object(values, index=False).to_numpy() if len(values) else np.empty(0, dtype=np.uint64)
        )
        total, count = np.zeros(len(both), dtype=np.uint64), np.bincount(codes[inside], minlength=len(both))
        np.add.at(total, codes[inside], hashes)
        sums.append((total, count))
    (ta, ca), (tb, cb) = sums
    return [str(h) for h in both[(ta != tb) | (ca != cb)]]


def _moved(a: pd.Series, b: pd.Series) -> list[str]:
    words = []
    away = float(np.linalg.norm(a[["x", "y", "z"]].to_numpy(float) - b[["x", "y", "z"]].to_numpy(float)))
    if away > 0.005:
        words.append(f"collar moved {away:.2f} m")
    if abs(float(a["depth_m"]) - float(b["depth_m"])) > 0.005:
        words.append(f"depth {float(a['depth_m']):g} → {float(b['depth_m']):g} m")
    return words


_KEYS = {"from_m", "to_m", "depth_m", "azimuth", "dip"}


def _rows_changed(name: str, a: pd.DataFrame | None, b: pd.DataFrame | None) -> list[str]:
    one, two = (0 if t is None else len(t) for t in (a, b))
    if a is None or b is None:
        return [] if one == two else [f"{name}: {one} → {two} rows"]
    keys = [c for c in ("from_m", "to_m") if c in a.columns] or ["depth_m"]
    values = [
        c
        for c in a.columns
        if c in b.columns and c not in ("line", "hole") and c not in INTERVAL_PLACES and c not in keys
    ]
    left, right = (t.set_index([t[k].round(3) for k in keys])[values] for t in (a, b))
    left, right = left[~left.index.duplicated()], right[~right.index.duplicated()]
    both = left.index.intersection(right.index)
    changed = 0
    if len(both):
        l, r = left.loc[both], right.loc[both]  # noqa: E741
        same = np.ones(len(both), dtype=bool)
        for column in values:
            p, q = l[column], r[column]
            if pd.api.types.is_numeric_dtype(p) and pd.api.types.is_numeric_dtype(q):
                same &= np.isclose(p.to_numpy(float), q.to_numpy(float), rtol=1e-9, atol=1e-9, equal_nan=True)
            else:
                same &= (p.fillna("").astype(str) == q.fillna("").astype(str)).to_numpy()
        changed = int((~same).sum())
    added, gone = len(right) - len(both), len(left) - len(both)
    parts = [f"{n} {word}" for n, word in ((added, "new"), (gone, "gone"), (changed, "changed")) if n]
    return [f"{name}: {', '.join(parts)}"] if parts else []


def _number(value: float) -> str:
    if not np.isfinite(value):
        return "–"
    return f"{value:,.0f}" if abs(value) >= 1000 else f"{value:.4g}"


def _sizes(what: str, a: float, b: float, unit: str = "") -> Change:
    return Change(what, f"{a:,.6g} {unit}".strip(), f"{b:,.6g} {unit}".strip())


def _spread(name: str, unit: str, a: np.ndarray, b: np.ndarray) -> list[Change]:
    a, b = a[np.isfinite(a)], b[np.isfinite(b)]
    if not len(a) or not len(b):
        return [_sizes(f"{name}: values", len(a), len(b))]
    label = f"{name} ({unit})" if unit else name
    return [
        Change(f"{label}: mean", _number(float(a.mean())), _number(float(b.mean()))),
        Change(f"{label}: 95 %", _number(float(np.percentile(a, 95))), _number(float(np.percentile(b, 95)))),
        Change(f"{label}: highest", _number(float(a.max())), _number(float(b.max()))),
    ]


def _holes(a: HoleSet, b: HoleSet) -> list[Change]:
    status = compare_holes(a, b)["status"].value_counts()
    out = [
        _sizes("Holes", len(a.collars), len(b.collars)),
        _sizes("Drilled", a.drilled_m, b.drilled_m, "m"),
    ]
    out.append(
        Change(
            "Holes new, changed, gone", "", ", ".join(str(int(status.get(k, 0))) for k in ("new", "changed", "gone"))
        )
    )
    for name in dict.fromkeys([*a.tables, *b.tables]):
        one, two = a.tables.get(name, pd.DataFrame()), b.tables.get(name, pd.DataFrame())
        out.append(_sizes(f"{name}: intervals", len(one), len(two)))
        for column in (numeric_columns(one, INTERVAL_ROLES) if len(one) else [])[:6]:
            if column in two.columns and b.units.get(column):
                out.append(
                    _spread(column, b.units[column], one[column].to_numpy(float), two[column].to_numpy(float))[0]
                )
    return out


def _table(a: Any, b: Any) -> list[Change]:
    out = [_sizes("Rows", len(a.table), len(b.table))]
    leave = (*POINT_ROLES, "from_m", "to_m", "sampled_m")
    for column in numeric_columns(b.table, leave):
        if column in a.table.columns and b.units.get(column):
            out += _spread(column, b.units[column], a.table[column].to_numpy(float), b.table[column].to_numpy(float))
    return out[:16]


def _features(a: Features, b: Features) -> list[Change]:
    out = [_sizes("Features", len(a.table), len(b.table)), _sizes("Vertices", len(a.vertices), len(b.vertices))]
    for column in [c for c in b.attributes if c in a.table.columns and b.table[c].dtype.kind == "O"][:1]:
        one, two = a.table[column].value_counts(), b.table[column].value_counts()
        out += [
            _sizes(f"{column} {name}", int(one.get(name, 0)), int(two.get(name, 0)))
            for name in dict.fromkeys([*one.index, *two.index])
        ]
    return out[:16]


def _grid(a: Grid, b: Grid) -> list[Change]:
    gx, gy = b.places
    before = bilinear(a.values, a.x0, a.y0, a.dx, a.dy, gx, gy)
    moved = b.values - before
    good = np.isfinite(moved)
    unit = f" ({b.unit})" if b.unit else ""
    out = [
        _sizes("Cells with a value", np.isfinite(a.values).sum(), np.isfinite(b.values).sum()),
        *_spread(b.attribute, b.unit, a.values.ravel(), b.values.ravel()),
    ]
    if good.any():
        j, i = np.unravel_index(np.nanargmax(np.abs(np.where(good, moved, np.nan))), moved.shape)
        size = np.abs(moved[good])
        place = (float(gx[j, i]), float(gy[j, i]), float("nan"))
        out += [
            Change(f"Change{unit}: mean", "", f"{float(moved[good].mean()):+.4g}"),
            Change(f"Change{unit}: 95 % within", "", f"± {float(np.percentile(size, 95)):.4g}"),
            Change(f"Change{unit}: largest", "", f"{float(moved[j, i]):+.4g}", place),
        ]
    return out


def _surface(a: Surface, b: Surface) -> list[Change]:
    from ..compute.geometry.surface_distance import distance_to_surface  # it brings a compiler along

    out = []
    if b.closed:
        out.append(_sizes("Volume", a.volume_m3 / 1e6, b.volume_m3 / 1e6, "million m³"))
    out.append(_sizes("Triangles", len(a.triangles), len(b.triangles)))
    if len(a.triangles) and len(b.triangles):
        step = max(1, len(b.vertices) // 20_000)
        points = b.vertices[::step]
        away = distance_to_surface(points, a.vertices, a.triangles)
        worst = int(np.argmax(away))
        x, y, z = (float(v) for v in points[worst])
        out += [
            Change("Moved: mean", "", f"{away.mean():.2f} m"),
            Change("Moved: 95 % within", "", f"{np.percentile(away, 95):.2f} m"),
            Change("Moved: farthest", "", f"{away[worst]:.2f} m", (x, y, z)),
        ]
    return out


def _units(a: BlockModel, b: BlockModel, name: str) -> list[Change]:
    """Volumes of units, and how far their surfaces moved: what they are inside by now where they ended before."""
    out: list[Change] = []
    for unit in dict.fromkeys([*b.names[name], *a.names[name]]):
        before, after = (
            float(m.mesh.volumes(np.argwhere(m.properties[name] == m.names[name].index(unit))).sum()) / 1e6
            if unit in m.names[name]
            else 0.0
            for m in (a, b)
        )
        out.append(_sizes(f"Volume of {unit}", before, after, "million m³"))
        one, two = (m.properties.get(f"inside {unit}") for m in (a, b))
        if one is None or two is None or a.mesh != b.mesh:
            continue
        near = np.isfinite(one) & np.isfinite(two) & (np.abs(one) < 1.5 * b.mesh.thin)
        if near.any():
            moved = np.where(near, np.abs(two.astype(float) - one), -1.0)
            i, j, k = np.unravel_index(int(np.argmax(moved)), moved.shape)
            if moved[i, j, k] > 0:
                x, y, z = (float(c) for c in b.mesh.centres(np.array([[i, j, k]]))[0])
                words = f"{float(np.median(moved[near])):.1f} m (median), {float(moved[i, j, k]):.0f} m at most"
                out.append(Change(f"Surface of {unit}: moved by", "", words, (x, y, z)))
    return out


def _blocks(a: BlockModel, b: BlockModel) -> list[Change]:
    out: list[Change] = []
    for name in b.properties:
        if name not in a.properties:
            continue
        if name in a.names and name in b.names:
            out += _units(a, b, name)
            continue
        if name.startswith(("inside ", "off ")) and b.names:
            continue
        one, two = a.properties[name], b.properties[name]
        unit = b.units.get(name, "")
        known = one[np.isfinite(one)]
        out += _spread(name, unit, known, two[np.isfinite(two)])
        for level in np.unique(np.percentile(known, [50, 80, 95, 99])) if known.size else []:
            before, after = (
                float(m.mesh.volumes(np.argwhere(v >= level)).sum()) / 1e6 for m, v in ((a, one), (b, two))
            )
            out.append(_sizes(f"Volume with {name} ≥ {level:.3g}", before, after, "million m³"))
        if a.mesh == b.mesh:
            moved = np.where(np.isfinite(one) & np.isfinite(two), two - one, np.nan)
            if np.isfinite(moved).any():
                i, j, k = np.unravel_index(np.nanargmax(np.abs(moved)), moved.shape)
                x, y, z = (float(c) for c in b.mesh.centres(np.array([[i, j, k]]))[0])
                out.append(Change(f"{name}: largest change", "", f"{float(moved[i, j, k]):+.4g}", (x, y, z)))
    return out


def _targets(a: TargetSet, b: TargetSet) -> list[Change]:
    out = [_sizes("Targets", len(a.table), len(b.table))]
    near = 60.0
    for row in rows_of_table(b.table):
        away = (
            np.hypot(a.table["x"].to_numpy(float) - row.x, a.table["y"].to_numpy(float) - row.y)
            if len(a.table)
            else np.empty(0)
        )
        hit = int(np.argmin(away)) if len(away) and away.min() <= near else -1
        before = (
            f"rank {int(a.table['rank'].iloc[hit])}, {float(a.table['score'].iloc[hit]):.2f}"
            if hit >= 0
            else "not there"
        )
        after = f"rank {int(row.rank)}, {row.score:.2f}"
        if before != after:
            out.append(
                Change(
                    f"Target at {row.x:,.0f} E {row.y:,.0f} N",
                    before,
                    after,
                    (float(row.x), float(row.y), float(row.z)),
                )
            )
    return out[:16]


def _picture(a: Picture, b: Picture) -> list[Change]:
    out = [
        _sizes("Columns", a.pixels.shape[1], b.pixels.shape[1]),
        _sizes("Rows", a.pixels.shape[0], b.pixels.shape[0]),
    ]
    away = np.linalg.norm(a.corners - b.corners, axis=1)
    worst = int(np.argmax(away))
    x, y = (float(v) for v in b.corners[worst])
    return [*out, Change("Corner moved: farthest", "", f"{away[worst]:.2f} m", (x, y, float("nan")))]


def _core(a: CorePictures, b: CorePictures) -> list[Change]:
    names = [set(each.table["file"].astype(str)) for each in (a, b)]
    out = [_sizes("Pictures", len(a.table), len(b.table))]
    for words, which in (("New", names[1] - names[0]), ("Gone", names[0] - names[1])):
        if which:
            out.append(Change(words, "", ", ".join(sorted(which)[:12]) + (" …" if len(which) > 12 else "")))
    return out


def _page(a: Page, b: Page) -> list[Change]:
    out = [_sizes("Elements", len(a.elements), len(b.elements))]
    if a.paper != b.paper:
        out.append(Change("Paper", a.paper, b.paper))
    scales = [next((e.scale for e in page.maps), 0.0) for page in (a, b)]
    if scales[0] != scales[1]:
        out.append(Change("Scale of the map", f"1:{scales[0]:g}", f"1:{scales[1]:g}"))
    return out


def _walk(a: Walk, b: Walk) -> list[Change]:
    out = [_sizes("Views", len(a.stops), len(b.stops))]
    changed = [v["name"] for v in b.stops if v not in a.stops]
    return [*out, Change("New or changed", "", ", ".join(changed))] if changed else out


_BY_KIND: dict[str, Callable[[Any, Any], list[Change]]] = {
    HoleSet.kind: _holes,
    ElectrodeSurvey.kind: _table,
    Picture.kind: _picture,
    CorePictures.kind: _core,
    Features.kind: _features,
    PointSet.kind: _table,
    SurveyLines.kind: _table,
    Grid.kind: _grid,
    Surface.kind: _surface,
    BlockModel.kind: _blocks,
    TargetSet.kind: _targets,
    Page.kind: _page,
    Walk.kind: _walk,
}
