"""A shell says how much of the composites above its cut-off it holds, and what would hold more."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp import cli
from innerlamp.api import Project
from innerlamp.core.compute.geology import shell_proposal
from innerlamp.core.errors import InputError
from innerlamp.core.items.fields import Surface
from innerlamp.core.items.points import PointSet

CRS = "EPSG:32719"


def vein(width: float = 6.0, spacing: float = 60.0) -> pd.DataFrame:
    """Level holes to the east, 2 m composites, through a vein that strikes 20 degrees and dips 70 to the east-southeast."""
    strike, dip = np.radians(20.0), np.radians(70.0)
    normal = np.array([np.sin(dip) * np.cos(strike), -np.sin(dip) * np.sin(strike), np.cos(dip)])
    rows = []
    for hole, (north, up) in enumerate((n, z) for n in np.arange(5) * spacing for z in np.arange(3) * spacing):
        meet = -(normal[1] * north + normal[2] * up) / normal[0]
        for k in range(20):
            x = meet - 20 + 2 * k + 1
            away = abs(np.array([x, north, up]) @ normal)
            rows.append((f"H{hole}", 2.0 * k, 2.0 * k + 2, x, north, up, 8.0 if away < width / 2 else 0.05))
    table = pd.DataFrame(rows, columns=["hole", "from_m", "to_m", "x", "y", "z", "Au_ppm"])
    return table.assign(x=table["x"] + 400_000, y=table["y"] + 7_000_000, z=table["z"] + 4_000)


def composites(table: pd.DataFrame) -> PointSet:
    roles = {"from_m": "from", "to_m": "to"}
    return PointSet(name="c", crs=CRS, table=table, units={"Au_ppm": "ppm"}, roles=roles, content="composites")


def test_parts_of_metres_and_metal_by_hand() -> None:
    inside = np.array([True, False, True, True])
    length, grade = np.array([1.0, 3.0, 2.0, 5.0]), np.array([4.0, 2.0, 1.0, 0.1])
    assert shell_proposal.held(inside, length, grade, 1.0) == pytest.approx((3 / 6, 6 / 12))
    assert np.isnan(shell_proposal.held(inside, length, grade, 9.0)).all()


def test_what_would_hold_a_vein_is_told_from_its_runs_holes_and_plane() -> None:
    table = vein()
    xyz = table[["x", "y", "z"]].to_numpy()
    hole = pd.factorize(table["hole"])[0]
    rich = (table["Au_ppm"] > 1).to_numpy()
    told = shell_proposal.proposal(xyz, hole, table["from_m"].to_numpy(), np.full(len(xyz), 2.0), rich, 1e7)
    assert told is not None
    assert told.azimuth == pytest.approx(20.0, abs=3) and told.dip == pytest.approx(70.0, abs=3)
    assert 4.0 <= told.width <= 8.0 and told.spacing == pytest.approx(60.0, rel=0.1)
    assert told.cell <= told.width and told.search_radius_m > 0.5 * told.spacing and told.ratio > 5
    one = hole == 0
    assert (
        shell_proposal.proposal(xyz[one], hole[one], table["from_m"].to_numpy()[one], np.full(20, 2.0), rich[one], 1e7)
        is None
    )


def test_a_shell_that_loses_most_says_so_and_its_proposal_holds_it(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    with Project.create(tmp_path / "a.lamp", CRS) as project:
        item = project.store.put(composites(vein()))
        given: dict[str, Any] = {"composites": item, "attribute": "Au_ppm", "cutoff": 2.0}
        with pytest.raises(InputError, match=r"the shell is empty.* composites do\. Try cell="):
            project.run("grade-shell", **given, cell=15.0)
        coarse = project.store.load(project.run("grade-shell", **given, cell=6.0, smoothing=0.0)["shell"])
        assert isinstance(coarse, Surface)
        assert "% of metres above" in coarse.facts["Holds"]
        assert int(coarse.facts["Holds"].split(" %")[0]) < 50
        words = coarse.facts["Try"].split(" (")[0]
        better = dict(w.split("=") for w in words.split())
        fine = project.store.load(
            project.run("grade-shell", **given, **{k: float(v) for k, v in better.items()})["shell"]
        )
        assert isinstance(fine, Surface)
        assert int(fine.facts["Holds"].split(" %")[0]) > 70 and "Try" not in fine.facts
        from innerlamp.core.declaring.operation import Inputs
        from innerlamp.core.running.table import OPERATIONS

        suggest = OPERATIONS["grade-shell"].suggest
        assert suggest is not None
        proposed = suggest(Inputs({"composites": project.store.load(item)}, CRS))
        assert proposed["cell"] < 6 and proposed["ratio"] > 5
    words = ["composites=c", "attribute=Au_ppm", "cutoff=2", "cell=6", "smoothing=0"]
    assert cli.main(["apply", str(tmp_path / "a.lamp"), "grade-shell", *words]) == 0
    assert "Holds" in capsys.readouterr().out
