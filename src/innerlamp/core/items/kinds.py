"""The table of item kinds. A new kind is one class and one line here (and its painters in app)."""

from __future__ import annotations

from .base import Item
from .core_pictures import CorePictures
from .electrodes import ElectrodeSurvey
from .features import Features
from .fields import BlockModel, Grid, Surface
from .holes import HoleSet
from .page import Page
from .picture import Picture
from .points import PointSet, SurveyLines, TargetSet
from .walk import Walk

KINDS: dict[str, type[Item]] = {
    each.kind: each
    for each in (
        HoleSet,
        PointSet,
        SurveyLines,
        ElectrodeSurvey,
        Features,
        Picture,
        CorePictures,
        Grid,
        Surface,
        BlockModel,
        TargetSet,
        Page,
        Walk,
    )
}
