"""Scale, extents and vertical exaggeration of a section in a frame of given size: change one, and see what becomes of the others."""

from __future__ import annotations

from dataclasses import dataclass, replace

from ...errors import InputError

EXAGGERATION = (0.05, 200.0)


@dataclass(frozen=True)
class FrameSizes:
    """What a frame shows.

    Attributes
    ----------
    wide, high
        Of the frame, in metres as it is seen (on a screen or on paper).
    left, right, low, high_at
        Distances along the section at its sides and elevations at its bottom and top, metres.

    The scale is ``(right - left) / wide``, the vertical exaggeration ``scale high / (high_at - low)``: two numbers of
    extent and one of the frame decide each.
    """

    wide: float
    high: float
    left: float
    right: float
    low: float
    high_at: float

    @property
    def scale(self) -> float:
        """Denominator of the scale along the section."""
        return (self.right - self.left) / self.wide

    @property
    def exaggeration(self) -> float:
        """Vertical exaggeration."""
        return self.scale * self.high / (self.high_at - self.low)

    def with_scale(self, scale: float) -> FrameSizes:
        """Return it at another scale about its middle; the exaggeration stays, both extents change."""
        _check(1.0 <= scale <= 1e8, f"the scale must be from 1:1 to 1:100 000 000, not 1:{scale:g}")
        return self._sized(0.5 * scale * self.wide, 0.5 * scale * self.high / self.exaggeration)

    def with_exaggeration(self, factor: float) -> FrameSizes:
        """Return it exaggerated otherwise about its middle; the scale stays, the elevations change."""
        least, most = EXAGGERATION
        _check(least <= factor <= most, f"the vertical exaggeration must be from {least:g} to {most:g}, not {factor:g}")
        return self._sized(0.5 * (self.right - self.left), 0.5 * self.scale * self.high / factor)

    def with_distances(self, left: float, right: float) -> FrameSizes:
        """Return it between other distances; the exaggeration stays, scale and elevations change."""
        _check(right - left >= 0.1, "the right end must lie beyond the left one")
        wider = replace(self, left=left, right=right)
        half = 0.5 * wider.scale * self.high / self.exaggeration
        middle = 0.5 * (self.low + self.high_at)
        return replace(wider, low=middle - half, high_at=middle + half)

    def with_elevations(self, low: float, high_at: float) -> FrameSizes:
        """Return it between other elevations; scale and distances stay, the exaggeration changes."""
        _check(high_at - low >= 0.1, "the top must lie above the bottom")
        made = replace(self, low=low, high_at=high_at)
        least, most = EXAGGERATION
        _check(
            least <= made.exaggeration <= most,
            f"between these elevations the section would be exaggerated {made.exaggeration:.3g} times",
        )
        return made

    def _sized(self, half_wide: float, half_high: float) -> FrameSizes:
        across, up = 0.5 * (self.left + self.right), 0.5 * (self.low + self.high_at)
        return replace(
            self, left=across - half_wide, right=across + half_wide, low=up - half_high, high_at=up + half_high
        )


def _check(good: bool, words: str) -> None:
    if not good:
        raise InputError(words, where="section")
