"""The axis of high grades on ellipsoids of known direction, and the confidence on clouds drawn again and again."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from innerlamp.core.compute.drilling.continuity import weighted_trend
from innerlamp.core.compute.drilling.desurvey import direction
from innerlamp.core.errors import InputError


def cloud(
    count: int, seed: int, lengths: tuple[float, float, float] = (120.0, 40.0, 10.0)
) -> tuple[np.ndarray, np.ndarray]:
    """Places of a known ellipsoid: its long axis plunges 35 degrees towards 060, its short one lies level."""
    rng = np.random.default_rng(seed)
    long_axis = direction(np.array([60.0]), np.array([-35.0]))[0]
    short = direction(np.array([150.0]), np.array([0.0]))[0]
    frame = np.stack([long_axis, np.cross(short, long_axis), short])
    return (rng.normal(size=(count, 3)) * lengths) @ frame + [500_000.0, 7_000_000.0, 4000.0], frame


def test_the_axes_of_a_known_ellipsoid() -> None:
    places, frame = cloud(4000, 1)
    trend = weighted_trend(places, np.ones(len(places)))
    assert np.abs(np.sum(trend.axes * frame, axis=1)) == pytest.approx(1.0, abs=2e-3)
    assert trend.lengths == pytest.approx([240.0, 80.0, 20.0], rel=0.05)
    assert trend.middle == pytest.approx([500_000.0, 7_000_000.0, 4000.0], abs=8.0)
    assert (trend.axes[:, 2] <= 0).all()
    assert trend.confidence[0] < 1.5


def test_weights_decide_and_turning_turns_the_axes() -> None:
    places, frame = cloud(800, 2)
    noise = np.random.default_rng(3).normal(size=(800, 3)) * 300.0 + places.mean(axis=0)
    both = np.vstack([places, noise])
    weight = np.concatenate([np.full(800, 10.0), np.full(800, 1e-6)])
    trend = weighted_trend(both, weight)
    assert abs(float(trend.axes[0] @ frame[0])) > 0.99
    turn = Rotation.from_euler("z", 40, degrees=True)
    middle = places.mean(axis=0)
    turned = weighted_trend(turn.apply(places - middle) + middle, np.ones(800))
    plain = weighted_trend(places, np.ones(800))
    assert abs(float(turned.axes[0] @ turn.apply(plain.axes[0]))) == pytest.approx(1.0, abs=1e-9)


def test_the_confidence_holds_in_95_of_100_draws() -> None:
    inside = 0
    for seed in range(60):
        places, frame = cloud(60, 100 + seed)
        trend = weighted_trend(places, np.ones(60))
        away = np.degrees(np.arccos(min(abs(float(trend.axes[0] @ frame[0])), 1.0)))
        inside += away <= trend.confidence[0]
    assert 50 <= inside <= 60


def test_too_few_and_without_weight() -> None:
    places, _ = cloud(5, 1)
    with pytest.raises(InputError, match="too few"):
        weighted_trend(places, np.ones(5))
    places, _ = cloud(20, 1)
    for weight in (np.zeros(20), np.full(20, np.nan), -np.ones(20)):
        with pytest.raises(InputError, match="no weight"):
            weighted_trend(places, weight)
