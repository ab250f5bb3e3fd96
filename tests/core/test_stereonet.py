"""The stereonet against mplstereonet: poles, places, means, girdles, density."""

from __future__ import annotations

import warnings

import numpy as np
import pytest

from innerlamp.core.compute.geometry import stereonet as sn
from innerlamp.core.errors import InputError

with warnings.catch_warnings(action="ignore"):  # it overrides what newer matplotlib has renamed
    import mplstereonet
    from mplstereonet import stereonet_math

RNG = np.random.default_rng(7)
DIP, DIRECTION = np.clip(RNG.normal(55, 12, 60), 1, 89), RNG.normal(130, 18, 60) % 360
STRIKE = (DIRECTION - 90.0) % 360


def test_poles_of_planes_by_hand_and_against_the_library() -> None:
    # A plane dipping 30 towards 090 has its pole plunging 60 towards 270.
    plunge, trend = sn.plunge_and_trend(sn.pole_vectors(np.array([30.0]), np.array([90.0])))
    assert (plunge[0], trend[0]) == pytest.approx((60.0, 270.0))
    theirs = mplstereonet.pole2plunge_bearing(STRIKE, DIP)
    mine = sn.plunge_and_trend(sn.pole_vectors(DIP, DIRECTION))
    assert mine[0] == pytest.approx(theirs[0])
    assert mine[1] == pytest.approx(np.asarray(theirs[1]) % 360)


def test_places_on_the_net_are_equal_area() -> None:
    x, y = sn.project(sn.line_vectors(np.array([0.0, 90.0, 45.0]), np.array([90.0, 0.0, 0.0])))
    # Radius sqrt(2) sin((90 - plunge) / 2).
    assert (x, y) == (
        pytest.approx([1, 0, 0], abs=1e-12),
        pytest.approx([0, 0, np.sqrt(2) * np.sin(np.radians(22.5))], abs=1e-12),
    )
    back = sn.unproject(x, y)
    assert back == pytest.approx(sn.line_vectors(np.array([0.0, 90.0, 45.0]), np.array([90.0, 0.0, 0.0])), abs=1e-12)
    assert np.isnan(sn.unproject(np.array([0.9]), np.array([0.9]))).any()
    lon, lat = stereonet_math.pole(STRIKE, DIP)
    # The library's net has its projection in matplotlib: Lambert's equal area of longitude and latitude.
    k = np.sqrt(2.0 / (1.0 + np.cos(lat) * np.cos(lon)))
    mine = sn.project(sn.pole_vectors(DIP, DIRECTION))
    assert np.sqrt(2) * mine[0] == pytest.approx(k * np.cos(lat) * np.sin(lon))
    assert np.sqrt(2) * mine[1] == pytest.approx(k * np.sin(lat))


def test_great_circles_are_square_to_their_pole() -> None:
    for dip, direction in ((30.0, 90.0), (85.0, 211.0)):
        circle = sn.great_circle(dip, direction)
        vectors = sn.unproject(circle[1:-1, 0], circle[1:-1, 1])
        pole = sn.pole_vectors(np.array([dip]), np.array([direction]))[0]
        assert vectors @ pole == pytest.approx(np.zeros(len(vectors)), abs=1e-9)
        assert np.degrees(np.arcsin(vectors[:, 2].max())) == pytest.approx(dip, abs=0.05)


def test_means_and_girdles_are_those_of_the_library() -> None:
    axes = sn.common_axes(sn.pole_vectors(DIP, DIRECTION))
    strike, dip = mplstereonet.fit_pole(STRIKE, DIP, measurement="poles")
    plunge, trend = (float(v) for v in sn.plunge_and_trend(axes.mean))
    assert 90 - plunge == pytest.approx(dip, abs=1e-6)
    assert (trend + 180) % 360 == pytest.approx((strike + 90) % 360, abs=1e-6)
    strike, dip = mplstereonet.fit_girdle(STRIKE, DIP, measurement="poles")
    plunge, trend = (float(v) for v in sn.plunge_and_trend(axes.girdle))
    assert 90 - plunge == pytest.approx(dip, abs=1e-6)
    assert (trend + 180) % 360 == pytest.approx((strike + 90) % 360, abs=1e-6)
    assert axes.shape > 1
    fold = np.linspace(0, np.pi, 40)
    round_ = np.column_stack([np.cos(fold), np.zeros(40), np.sin(fold)])
    girdle = sn.common_axes(round_)
    assert girdle.shape < 1
    assert np.abs(girdle.girdle) == pytest.approx([0, 1, 0], abs=1e-9)
    with pytest.raises(InputError, match="two readings"):
        sn.common_axes(round_[:1])


def test_density_is_the_exponential_kamb_of_the_library() -> None:
    lon, lat, theirs = mplstereonet.density_grid(
        STRIKE, DIP, measurement="poles", method="exponential_kamb", sigma=3, gridsize=(41, 41)
    )
    plunge, bearing = mplstereonet.geographic2plunge_bearing(lon.ravel(), lat.ravel())
    mine = sn.density(sn.pole_vectors(DIP, DIRECTION), sn.line_vectors(np.asarray(plunge), np.asarray(bearing)))
    assert mine == pytest.approx(theirs.ravel(), abs=1e-6)
    with pytest.raises(InputError, match="no reading"):
        sn.density(np.empty((0, 3)), np.eye(3))


def test_the_veins_of_the_prospect_lie_as_the_truth_has_them() -> None:
    import pandas as pd

    from innerlamp.demo import truth
    from innerlamp.demo.build import FILES

    table = pd.read_csv(FILES / "geology" / "structural_readings.csv")
    vein = table[table["Feature"] == "vein"]
    axes = sn.common_axes(sn.pole_vectors(vein["Dip"].to_numpy(), vein["Dip direction"].to_numpy()))
    plunge, trend = (float(v) for v in sn.plunge_and_trend(axes.mean))
    assert 90 - plunge == pytest.approx(truth.VEIN_DIP, abs=5)
    assert (trend + 180) % 360 == pytest.approx(truth.VEIN_STRIKE + 90, abs=5)
