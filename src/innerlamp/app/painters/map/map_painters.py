"""How each kind of item is drawn on the map. A painter returns the graphics it made; the pane owns them."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pyqtgraph as pg
from PySide6.QtGui import QColor, QPainterPath, QPen, QTransform
from PySide6.QtWidgets import QGraphicsPathItem

from ....core.compute.geometry.footprint import footprint
from ....core.compute.gridding.shading import ground_shade
from ....core.items.attributes import Attribute, is_ground, orientation
from ....core.items.base import Item
from ....core.items.electrodes import ElectrodeSurvey
from ....core.items.features import HOLE, LINE, POINT, RING, Features, only, part_vertices
from ....core.items.fields import BlockModel, Grid, Surface
from ....core.items.holes import INTERCEPTS, HoleSet, readings_with, table_with
from ....core.items.legend import position
from ....core.items.picture import Picture
from ....core.items.points import PointSet, SurveyLines, TargetSet
from ....core.items.signs import SYMBOLS, line_sign, plane_sign
from ....core.items.style import Style
from ....core.project.records import Entry
from ...context.sight import Sight
from ..kit import flat
from ..kit.cell_colours import cell_colours
from ..kit.colours import bins, class_colour, colour_at, colour_values, shown
from ..kit.fading import clearness
from ..kit.true_units import areas, on_map, true_contacts
from ..kit.unit_areas import UnitAreas, pieces_of
from ..kit.views import MapView
from .contour_lines import ContourLines, level_of
from .line_signs import SignedLines
from .point_marks import PointMarks
from .structure_signs import StructureSigns

MOST_LABELS = 3000


def paint_grid(ctx: Sight, view: MapView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, Grid)
    ny, nx = item.values.shape
    step = max(1, int(np.ceil(max(nx, ny) / 1500)))
    values = item.values[::step, ::step]
    west, east, south, north, _, _ = item.bounds
    if item.is_ground:
        shade = ground_shade(values, item.dx * step, item.dy * step)
        dark, bright = (20, 120) if ctx.theme.name == "night" else (110, 246)
        level = np.nan_to_num(dark + (bright - dark) * shade).astype(np.uint8)
        rgba = np.stack([level, level, level, np.where(np.isfinite(shade), 255, 0).astype(np.uint8)], axis=-1)
        return [flat.image(rgba, west, south, east - west, north - south, -20)]
    rgba = colour_values(ctx.legend(item.attribute, item), values, hide_below=True)
    return [flat.image(rgba, west, south, east - west, north - south, -10, 0.72)]


def paint_points(ctx: Sight, view: MapView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, PointSet)
    x, y = item.table["x"].to_numpy(float), item.table["y"].to_numpy(float)
    attribute = ctx.attribute_of(entry)
    if item.content == "workings":
        names = (
            item.table.iloc[:, [c for c in range(item.table.shape[1]) if item.table.columns[c] in item.attributes]]
            .iloc[:, 0]
            .astype(str)
        )
        signs = flat.markers(x, y, None, None, 10, 6, "t1", QColor(ctx.theme.text))
        return [*signs, flat.Labels(list(names), x, y, ctx.theme.text, ctx.theme.panel, 7)]
    if orientation(item.attributes):
        return _planes(ctx, item, attribute)
    return marks(ctx, entry, item, attribute, x, y, np.arange(len(x)))


def sizes_of(item: PointSet, style: Style, plain: float) -> np.ndarray:
    """Diameter in pixels of the symbol of each point; 0 where the value that tells it is missing."""
    size, t = style.size or plain, item.table
    if style.size_by not in t.columns or t[style.size_by].dtype.kind not in "fiu":
        return np.full(len(t), size)
    v = t[style.size_by].to_numpy(float)
    top = float(np.nanpercentile(v, 99.5)) if np.isfinite(v).any() else 0.0
    with np.errstate(invalid="ignore"):
        share = np.sqrt(np.clip(v / top, 0.0, 1.0)) if top > 0 else np.zeros(len(v))
    return np.where(np.isfinite(share), np.maximum(max(size, 22.0) * share, 1.5), 0.0)


# Symbol and size in pixels of points by what they are, where no column says otherwise.
PLAIN = {"stations": ("t", 7.0), "composites": ("s", 4.0), "piercings": ("d", 10.0), "directions": ("+", 10.0)}


def marks(
    ctx: Sight, entry: Entry, item: PointSet, attribute: str, x: np.ndarray, y: np.ndarray, rows: np.ndarray
) -> list[pg.GraphicsObject]:
    """Symbols of some rows: colour by one column, shape by a second, size by a third; labels where there is space.

    `x` and `y` are the places of these rows in the view: on the map, or along a section and up.
    """
    t, style = item.table.iloc[rows], entry.style
    plain, size = PLAIN.get(item.content, ("o", 6.0))
    sizes = sizes_of(item, style, size)[rows]
    colours = np.full((len(t), 3), 68, dtype=np.uint8)
    there = np.ones(len(t), dtype=bool)
    if attribute in t.columns:
        legend = ctx.legend(attribute, item)
        there = shown(legend, t[attribute].to_numpy())
        for colour, mask in bins(legend, t[attribute].to_numpy()):
            colours[mask] = (colour.red(), colour.green(), colour.blue())
    symbols = np.full(len(t), plain, dtype=object)
    if style.shape_by in t.columns:
        for name, symbol in symbols_of(item.table[style.shape_by]).items():
            symbols[t[style.shape_by].astype(str).to_numpy() == name] = symbol
    sizes = np.where(there, sizes, 0.0)
    out: list[pg.GraphicsObject] = [PointMarks(x, y, colours, sizes, symbols, 4)]
    if style.label_by in t.columns:
        words = [
            word if on else ""
            for word, on in zip(
                label_words(t[style.label_by], style.label_from, item.attributes.get(style.label_by)),
                there,
                strict=True,
            )
        ]
        out.append(flat.Labels(words, x, y, ctx.theme.text, ctx.theme.panel, 11, above=0.5 * (style.size or size)))
    return out


def symbols_of(column: pd.Series) -> dict[str, str]:
    """The symbol of each class of a column, in the order of the alphabet."""
    names = sorted({str(v) for v in column.dropna()} - {"", "nan", "None"})
    return {name: SYMBOLS[k % len(SYMBOLS)] for k, name in enumerate(names)}


def label_words(column: pd.Series, least: float | None, known: Attribute | None = None) -> list[str]:
    """What is written beside each point; '' for what is missing or below the cut-off."""
    if column.dtype.kind in "fiu":
        v = column.to_numpy(float)
        with np.errstate(invalid="ignore"):
            shown = np.isfinite(v) & (v >= (-np.inf if least is None else least))
        said = (known or Attribute()).said
        return [said(value) if on else "" for value, on in zip(v, shown, strict=True)]
    return ["" if str(v) in ("nan", "None") else str(v) for v in column]


def reading_kinds(item: PointSet) -> str:
    """The column that tells the kind of each structural reading: the first of texts, '' without one."""
    t = item.table
    return next((c for c in item.attributes if c in t.columns and t[c].dtype.kind not in "fiub"), "")


def line_kinds(item: Features, attribute: str) -> str:
    """The column of texts that tells the kind of each line: by its name, else the one that colours the map."""
    t = item.table
    return next((c for c in ("kind", "type", attribute) if c in t.columns and t[c].dtype.kind not in "fiub"), "")


def _planes(ctx: Sight, item: PointSet, attribute: str) -> list[pg.GraphicsObject]:
    """Planes and lines with the sign of their kind, which the first column of texts tells."""
    dip_name, direction_name = orientation(item.attributes) or ("", "")
    t = item.table[np.isfinite(item.table[dip_name])]
    if attribute in t.columns:
        t = t[shown(ctx.legend(attribute, item), t[attribute].to_numpy())]
    kinds = reading_kinds(item)
    marks = [plane_sign(str(v)) for v in t[kinds]] if kinds else [plane_sign("bedding")] * len(t)
    ink, halo = QColor(ctx.theme.text), QColor(ctx.theme.panel)
    colours = [ink] * len(t)
    if attribute in t.columns:
        for colour, mask in bins(ctx.legend(attribute, item), t[attribute].to_numpy()):
            for k in np.flatnonzero(mask).tolist():
                colours[k] = colour
    x, y, dip, direction = (t[c].to_numpy(float) for c in ("x", "y", dip_name, direction_name))
    return [StructureSigns(x, y, dip, direction, marks, colours, ink, halo, 5)]


def paint_lines(ctx: Sight, view: MapView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, SurveyLines)
    xy = item.table[["x", "y"]].to_numpy(float)
    line = item.table["line"].to_numpy()
    same = line[1:] == line[:-1]
    # A gap in a line is not bridged.
    length = np.hypot(*np.diff(xy, axis=0).T)
    same &= length < 8 * np.nanmedian(length[same]) if same.any() else same
    attribute = ctx.attribute_of(entry)
    if attribute not in item.table.columns:
        return [
            flat.plain_pieces(
                np.stack([xy[:-1][same], xy[1:][same]], axis=1).reshape(-1, 2), QColor(ctx.theme.faint), 1.0, 2
            )
        ]
    values = item.table[attribute].to_numpy(float)
    return list(
        flat.coloured_pieces(xy[:-1][same], xy[1:][same], ctx.legend(attribute, item), values[:-1][same], 2.0, 2)
    )


def paint_electrodes(ctx: Sight, view: MapView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    """Lines of electrodes with their names, the shallowest reading at each place; the first electrode is a ring."""
    assert isinstance(item, ElectrodeSurvey)
    e = item.electrodes
    xy, line = e[["x", "y"]].to_numpy(float), e["line"].to_numpy()
    same = line[1:] == line[:-1]
    ink = QColor(ctx.theme.text)
    pieces = np.stack([xy[:-1][same], xy[1:][same]], axis=1).reshape(-1, 2)
    out: list[pg.GraphicsObject] = [flat.plain_pieces(pieces, ink, 1.4, 3)]
    attribute, t = ctx.attribute_of(entry), item.table
    if attribute in t.columns:
        values = t[attribute].to_numpy()
        colours = np.full((len(t), 3), 150, dtype=np.uint8)
        for colour, mask in bins(ctx.legend(attribute, item), values):
            colours[mask] = _rgb(colour)
        order = np.argsort(np.nan_to_num(t["z"].to_numpy(float), nan=-np.inf), kind="stable")  # deep ones lowest
        sizes = np.where(shown(ctx.legend(attribute, item), values), 6.0, 0.0)[order]
        x, y = t["x"].to_numpy(float)[order], t["y"].to_numpy(float)[order]
        out.append(PointMarks(x, y, colours[order], sizes, np.full(len(t), "s", dtype=object), 3.5))
    out += flat.markers(xy[:, 0], xy[:, 1], None, None, 3.5, 4, "s", ink)
    first = np.flatnonzero(np.concatenate([[True], ~same]))
    out += flat.markers(xy[first, 0], xy[first, 1], None, None, 9, 5, "o", QColor(ctx.theme.panel))
    words = [f"line {line[k]}" for k in first]
    out.append(flat.Labels(words, xy[first, 0], xy[first, 1], ctx.theme.text, ctx.theme.panel, 11))
    return out


def paint_picture(ctx: Sight, view: MapView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, Picture)
    a, b, c, d, e, f = item.affine
    image = pg.ImageItem(item.pixels, axisOrder="row-major", autoLevels=False)
    image.setTransform(QTransform(a, d, b, e, c, f))
    image.setZValue(-15)  # over the shaded ground, under values
    return [image]


def paint_holes(ctx: Sight, view: MapView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, HoleSet)
    s = item.stations
    xy, hole = s[["x", "y"]].to_numpy(float), s["hole"].to_numpy()
    same = hole[1:] == hole[:-1]
    pieces = np.stack([xy[:-1][same], xy[1:][same]], axis=1).reshape(-1, 2)
    out: list[pg.GraphicsObject] = [flat.plain_pieces(pieces, QColor(ctx.theme.text), 1.0, 8)]
    attribute = ctx.attribute_of(entry)
    hit = table_with(item, attribute)
    if hit is not None:
        table = hit[1]
        start, stop = table[["x0", "y0"]].to_numpy(float), table[["x1", "y1"]].to_numpy(float)
        out += flat.coloured_pieces(start, stop, ctx.legend(attribute, item), table[attribute].to_numpy(), 3.5, 9)
    words = item.tables.get(INTERCEPTS)
    if words is not None and "label" in words.columns:
        texts = words["label"].astype(str).tolist()
        x, y = words["x"].to_numpy(float), words["y"].to_numpy(float)
        out.append(flat.Labels(texts, x, y, ctx.theme.text, ctx.theme.panel, 10.5, left=6.0))
    spots = readings_with(item, attribute) if hit is None else None
    if spots is not None:
        at = spots[1]
        x, y = at["x"].to_numpy(float), at["y"].to_numpy(float)
        out += flat.markers(x, y, ctx.legend(attribute, item), at[attribute].to_numpy(), 5, 9)
    collars = item.collars
    out += flat.markers(
        collars["x"].to_numpy(float), collars["y"].to_numpy(float), None, None, 7, 10, "o", QColor(ctx.theme.panel)
    )
    if len(collars) <= MOST_LABELS:
        out.append(
            flat.Labels(
                [str(h) for h in collars["hole"]],
                collars["x"].to_numpy(float),
                collars["y"].to_numpy(float),
                ctx.theme.text,
                ctx.theme.panel,
                11,
            )
        )
    return out


def paint_surface(ctx: Sight, view: MapView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, Surface)
    if not surface_shown(ctx, item):
        return []
    colour = surface_colour(ctx, item)
    out: list[pg.GraphicsObject] = []
    for line in footprint(item.vertices, item.triangles):
        curve = pg.PlotCurveItem(line[:, 0], line[:, 1], pen=pg.mkPen(colour, width=2.0))
        curve.setZValue(7)
        out.append(curve)
    return out


def surface_shown(ctx: Sight, item: Surface) -> bool:
    """Whether a shell lies at or above the cut-off of its grade."""
    cutoff = ctx.legend(item.attribute, item).cutoff if item.attribute else None
    return cutoff is None or item.level >= cutoff


def surface_colour(ctx: Sight, item: Surface) -> QColor:
    """A shell has the colour of its cut-off in the legend of its grade."""
    if not item.attribute:
        return QColor("#0072B2")
    legend = ctx.legend(item.attribute, item)
    for other in ctx.entries():
        if other.kind == "holes" and item.attribute in other.attributes and (holes := ctx.item(other.id)) is not None:
            legend = ctx.legend(item.attribute, holes)
    return colour_at(legend, float(position(legend, np.array([item.level]))[0]))


def paint_blocks(ctx: Sight, view: MapView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, BlockModel)
    attribute = ctx.attribute_of(entry)
    if attribute not in item.properties:
        return []
    contacts = true_contacts(item, attribute)
    if contacts is not None:
        legend = ctx.legend(attribute, item)
        return list(areas(on_map(item, contacts, frozenset(legend.hidden)), contacts.units, legend, -14.5))
    every = max(1, item.properties[attribute].size // 30_000_000)
    values = item.properties[attribute][:, :, ::every]
    clear = clearness(item, attribute, entry.style)
    shown_first = np.where(np.isfinite(values), values, -np.inf)
    if attribute in item.names:  # of units what lies on top, or comes out below those that are switched off
        hidden = ctx.legend(attribute, item).hidden
        off = [k for k, name in enumerate(item.names[attribute]) if name in hidden]
        there = np.isfinite(values) & ~np.isin(values, off)
        shown_first = np.where(there, np.arange(values.shape[2], dtype=float), -np.inf)
    if clear is not None:  # of cells that are alike the one that is seen best stands for its column
        clear = clear[:, :, ::every]
        shown_first = shown_first + 1e-6 * float(np.nanmax(np.abs(values), initial=0.0)) * clear
    first = shown_first.argmax(axis=2)[:, :, None]
    best = np.take_along_axis(values, first, axis=2)[:, :, 0]
    seen = np.ones(best.shape) if clear is None else np.take_along_axis(clear, first, axis=2)[:, :, 0]
    west, east, south, north, _, _ = item.bounds
    if item.mesh.is_turned or item.mesh.even_plan is None:  # onto cells along east and north, half as wide
        step = max(0.5 * float(min(item.mesh.u.min(), item.mesh.v.min())), max(east - west, north - south) / 1500)
        x, y = (np.arange(low + step / 2, high, step) for low, high in ((west, east), (south, north)))
        i, j = item.mesh.columns(*np.meshgrid(x, y, indexing="ij"))
        best = np.where(i >= 0, best[np.maximum(i, 0), np.maximum(j, 0)], np.nan)
        seen = seen[np.maximum(i, 0), np.maximum(j, 0)]
        east, north = west + step * len(x), south + step * len(y)
    rgba = cell_colours(item, attribute, ctx.legend(attribute, item), best.T, hide_below=True)
    rgba[..., 3] = (rgba[..., 3] * seen.T).astype(np.uint8)
    return [flat.image(rgba, west, south, east - west, north - south, -8, 0.7)]


def paint_features(ctx: Sight, view: MapView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, Features)
    attribute = ctx.attribute_of(entry)
    values = item.table[attribute].to_numpy() if attribute in item.table.columns else np.full(len(item.table), "")
    legend = ctx.legend(attribute, item) if attribute in item.table.columns else None
    palette = [QColor(ctx.theme.text)]
    number = np.zeros(len(item.table), dtype=np.int64)  # of each row's colour in the palette
    there = np.ones(len(item.table), dtype=bool)
    if legend is not None:
        there = shown(legend, values)
        for colour, mask in bins(legend, values):
            number[mask] = len(palette)
            palette.append(colour)
    level = level_of(item)
    if level:
        colours = [palette[k] for k in number.tolist()]
        if is_ground(item.attributes) and attribute == level:  # the grey of the ground would vanish on it
            colours = [QColor("#8A5A2B" if ctx.theme.name == "paper" else "#D9A873")] * len(item.table)
        if not there.all():
            item, kept = only(item, there), np.flatnonzero(there)
            colours = [colours[k] for k in kept.tolist()]
        return [ContourLines(item, colours, QColor(ctx.theme.text), 3.0)] if len(item.table) else []
    kinds = line_kinds(item, attribute)
    classed = legend is not None and bool(legend.classes)
    names = [c.name() for c in palette]
    signs = np.full(len(item.table), "", dtype=object)
    if kinds:
        code, words = pd.factorize(item.table[kinds], use_na_sentinel=False)
        signs = np.array([line_sign(str(word)) for word in words], dtype=object)[code]
    row, role = item.owner, item.part_types
    fill = np.isin(role, (RING, HOLE)) & there[row]
    signed = (role == LINE) & there[row] & (signs != "").astype(bool)[row]
    plain = (role == LINE) & there[row] & ~signed
    out: list[pg.GraphicsObject] = []
    # Areas of a class are one path, so that its pattern runs through; without classes each colour has its own.
    # What covers most ground lies lowest, so that a dyke shows within its country rock.
    code, keys = number, names
    if classed:
        code, found = pd.factorize(values, use_na_sentinel=False)
        keys = [str(each) for each in found]
    ground = _areas(item)
    covers = [(key, parts, float(ground[parts].sum())) for key, parts in _grouped(code[row], keys, fill)]
    covers.sort(key=lambda each: -each[2])
    pieces = pieces_of(item, [parts for _, parts, _ in covers])
    for place, (key, _, _) in enumerate(covers):
        if legend is not None and classed:
            colour, pattern = class_colour(legend, key), legend.patterns.get(key, "plain")
        else:
            colour, pattern = QColor(key), "plain"
        out.append(UnitAreas(pieces[place], colour, pattern, -14.0 + 0.01 * place))
    for key, parts in _grouped(number[row], names, plain):
        shape = QGraphicsPathItem(_path(item, parts))
        pen = QPen(QColor(key).darker(130), 2.0)
        pen.setCosmetic(True)
        shape.setPen(pen)
        shape.setZValue(3.0)
        out.append(shape)
    if signed.any():
        # The sign tells the kind: its lines are black unless a number colours them.
        chosen = np.flatnonzero(signed).tolist()
        ink = QColor(ctx.theme.text)
        dark = [ink if legend is None or classed else palette[number[row[k]]] for k in chosen]
        lines = [part_vertices(item, k)[:, :2] for k in chosen]
        out.append(SignedLines(lines, [str(signs[row[k]]) for k in chosen], dark, 3.2))
    for key, parts in _grouped(number[row], names, (role == POINT) & there[row]):
        xy = item.vertices[item.starts[parts], :2]
        out += flat.markers(xy[:, 0], xy[:, 1], None, None, 6, 5, "d", QColor(key))
    return out


def _grouped(code: np.ndarray, keys: list[str], among: np.ndarray) -> list[tuple[str, np.ndarray]]:
    """The parts `among` by their key (of which `code` is the number), in the order in which keys first come."""
    parts = np.flatnonzero(among)
    mine = code[parts]
    return [(keys[k], parts[mine == k]) for k in pd.unique(mine).tolist()]


def _vertices(item: Features, parts: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Places (n, 2) of the vertices of parts, one after the other, and how many each part has."""
    count = item.starts[parts + 1] - item.starts[parts]
    index = np.repeat(item.starts[parts] - np.cumsum(count) + count, count) + np.arange(int(count.sum()))
    return item.vertices[index, :2], count


