"""A process that gives the command line odd commands and writes down which were not answered in one sentence.

`python -m tests.core.odd_commands FOLDER SEED COUNT [NAME]` prints one line of JSON: how many were tried, done and
refused, and the faults. Each command runs one operation (those whose name holds NAME) on small items with one to
three of its values replaced by odd ones, or is an odd command of another kind. A command that takes longer than
`PATIENCE` seconds is a fault too.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import resource
import shutil
import signal
import sys
import traceback
import warnings
from pathlib import Path
from typing import Any, get_args

import numpy as np
import pandas as pd

from innerlamp import cli
from innerlamp.api import Project
from innerlamp.core.declaring.operation import FieldInfo, Operation
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.fields import BlockModel, Grid, Surface
from innerlamp.core.project.records import Entry
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32719"
PATIENCE = 20
MEMORY = 4 << 30
LONGEST = 400  # letters of a sentence
ODD = [
    "", " ", "0", "-1", "1", "1e-9", "1e9", "1e308", "-1e308", "nan", "inf", "-inf", "x", "0.001", "99999999999999999999",
    "1e400", "é", "\u202e", "a" * 300, "[" * 400, "{}", "[]", "[[]]", "[null]", '{"a": 1}', "[1e999]", "~nobody/x", "/dev/zero",
    "/etc", ".", "..", "../../x", "%s%n", "'", '"', "\\", ";", ",", ";;;", "1,2,3,4,5,6,7,8,9", "true", "None", "01/02/2020",
    "2023-13-45", "EPSG:4326", "EPSG:999999", "[v]", "[v] / 0", "log([v])", "__import__('os')", "=1+1", "a#b", "#",
    '[[402000,7502000],[402000,7502000],[402000,7502000]]', '[[NaN,0],[1,1],[2,0]]', "402000,7502000;402100,7502050",
]  # fmt: skip
NUMBERS = [
    "0",
    "-1",
    "1",
    "3",
    "0.1",
    "1e-9",
    "1e4",
    "1e9",
    "-1e308",
    "89.9",
    "180",
    "99999999999999999999",
    "nan",
    "5.5",
]
OTHERS = [
    ["new", "{p}"], ["new", "{p}", "EPSG:4326"], ["new", "{f}/x/y/z.lamp", CRS], ["items", "{f}"], ["items", "/dev/null"],
    ["check", "{f}/nothing.lamp"], ["export", "{p}", "all", "{f}/o.xyz"], ["export", "{p}", "nobody", "{f}/o.csv"],
    ["export", "{p}", "Stakes", "{f}/none/o.csv"], ["export", "{p}", "Stakes", "/proc/o.csv"], ["compare", "{p}", "Stakes"],
    ["compare", "{p}", "Stakes", "Sheet"], ["findings", "{p}", "Stakes"], ["bring", "{p}", "/dev/null"], ["bring", "{p}", "~nobody/x"],
    ["ops", "nothing"], ["apply", "{p}", "nothing"], ["apply", "{p}", "grid-minimum-curvature", "samples"], ["refresh", "{p}", "x"],
    ["systems", "a" * 300], ["nonsense"], ["apply", "{p}", "remove-items", "progress=1"], ["export", "{p}", "Stakes", "{f}/" + "n" * 300 + ".csv"],
]  # fmt: skip


def make_project(place: Path) -> tuple[Path, Path]:
    """A small project with an item of most kinds, and a raw file of its samples."""
    rng = np.random.default_rng(4)
    x, y = 402000 + 200 * rng.random(40), 7502000 + 200 * rng.random(40)
    samples = pd.DataFrame({"x": x, "y": y, "z": 4000 + rng.random(40), "v": rng.random(40), "rock": ["A", "B"] * 20})
    raw = place / "stakes.csv"
    samples.to_csv(raw, index=False)
    flights = pd.DataFrame({"line": np.repeat([1, 2, 3], 30), "x": np.tile(402000 + 7.0 * np.arange(30), 3)})
    flights["y"] = 7502000 + 60.0 * flights["line"]
    flights = flights.assign(z=4060.0, TMI_nT=24000 + 30 * rng.random(90))
    flights.to_csv(place / "flights.csv", index=False)
    holes = {
        "collars": "HOLE,EAST,NORTH,ELEV,DEPTH\nA,402050,7502050,4000,60\nB,402120,7502100,4001,50\n",
        "surveys": "HOLE,DEPTH,AZIMUTH,DIP\nA,0,90,-60\nB,0,270,-70\nB,50,268,-69\n",
        "assays": "HOLE,FROM,TO,Cu_pct\n" + "".join(f"{h},{d},{d + 10},{d % 7 / 3:.2f}\n" for h in "AB" for d in range(0, 50, 10)),
    }  # fmt: skip
    for name, text in holes.items():
        (place / f"{name}.csv").write_text(text, encoding="ascii")
    shape = {
        "type": "Polygon",
        "coordinates": [[[402010, 7502010], [402190, 7502010], [402100, 7502190], [402010, 7502010]]],
    }
    drawn = {"type": "Feature", "properties": {"unit": "SLATE"}, "geometry": shape}
    (place / "map.geojson").write_text(
        json.dumps(
            {"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": CRS}}, "features": [drawn]}
        ),
        encoding="ascii",
    )
    lamp = place / "whole.lamp"
    with Project.create(lamp, CRS) as project:
        project.run("import-points", file=str(raw), name="Stakes")
        project.run("import-lines", file=str(place / "flights.csv"), name="Flights")
        files = {"collar": "collars", "survey": "surveys", "assay": "assays"}
        project.run("import-holes", name="Holes", **{k: str(place / f"{v}.csv") for k, v in files.items()})
        project.run("import-features", file=str(place / "map.geojson"), name="Map")
        corner: dict[str, Any] = {"crs": CRS, "x0": 402000.0, "y0": 7502000.0, "dx": 20.0, "dy": 20.0}
        heights = 3990 + rng.random((11, 12))
        project.store.put(
            Grid(
                name="Ground",
                values=heights,
                attribute="elevation",
                unit="m",
                quantities={"elevation": "elevation"},
                **corner,
            )
        )
        project.store.put(Grid(name="Thin", values=rng.random((1, 9)), attribute="v", **corner))
        corners = np.array([[0.0, 0, 0], [100, 0, 0], [0, 100, 0], [0, 0, 100]]) + np.array(
            [402000.0, 7502000.0, 3900.0]
        )
        faces = np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3], [0, 3, 2]], dtype=np.int32)
        project.store.put(Surface(name="Body", crs=CRS, vertices=corners, triangles=faces, closed=True))
        mesh = TensorMesh.even((402000.0, 7502000.0, 3800.0), (20.0, 20.0, 20.0), (6, 5, 7))
        project.store.put(BlockModel(name="Blocks", crs=CRS, mesh=mesh, properties={"v": rng.random((6, 5, 7))}))
    return lamp, raw


def command(rng: np.random.Generator, op: Operation, entries: list[Entry], place: Path) -> list[str]:
    """One run of an operation with fitting inputs, of whose values some are replaced by odd ones."""
    values: dict[str, str] = {}
    chosen: dict[str, Entry] = {}
    for slot in op.inputs:
        fit = [e for e in entries if e.kind in slot.kinds and (slot.need is None or slot.need(e))] or entries
        entry = fit[int(rng.integers(len(fit)))]
        if not slot.optional or rng.random() < 0.4:
            values[slot.slot], chosen[slot.slot] = entry.name, entry
    for name, info in op.fields().items():
        if info.required or rng.random() < 0.15:
            values[name] = _likely(rng, info, chosen, place)
    fields = op.fields()
    names = [*values, *fields]
    for _ in range(int(rng.choice([0, 0, 1, 1, 2]))):
        if names:
            name = names[int(rng.integers(len(names)))]
            odd = NUMBERS if name in fields and _is_number(fields[name]) and rng.random() < 0.8 else ODD
            values[name] = odd[int(rng.integers(len(odd)))]
    return ["apply", "{p}", op.name, *(f"{k}={v}" for k, v in values.items())]


def _likely(rng: np.random.Generator, info: FieldInfo, chosen: dict[str, Entry], place: Path) -> str:
    if info.editor in ("file", "files"):
        files = sorted(str(f) for f in place.iterdir() if f.is_file())
        meant = [f for f in files if info.name in Path(f).stem] or files
        return meant[int(rng.integers(len(meant)))]
    if info.of in chosen and (known := list(chosen[info.of].attributes)):
        return known[int(rng.integers(len(known)))]
    if words := [a for a in get_args(info.kind) if isinstance(a, str)]:
        return words[int(rng.integers(len(words)))]
    if isinstance(info.default, str | int | float) and info.default != "":
        return str(info.default)
    return str(rng.choice(["10", "1", "50", "100"] if _is_number(info) else ["v", "402100,7502100", "A", ""]))


def _is_number(info: FieldInfo) -> bool:
    return any(word in str(info.kind) for word in ("float", "int")) and "tuple" not in str(info.kind)


class TooLong(BaseException):
    """A command did not come back."""


def _late(*_: object) -> None:
    raise TooLong


def main(folder: Path, seed: int, count: int, only: str) -> None:
    warnings.simplefilter("ignore")
    place = folder / "raw"
    place.mkdir(parents=True)
    whole, _ = make_project(place)
    with Project.open(whole, write=False) as project:
        entries = list(project.items)
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    signal.signal(signal.SIGALRM, _late)
    ops = [op for op in OPERATIONS.values() if only in op.name]
    told: dict[str, Any] = {"operations": len(ops), "tried": 0, "done": 0, "refused": 0}
    faults: list[str] = []
    for number in range(count):
        rng = np.random.default_rng([seed, number])
        if number % 20 == 0:
            lamp = folder / "p.lamp"
            shutil.rmtree(lamp, ignore_errors=True)
            shutil.copytree(whole, lamp)
        op = ops[number % len(ops)]
        other = rng.random() < 0.04 and not only
        argv = OTHERS[int(rng.integers(len(OTHERS)))] if other else command(rng, op, entries, place)
        argv = [word.replace("{p}", str(lamp)).replace("{f}", str(folder)) for word in argv]
        (folder / "last").write_text(json.dumps(argv), encoding="utf-8")
        fault, code = _answer(argv)
        told["tried"] += 1
        told["done" if code == 0 else "refused"] += 1
        if fault:
            faults.append(f"{number} {json.dumps(argv[2:])[:600]}: {fault}")
    sys.__stdout__.write("\n" + json.dumps(told | {"faults": faults}) + "\n")  # type: ignore[union-attr]


def _answer(argv: list[str]) -> tuple[str, int]:
    """What is wrong with how a command was answered, '' for nothing, and its exit code."""
    out, err = io.StringIO(), io.StringIO()
    signal.alarm(PATIENCE)
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = cli.main(argv)
    except TooLong:
        return "took too long: " + "".join(traceback.format_exc()[-900:]), 9
    except SystemExit as ended:
        code = int(ended.code or 0)
    except BaseException:
        return traceback.format_exc()[-900:], 9
    finally:
        signal.alarm(0)
    said = err.getvalue()
    lines = [line for line in said.splitlines() if line.startswith("inner-lamp:")]
    if code == 3:
        logs = sorted((Path(os.environ["XDG_STATE_HOME"]) / "inner-lamp/logs").glob("fault-*"))
        return logs[-1].read_text("utf-8")[-900:] if logs else said[-600:], code
    if code == 2 and not lines:
        return f"refused without a word: {said[-300:]}", code
    if "\n\n" in said or any(len(line) > LONGEST for line in lines):
        return f"not one sentence: {said[-900:]}", code
    return "", code


if __name__ == "__main__":
    main(Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]), sys.argv[4] if len(sys.argv) > 4 else "")
