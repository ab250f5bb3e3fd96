"""The table of previews: which form shows what before it runs. A new one is a class and one line here."""

from __future__ import annotations

from collections.abc import Callable

from .contacts_preview import ContactsPreview
from .curves_preview import CurvesPreview
from .form_state import FormState
from .grid_preview import CoarsePreview, KrigingPreview, SpectrumPreview
from .layout_preview import LayoutPreview
from .picks_preview import PicksPreview
from .previews import BatchPreview, ColumnsPreview, Preview
from .rules_preview import RulesPreview, SamePreview
from .section_preview import TakeSection
from .variogram_preview import VariogramPreview

PREVIEWS: dict[str, Callable[[FormState], Preview]] = {
    "import-holes": lambda form: ColumnsPreview(
        form, {"collar": "collar", "survey": "survey", "assay": "interval", "lithology": "interval"}, nested=True
    ),
    "add-holes": lambda form: BatchPreview(
        form, {"collar": "collar", "survey": "survey", "assay": "interval", "lithology": "interval"}
    ),
    "import-points": lambda form: ColumnsPreview(form, {"file": "points"}, nested=False),
    "import-lines": lambda form: ColumnsPreview(form, {"file": "lines"}, nested=False),
    "import-resistivity": LayoutPreview,
    "import-picture": PicksPreview,
    "group-codes": RulesPreview,
    "merge-holes": SamePreview,
    "grid-kriging": KrigingPreview,
    "grid-minimum-curvature": CoarsePreview,
    "grid-neighbours": CoarsePreview,
    "source-depth": SpectrumPreview,
    "cross-validate": VariogramPreview,
}
# These stand above the parameters that shape them.
PREVIEWS_FIRST: dict[str, Callable[[FormState], Preview]] = {
    "rank-targets": CurvesPreview,
    "section-pages": TakeSection,
}
# These stand below the parameter that they belong to.
PREVIEWS_AFTER: dict[str, tuple[str, Callable[[FormState], Preview]]] = {
    "build-units": ("units", ContactsPreview),
    "unit-uncertainty": ("units", ContactsPreview),
    "leave-holes-out": ("units", ContactsPreview),
}
