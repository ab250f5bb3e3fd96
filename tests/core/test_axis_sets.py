"""Sets of axes of known centres (scipy's own von Mises-Fisher draws), Fisher's cone by mplstereonet, piercings by geometry."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from scipy.stats import vonmises_fisher

from innerlamp.core.compute.drilling.desurvey import desurvey
from innerlamp.core.compute.drilling.piercing import piercings, spreads_of
from innerlamp.core.compute.geometry.axis_sets import proposed_count, sets_of
from innerlamp.core.compute.geometry.orientations import plane_normal
from innerlamp.core.errors import InputError

CENTRES = plane_normal(np.array([75.0, 20.0, 85.0]), np.array([300.0, 110.0, 30.0]))


def drawn(counts: tuple[int, ...], kappa: float = 60.0, seed: int = 3) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(seed)
    axes = np.concatenate(
        [vonmises_fisher(c, kappa).rvs(n, random_state=rng) for c, n in zip(CENTRES, counts, strict=False)]
    )
    axes *= rng.choice([-1.0, 1.0], len(axes))[:, None]  # an axis has no sense
    return axes, np.repeat(np.arange(len(counts)), counts)


@pytest.mark.parametrize("counts", [(120,), (120, 80), (150, 90, 40)])
def test_sets_of_known_centres_are_found_and_their_number_proposed(counts: tuple[int, ...]) -> None:
    axes, truth = drawn(counts)
    assert proposed_count(axes) == len(counts)
    labels, found = sets_of(axes)
    assert (labels == truth).mean() > 0.98
    for k, each in enumerate(found):
        assert each.count == (labels == k).sum()
        off = np.degrees(np.arccos(min(abs(float(each.mean @ CENTRES[k])), 1.0)))
        assert off < 3.0
        # The root mean square angle of a Fisher distribution is 81 / sqrt(kappa) degrees (Fisher 1953).
        assert each.spread == pytest.approx(81.0 / np.sqrt(60.0), rel=0.25)
        assert each.cone < 4.0


def test_fisher_s_cone_is_that_of_mplstereonet() -> None:
    mplstereonet = pytest.importorskip("mplstereonet")
    axes, _ = drawn((40,), kappa=25.0)
    _, found = sets_of(axes, 1)
    mean = found[0].mean
    up = np.where((axes @ mean)[:, None] < 0, -axes, axes)
    # Turned so that the mean points straight down: its library takes all lines as pointing down.
    turned = Rotation.align_vectors([[0.0, 0.0, -1.0]], [mean])[0].apply(up)
    plunge, trend = np.degrees(np.arcsin(-turned[:, 2])), np.degrees(np.arctan2(turned[:, 0], turned[:, 1]))
    _, (_, cone, _) = mplstereonet.find_fisher_stats(plunge, trend, measurement="lines", conf=95)
    assert found[0].cone == pytest.approx(cone, abs=0.15)  # its mean is that of vectors, ours that of axes


def test_those_far_from_every_mean_belong_to_none_and_what_can_not_be_is_said() -> None:
    axes, _ = drawn((100, 60))
    stray = plane_normal(np.array([89.0]), np.array([30.0]))
    labels, found = sets_of(np.vstack([axes, stray]), 2, farthest=40.0)
    assert labels[-1] == -1
    assert [f.count for f in found] == [int((labels == k).sum()) for k in (0, 1)]
    assert sets_of(axes[:1])[0].tolist() == [0]
    assert proposed_count(axes[:2]) == 1
    assert (sets_of(axes, 2)[0] == sets_of(axes, 2)[0]).all()  # the same rows give the same sets
    same, _ = sets_of(np.repeat(axes[:1], 5, axis=0), 2)
    assert set(same) <= {0, 1}
    with pytest.raises(InputError, match="no reading"):
        sets_of(np.empty((0, 3)))
    with pytest.raises(InputError, match="can't make 4 sets"):
        sets_of(axes[:3], 4)


def test_a_plane_meets_a_hole_where_geometry_says() -> None:
    # Holes straight down at x = 0 and 50; a plane that dips 45 degrees east through (0, 0, -20) is at -70 there.
    path = desurvey(
        np.array([[0.0, 0.0, 0.0], [50.0, 0.0, 0.0]]),
        np.array([100.0, 100.0]),
        np.array([], np.int64),
        np.array([]),
        np.array([]),
        np.array([]),
    )
    end = np.array([100.0, 100.0])
    normal = plane_normal(np.array([45.0]), np.array([90.0]))
    point = np.array([[0.0, 0.0, -20.0]])
    for hole, depth in ((0, 20.0), (1, 70.0)):
        hit, at = piercings(path, end, hole, point, normal)
        assert hit.tolist() == [0]
        assert at == pytest.approx([depth], abs=1e-6)
    (low,), (high,) = spreads_of(path, end, 1, point[:1], normal[:1], 5.0)
    assert low == pytest.approx(20 + 50 * np.tan(np.radians(40)), abs=1e-6)
    assert high == pytest.approx(20 + 50 * np.tan(np.radians(50)), abs=1e-6)
    assert not len(piercings(path, end, 1, np.array([[0.0, 0.0, -95.0]]), normal)[0])  # below the end of the hole
    assert spreads_of(path, end, 1, np.array([[0.0, 0.0, -40.0]]), normal[:1], 12.0)[1][0] == np.inf


def test_sets_that_hold_no_reading_are_refused_in_words() -> None:
    axes = np.random.default_rng(0).normal(size=(40, 3))
    axes /= np.linalg.norm(axes, axis=1)[:, None]
    with pytest.raises(InputError, match="no reading lies within"):
        sets_of(axes, 2, 1e-6)
