"""Units, coordinate systems, signals, progress and errors: the ground that everything stands on."""

from __future__ import annotations

import gc
import pickle

import numpy as np
import pyproj
import pytest

from innerlamp.core.crs import describe, grid_convergence, parse_crs, to_lonlat
from innerlamp.core.errors import Cancelled, CrsError, InputError, LampError, UnitError
from innerlamp.core.progress import SILENT, CallbackProgress
from innerlamp.core.signal import Signal
from innerlamp.core.units import factor, unit_in_heading


@pytest.mark.parametrize(
    ("source", "target", "expected"),
    [
        ("%", "ppm", 10_000.0),
        ("ppb", "ppm", 1e-3),
        ("g/t", "ppm", 1.0),
        ("ppm", "pct", 1e-4),
        ("ft", "m", 0.3048),
        ("km", "m", 1000.0),
    ],
)
def test_factors(source: str, target: str, expected: float) -> None:
    # 1 g/t is 1 ppm by definition; the international foot is 0.3048 m exactly (1959 agreement).
    assert factor(source, target) == pytest.approx(expected, rel=1e-12)
    assert factor(target, source) == pytest.approx(1.0 / expected, rel=1e-12)


@pytest.mark.parametrize(("source", "target"), [("ppm", "m"), ("m", "%"), ("lb", "ppm")])
def test_units_of_different_things_have_no_factor(source: str, target: str) -> None:
    with pytest.raises(UnitError, match="no factor"):
        factor(source, target)


@pytest.mark.parametrize(
    ("heading", "unit"),
    [
        ("Sn_ppm", "ppm"),
        ("Cu pct", "%"),
        ("Depth (m)", "m"),
        ("Au g/t", "g/t"),
        ("TMI_nT", "nT"),
        ("Team", ""),
        ("form", ""),
        ("Gz [mGal]", "mGal"),
    ],
)
def test_units_in_headings(heading: str, unit: str) -> None:
    assert unit_in_heading(heading) == unit


@pytest.mark.parametrize(
    ("text", "words"),
    [("EPSG:4326", "in degrees"), ("EPSG:2225", "not in metres"), ("Mars", "not a known"), ("", "not a known")],
)
def test_systems_that_do_not_serve_are_refused(text: str, words: str) -> None:
    with pytest.raises(CrsError, match=words):
        parse_crs(text)


def test_places_and_convergence_agree_with_pyproj() -> None:
    lon, _lat = to_lonlat("EPSG:32629", np.array([500_000.0]), np.array([5_600_000.0]))
    assert lon[0] == pytest.approx(-9.0)  # the central meridian of UTM zone 29
    assert describe("EPSG:32629").endswith("UTM zone 29N")
    assert grid_convergence("EPSG:32629", 500_000.0, 5_600_000.0) == pytest.approx(0.0, abs=1e-9)
    # East of the central meridian in the northern half, grid north lies east of true north: by
    # tan(c) = tan(dlon) sin(lat) (Snyder 1987, sphere; the ellipsoid differs by less than 0.001 degrees here).
    x, y = pyproj.Transformer.from_crs("EPSG:4326", "EPSG:32629", always_xy=True).transform(-7.0, 50.0)
    expected = np.degrees(np.arctan(np.tan(np.radians(2.0)) * np.sin(np.radians(50.0))))
    assert grid_convergence("EPSG:32629", x, y) == pytest.approx(expected, abs=1e-3)


def test_signal_forgets_listeners_that_are_gone() -> None:
    heard: list[int] = []

    class Listener:
        def hear(self, value: int) -> None:
            heard.append(value)

    signal: Signal[[int]] = Signal()
    listener = Listener()
    signal.connect(listener.hear)
    off = signal.connect(heard.append)
    signal.emit(1)
    off()
    signal.emit(2)
    del listener
    gc.collect()
    signal.emit(3)
    assert heard == [1, 1, 2]
    assert len(signal) == 0


def test_parts_of_progress_fill_their_range_and_a_stop_is_heard() -> None:
    seen: list[tuple[float, str, dict[str, float]]] = []
    stop = [False]
    progress = CallbackProgress(lambda f, m, k: seen.append((f, m, dict(k))), lambda: stop[0])
    part = progress.part(0.5, 1.0).part(0.0, 0.5)
    part(0.0, "a")
    part(1.0, "b", misfit=2.0)
    part(7.0)
    assert [f for f, _, _ in seen] == pytest.approx([0.5, 0.75, 0.75])
    assert seen[1][1:] == ("b", {"misfit": 2.0})
    stop[0] = True
    with pytest.raises(Cancelled):
        part(0.1)
    SILENT(0.3, "nobody listens")


def test_errors_say_what_where_and_what_to_do_and_travel_between_processes() -> None:
    error = InputError("the file is empty.", where="a.csv", fix="Export it again.")
    assert str(error) == "a.csv: the file is empty. Export it again."
    back = pickle.loads(pickle.dumps(error))
    assert isinstance(back, InputError)
    assert str(back) == str(error)
    assert str(LampError("no place")) == "no place."
    assert str(Cancelled()) == "Stopped on request."