def _path(item: Features, parts: np.ndarray) -> QPainterPath:
    """All parts as one path."""
    xy, count = _vertices(item, parts)
    joined = np.ones(len(xy), dtype=np.int32)
    joined[np.cumsum(count) - 1] = 0
    path: QPainterPath = pg.arrayToQPath(xy[:, 0], xy[:, 1], connect=joined, finiteCheck=False)
    return path


def _areas(item: Features) -> np.ndarray:
    """Ground in square metres that each part encloses, as if it were a ring."""
    if not len(item.part_types):
        return np.zeros(0)
    x, y = (item.vertices[:, k] - item.vertices[0, k] for k in (0, 1))
    cross = np.append(x[:-1] * y[1:] - x[1:] * y[:-1], 0.0)
    cross[item.starts[1:] - 1] = 0.0  # from the end of one ring to the start of the next
    return np.asarray(np.abs(np.add.reduceat(cross, item.starts[:-1])) / 2.0)


def targets_shown(ctx: Sight, entry: Entry, item: TargetSet) -> pd.DataFrame:
    """The targets at or above the cut-off of what colours them."""
    attribute = ctx.attribute_of(entry)
    if attribute not in item.table.columns:
        return item.table
    return item.table[shown(ctx.legend(attribute, item), item.table[attribute].to_numpy())]


