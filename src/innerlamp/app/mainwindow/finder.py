"""Ctrl+K: any operation, item or command, found by words in it or by words that people use for it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, QPoint, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from ...core.elements import letters_of
from ...core.running.groups import group_of
from ...core.running.table import OPERATIONS

# Words of the trade that stand in no title: a line an operation, easy to add to.
ALSO: dict[str, str] = {
    "import-holes": "drillholes collars surveys assays dhdb desurvey intervals las",
    "import-points": "soil stream rock chip samples gravity stations structural readings geochemistry",
    "import-grid": "dem dtm elevation topography terrain raster geotiff srtm",
    "import-lines": "airborne magnetics aeromag survey profile",
    "import-resistivity": "ert ip induced polarization chargeability dipole-dipole pole-dipole electrodes",
    "import-features": "shapefile geopackage geojson dxf map geology polygons faults",
    "import-core-pictures": "core photos photographs boxes trays",
    "import-picture": "georeference scanned map raster image",
    "import-surface": "wireframe mesh triangulation obj stl ply dxf",
    "import-blocks": "block model voxels",
    "import-element": "omf open mining format",
    "correct": "edit fix value delete row exclude",
    "exclude-spikes": "despike outliers noise filter",
    "compute-column": "calculator expression formula field",
    "values-by-code": "lookup reclassify density by rock",
    "describe-attribute": "unit quantity role",
    "grid-minimum-curvature": "interpolate gridding surface spline tension",
    "grid-kriging": "variogram geostatistics interpolate nugget range sill ordinary kriging",
    "grid-neighbours": "idw inverse distance nearest natural neighbour radial basis triangulation tin interpolate",
    "cross-validate": "leave one out validation",
    "contours": "isolines",
    "calculate-grid": "raster algebra map algebra",
    "resample-grid": "cell size resolution regrid",
    "clip-grid": "cut mask window subset",
    "mosaic": "merge stitch grids",
    "fill-grid": "interpolate gaps holes nodata",
    "smooth-grid": "low pass median convolution",
    "zonal-statistics": "statistics by polygon",
    "compare-grids": "correlation",
    "anomalies": "threshold percentile outline geochemical",
    "level-by-unit": "normalise background rock unit z-score",
    "principal-components": "pca factor multivariate",
    "draw-feature": "digitize sketch polygon line",
    "make-page": "layout print map sheet pdf figure",
    "group-codes": "lithology lookup simplify codes units",
    "composite": "compositing regularise intervals grade bench domain top-cut capping",
    "intercepts": "significant intersections mineralized interval cutoff equivalent true width including",
    "contact-profile": "contact analysis boundary hard soft grade distance",
    "orient-core": "oriented core alpha beta gamma dip structures televiewer image log",
    "structural-sets": "cluster vein sets joint sets mean planes stereonet",
    "predict-piercings": "project planes correlate next hole pierce point",
    "grade-trend": "plunge shoot continuity principal axes open ends ore shoot",
    "holes-as-lines": "traces desurvey drillhole strings export",
    "holes-as-points": "desurvey coordinates at depth",
    "filter-grid": "rtp reduction to the pole vertical derivative tilt analytic signal upward continuation fft pseudo-gravity",
    "regional-residual": "trend bouguer residual detrend",
    "lineaments": "ridges structures edges",
    "source-depth": "spectrum power spectral depth curie",
    "diurnal-correction": "base station daily variation",
    "invert-magnetics": "inversion susceptibility 3-d model",
    "gravity-of-model": "forward bouguer density",
    "grade-shell": "isosurface implicit wireframe ore body",
    "rank-targets": "prospectivity scoring drill targets",
}


@dataclass(frozen=True)
class Hit:
    """Something that can be opened: what it is, where it belongs, the words it is found by, and what opens it."""

    title: str
    where: str
    words: str
    open: Callable[[], object]


def operations(open_form: Callable[[str], object]) -> list[Hit]:
    """Return every operation as something to be found."""
    out = []
    for name, op in OPERATIONS.items():
        area, group = group_of(name)
        words = f"{op.title} {name.replace('-', ' ')} {ALSO.get(name, '')} {op.help}"
        out.append(Hit(op.title, f"{area} · {group}", words, lambda n=name: open_form(n)))  # type: ignore[misc]
    return out


def best(hits: Iterable[Hit], text: str, most: int = 12) -> list[Hit]:
    """Return hits that have all words of a text, the nearest first: in the title, then at a word's start, then anywhere."""
    wanted = letters_of(text).split()
    scored = []
    for number, hit in enumerate(hits):
        title, words = letters_of(hit.title), letters_of(hit.words)
        starts = words.replace("-", " ").split()
        score = 0
        for word in wanted:
            if title.startswith(word):
                score += 0
            elif any(part.startswith(word) for part in title.split()):
                score += 1
            elif any(part.startswith(word) for part in starts):
                score += 3
            elif word in words:
                score += 8
            else:
                break
        else:
            scored.append((score, number, hit))
    return [hit for _, _, hit in sorted(scored, key=lambda s: s[:2])[:most]]


class Finder(QFrame):
    """A line to type in, over the window, with what it finds below."""

    def __init__(self, parent: QWidget, hits: Callable[[], list[Hit]]) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("finder")
        self.setFrameShape(QFrame.Shape.StyledPanel)
        self.hits = hits
        self._all: list[Hit] = []
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 8)
        self.line = QLineEdit()
        self.line.setPlaceholderText("Find an operation, item or command: dem, bouguer, variogram …")
        self.line.setAccessibleName("Find")
        self.line.textChanged.connect(lambda _: self._fill())
        self.line.installEventFilter(self)
        self.list = QListWidget()
        self.list.setAccessibleName("Found")
        self.list.itemClicked.connect(lambda _: self.open_chosen())
        box.addWidget(self.line)
        box.addWidget(self.list)
        self.resize(520, 330)

    def open_finder(self) -> None:
        """Show it in the upper middle of the window, empty."""
        window = self.parentWidget()
        assert window is not None
        self._all = self.hits()
        self.line.clear()
        self._fill()
        self.move(window.mapToGlobal(QPoint((window.width() - self.width()) // 2, 60)))
        self.show()
        self.line.setFocus()

    def _fill(self) -> None:
        self.list.clear()
        for hit in best(self._all, self.line.text()):
            item = QListWidgetItem(f"{hit.title}   ·   {hit.where}" if hit.where else hit.title)
            item.setData(Qt.ItemDataRole.UserRole, hit)
            self.list.addItem(item)
        if self.list.count():
            self.list.setCurrentRow(0)
        elif self.line.text():
            none = QListWidgetItem("Nothing has these words.")
            none.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(none)

    def open_chosen(self) -> None:
        """Open what is chosen and go away."""
        item = self.list.currentItem()
        hit = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        if isinstance(hit, Hit):
            self.hide()
            hit.open()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if watched is self.line and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 8, Qt.Key.Key_PageUp: -8}.get(
                Qt.Key(event.key()), 0
            )
            if step:
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self.open_chosen()
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
        return False
