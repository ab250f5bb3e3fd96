"""How clearly the cells of a model are drawn: what its readings can't see is faded."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QColor

from ....core.geometry.mesh import Cut
from ....core.items.fields import BlockModel
from ....core.items.style import Style

FloatArray = NDArray[np.float64]
_UNSEEN, _SEEN = 0.3, 3.0  # percent of the largest sensitivity between which cells come out of the haze
_LEAST = 0.18


def sensitivity_of(item: BlockModel, attribute: str) -> str:
    """Return the property that says how well an attribute is seen, '' for none; of several the one of its survey."""
    found = [n for n, a in item.attributes.items() if a.role == "sensitivity" or n == "sensitivity"]
    if len(found) < 2:
        return next((n for n in found if n != attribute), "")
    dense = item.attributes[attribute].quantity == "density" if attribute in item.attributes else False
    return next((n for n in found if n.startswith("gravity") == dense and n != attribute), "")


def clearness(item: BlockModel, attribute: str, style: Style, cut: Cut | None = None) -> FloatArray | None:
    """Return how clearly each cell is drawn, 0.18 to 1 in the shape of the mesh or of a cut; None where nothing is faded."""
    name = sensitivity_of(item, attribute) if style.faded else ""
    if not name:
        return None
    values = item.properties[name] if cut is None else cut.values(item.properties[name])
    with np.errstate(divide="ignore", invalid="ignore"):
        share = np.log(values / _UNSEEN) / np.log(_SEEN / _UNSEEN)
    return np.asarray(_LEAST + (1.0 - _LEAST) * np.clip(np.nan_to_num(share, nan=0.0), 0.0, 1.0))


def towards(rgb: NDArray[np.uint8], clear: FloatArray, canvas: QColor) -> NDArray[np.uint8]:
    """Return colours (n, 3) mixed with that of the canvas as far as they are not clear (n,)."""
    back = np.array([canvas.red(), canvas.green(), canvas.blue()], dtype=float)
    return np.asarray(np.round(clear[:, None] * rgb + (1.0 - clear[:, None]) * back).astype(np.uint8))