def target_colours(ctx: Sight, entry: Entry, item: TargetSet, table: pd.DataFrame) -> list[QColor]:
    """Pale colours of targets by their attribute, so that the rank on them can be read."""
    attribute = ctx.attribute_of(entry)
    out = [QColor(ctx.theme.panel)] * len(table)
    if attribute in table.columns:
        back = QColor(ctx.theme.panel)
        for colour, mask in bins(ctx.legend(attribute, item), table[attribute].to_numpy()):
            mixed = QColor(*((a + b) // 2 for a, b in zip(_rgb(colour), _rgb(back), strict=True)))
            for k in np.flatnonzero(mask).tolist():
                out[k] = mixed
    return out


def _rgb(colour: QColor) -> tuple[int, int, int]:
    return colour.red(), colour.green(), colour.blue()


def paint_targets(ctx: Sight, view: MapView, entry: Entry, item: Item) -> list[pg.GraphicsObject]:
    assert isinstance(item, TargetSet)
    table = targets_shown(ctx, entry, item)
    x, y = table["x"].to_numpy(float), table["y"].to_numpy(float)
    out: list[pg.GraphicsObject] = []
    # Open in the middle: what a target marks stays visible. A wide ring in the panel's colour sets it off.
    rim = [pg.mkPen(ctx.theme.panel, width=5.0)] * len(table)
    for z, pens in ((13, rim), (14, [pg.mkPen(c, width=2.6) for c in target_colours(ctx, entry, item, table)])):
        ring = pg.ScatterPlotItem(
            x=x, y=y, data=table.index.to_numpy(), size=17, symbol="o", brush=pg.mkBrush(None), pen=pens
        )
        ring.setZValue(z)
        out.append(ring)
    words = [str(r) for r in table["rank"]]
    out.append(flat.Labels(words, x, y, ctx.theme.text, ctx.theme.panel, 15, above=9.0, bold=True))
    return out
