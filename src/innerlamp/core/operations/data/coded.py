"""The parameters in what cells become that hold no plain number, shared by the imports of tables."""

from __future__ import annotations

from typing import Any, Protocol

from ...declaring.operation import param
from ...importing.choices import AboveRule, DetectionRule, NegativeRule
from ...importing.detection import CellRules


class Coded(Protocol):
    """Parameters that have all of these."""

    @property
    def below_detection(self) -> DetectionRule: ...
    @property
    def above_limit(self) -> AboveRule: ...
    @property
    def above_factor(self) -> float: ...
    @property
    def negatives(self) -> NegativeRule: ...
    @property
    def methods(self) -> tuple[str, ...]: ...


def below() -> Any:
    """Declare what values below detection become."""
    return param(
        "half of limit", "Below detection is", help="What <0.5, -0.5 and ND become; the original stays in the report"
    )


def above() -> Any:
    """Declare what values above a limit become."""
    return param(
        "another column or limit",
        "Above the limit is",
        help="What >10000 becomes: the value of an over-limit column of the element where there is one, else the limit",
    )


def above_factor() -> Any:
    """Declare the factor of values above a limit."""
    return param(1.2, "Above the limit", unit="times", above=0.0, help="For 'limit times factor'", more=True)


def negatives() -> Any:
    """Declare what negative grades say."""
    return param(
        "auto",
        "Negative grades are",
        help="auto: below detection, and no value where they can't be a limit (-9, -999, or more than most grades)",
        more=True,
    )


def methods() -> Any:
    """Declare which method of analysis counts first."""
    return param(
        (),
        "Methods, best first",
        editor="lines",
        help="Where columns of several methods give an element (Au_FA_ppm, Au_ICP_ppm), such as FA; ICP. Empty goes by a built-in order: over-limit and gravimetric, fire assay, total, partial",
        more=True,
    )


def rules_of(p: Coded) -> CellRules:
    """Return what cells become, from the parameters of an import."""
    return CellRules(p.below_detection, p.above_limit, p.above_factor, p.negatives, p.methods)
