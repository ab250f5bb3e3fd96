"""Scenes written for others: HTML read back in a browser, pictures and films off the screen, walk-throughs as PDF."""

from __future__ import annotations

import base64
import json
import re
import subprocess
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pypdfium2
import pytest
from PIL import Image

from innerlamp.api import Project
from innerlamp.app.context.context import Context
from innerlamp.app.context.seen import SeenContext
from innerlamp.app.start.headless import _context
from innerlamp.app.written import pictures
from innerlamp.app.written.pictures import Studio, turned, turntable, write_film
from innerlamp.app.written.stage import camera_of, staged
from innerlamp.app.written.walks import stop_picture, write_html, write_walk
from innerlamp.core.errors import InputError
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.points import PointSet
from innerlamp.core.items.walk import Stop, Walk

STOPS = [
    Stop(
        name="Holes",
        caption="By rock",
        lit=("Emberlow holes", "Ground"),
        colour_by={"Emberlow holes": "Rock"},
        around="Sn shell 800 ppm",
    ),
    Stop(
        name="Tin",
        lit=("Emberlow holes", "Main vein, piercings"),
        colour_by={"Emberlow holes": "Sn_ppm"},
        around="Sn shell 800 ppm",
        looking=(200.0, 15.0),
    ),
]


@pytest.fixture
def ctx(qapp: object, demo_path: Path) -> Context:
    with Project.open(demo_path, write=False) as project:
        yield _context(project.store)


def in_browser(page: Path, script: str) -> Any:
    """Open a page in headless Chromium, run a script in it and return what it gives."""
    probe = page.with_name("probe.html")
    ask = f"""<script>setTimeout(() => {{ const out = document.createElement('pre'); out.id = 'told';
      try {{ out.textContent = btoa(unescape(encodeURIComponent(JSON.stringify((() => {{ {script} }})())))); }}
      catch (error) {{ out.textContent = btoa('"' + String(error) + '"'); }}
      document.body.appendChild(out); }}, 1500);</script>"""
    probe.write_text(page.read_text(encoding="utf-8").replace("</body>", ask + "</body>"), encoding="utf-8")
    told = subprocess.run(
        [
            "chromium", "--headless", "--no-sandbox", "--disable-quic", "--no-first-run", "--disable-background-networking",
            "--disable-component-update", "--disable-sync", "--use-angle=swiftshader", "--enable-unsafe-swiftshader",
            "--host-resolver-rules=MAP * ~NOTFOUND", "--window-size=1000,700", "--virtual-time-budget=6000",
            f"--user-data-dir={page.parent / 'profile'}", "--dump-dom", f"file://{probe}",
        ],
        capture_output=True, text=True, timeout=120, check=True,
    ).stdout  # fmt: skip
    found = re.search(r'<pre id="told">([^<]*)</pre>', told)
    assert found, "the viewer did not get so far"
    return json.loads(base64.b64decode(found[1]).decode())


def test_an_html_scene_says_in_the_browser_what_the_project_holds(ctx: Context, tmp_path: Path) -> None:
    page = tmp_path / "scene.html"
    write_html(ctx, "Two views", STOPS, page)
    text = page.read_text(encoding="utf-8")
    assert "default-src 'none'" in text  # nothing may be fetched
    assert not re.search(r"<(script|link|img|iframe)[^>]+(src|href)=", text)
    told = in_browser(
        page,
        """const before = innerLamp.layers();
        innerLamp.go(1);
        const after = innerLamp.layers();
        const tin = 'Emberlow holes · Sn_ppm';
        const one = innerLamp.record(tin, 100);
        const at = innerLamp.record('Main vein, piercings', 3).at;
        const box = document.querySelector('#layers input');
        box.click();
        return { before, after, clicked: innerLamp.layers()[0].shown, one, at, title: document.title,
          points: innerLamp.points(tin), caption: document.getElementById('caption').textContent,
          legends: [...document.querySelectorAll('.legend:not([hidden]) h3')].map((h) => h.textContent),
          camera: innerLamp.camera() };""",
    )
    assert told["title"] == "Two views"
    names = {layer["name"]: layer for layer in told["before"]}
    # The holes are coloured in two ways: two layers, of which each view shows its own.
    assert set(names) == {"Emberlow holes · Rock", "Emberlow holes · Sn_ppm", "Ground", "Main vein, piercings"}
    assert [n for n, layer in names.items() if layer["shown"]] == ["Emberlow holes · Rock", "Ground"]
    shown = {layer["name"] for layer in told["after"] if layer["shown"]}
    assert shown == {"Emberlow holes · Sn_ppm", "Main vein, piercings"}
    assert told["clicked"] is True  # a layer is switched by its box
    assert told["caption"] == "Tin"
    assert "Sn (ppm)" in told["legends"]
    # Numbers are those of the project: places to the centimetre of 32-bit numbers, values in words.
    assert ctx.store is not None
    holes = ctx.store.load(ctx.store.find("Emberlow holes").id)
    assert isinstance(holes, HoleSet)
    assay = holes.tables["assay"]
    known = assay[np.isfinite(assay[["x", "y", "z"]]).all(axis=1)]  # a sample without a value is drawn as such
    assert names["Emberlow holes · Sn_ppm"]["records"] == len(known)
    row = known.iloc[100]
    assert told["one"]["at"] == pytest.approx(row[["x", "y", "z"]].tolist(), abs=0.02)
    assert told["one"]["words"].startswith(f"{row['hole']} {row['from_m']:g} to {row['to_m']:g} m")
    assert told["one"]["words"].endswith(f"{row['Sn_ppm']:.4g} ppm")
    piercings = ctx.store.load(ctx.store.find("Main vein, piercings").id)
    assert isinstance(piercings, PointSet)
    assert told["at"] == pytest.approx(piercings.table[["x", "y", "z"]].iloc[3].tolist(), abs=0.02)
    assert max(told["points"]) == 10 * len(known)  # five-sided tubes
    # The camera of the second view is the one that the window would take.
    seen = SeenContext(ctx, STOPS[1].lit, STOPS[1].colour_by)
    wanted = np.array(camera_of(STOPS[1], seen.lit_entries(), ctx.entries())[:6])
    both = SeenContext(ctx, [*STOPS[0].lit, *STOPS[1].lit])
    assert np.array(told["camera"]) + np.tile(staged(both).origin, 2) == pytest.approx(wanted, abs=0.05)


def test_names_of_items_never_become_markup(ctx: Context, tmp_path: Path) -> None:
    page = tmp_path / "scene.html"
    odd = "</script><img src=x onerror=\"document.title='taken'\"><b>"
    write_html(ctx, odd, [Stop(name=odd, caption=odd, lit=("Main vein, piercings",))], page)
    told = in_browser(
        page,
        """return { title: document.getElementById('title').textContent, images: document.images.length,
          bold: document.getElementsByTagName('b').length, tab: document.title };""",
    )
    assert told == {"title": odd, "images": 0, "bold": 0, "tab": odd}


def test_cameras_see_all_and_turn_about_what_they_look_at(ctx: Context) -> None:
    stop = Stop(name="x", lit=("Ground",), looking=(135.0, 28.0), exaggeration=2.0)
    seen = SeenContext(ctx, stop.lit)
    stage = staged(seen)
    camera = camera_of(stop, seen.lit_entries(), ctx.entries(), 1.5)
    studio = Studio(seen, stage, (600, 400), 2.0)
    try:
        picture = studio.picture(camera)
        lens = studio.renderer.GetActiveCamera()
        matrix = lens.GetCompositeProjectionTransformMatrix(1.5, -1, 1)
        for k in range(8):
            corner = np.where([k & 1, k & 2, k & 4], stage.high, stage.low) - stage.origin
            x, y, _, w = matrix.MultiplyPoint((*(corner * [1, 1, 2.0]).tolist(), 1.0))
            assert abs(x / w) < 1.0 and abs(y / w) < 1.0
        four = camera
        for _ in range(4):
            four = turned(four, 90.0)
        assert four == pytest.approx(camera, abs=1e-6)
        # Clockwise: from the south-east a quarter turn leads to the south-west.
        away = np.array(turned(camera, 90.0)[:3]) - camera[3:6]
        assert np.degrees(np.arctan2(away[0], away[1])) % 360 == pytest.approx(225.0)
        frames = list(turntable(studio, camera, 3))
    finally:
        studio.close()
    assert picture.shape == (400, 600, 3)
    assert all(f.shape == picture.shape for f in frames)
    assert np.array_equal(frames[0], picture) and not np.array_equal(frames[1], picture)


def test_pictures_of_many_pixels_and_films_are_written_whole_or_not_at_all(ctx: Context, tmp_path: Path) -> None:
    small = stop_picture(ctx, STOPS[1], (480, 300))
    large = stop_picture(ctx, STOPS[1], (1440, 900), 3.0)
    # The same view: scaled down the large one looks alike.
    down = np.asarray(Image.fromarray(large).resize((480, 300), Image.Resampling.BOX)).astype(int)
    assert np.abs(down - small.astype(int)).mean() < 6.0
    pictures.write_picture(large, tmp_path / "a.png")
    with Image.open(tmp_path / "a.png") as opened:
        assert opened.size == (1440, 900)
    frames = [small, small[::-1].copy(), small]
    write_film(iter(frames), tmp_path / "turn.webp", 1.5, 3)
    with Image.open(tmp_path / "turn.webp") as film:
        assert (film.n_frames, film.size) == (3, (480, 300))  # type: ignore[attr-defined]
        film.seek(1)
        film.load()
        assert film.info["duration"] == 500
    write_film(iter(frames), tmp_path / "turn.zip", 1.5, 3)
    with zipfile.ZipFile(tmp_path / "turn.zip") as out:
        assert out.namelist() == ["0001.png", "0002.png", "0003.png"]
        with out.open("0002.png") as stored:
            assert np.array_equal(np.asarray(Image.open(stored)), frames[1])
    for act in (
        lambda: write_film(iter(frames), tmp_path / "turn.mp4", 1.0, 3),
        lambda: pictures.write_picture(small, tmp_path / "a.bmp"),
        lambda: pictures.write_picture(small, tmp_path / "nowhere" / "a.png"),
        lambda: stop_picture(ctx, STOPS[1], (20_000, 300)),
    ):
        with pytest.raises(InputError):
            act()
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a.png", "turn.webp", "turn.zip"]


def test_a_walk_is_written_as_pdf_with_a_sheet_a_view(ctx: Context, tmp_path: Path) -> None:
    walk = Walk(name="Round", crs="EPSG:32629", stops=tuple(s.model_dump() for s in STOPS))
    write_walk(ctx, walk, tmp_path / "walk.pdf")
    document = pypdfium2.PdfDocument((tmp_path / "walk.pdf").read_bytes())
    try:
        assert len(document) == 2
        words = []
        for k in range(2):
            text = document[k].get_textpage()
            words.append("".join(text.get_text_bounded().split()))
            text.close()
        assert "Byrock" in words[0] and "1of2" in words[0] and "GREIS" in words[0]
        assert "Tin" in words[1] and "2of2" in words[1]
        picture = document[0].render(scale=1.0).to_numpy()
    finally:
        document.close()
    box = picture[80:420, 60:600].astype(int)
    assert (box.max(axis=2) - box.min(axis=2) > 40).mean() > 0.004  # holes in their colours
    with pytest.raises(InputError, match="can't be written"):
        write_walk(ctx, walk, tmp_path / "walk.docx")
    empty = Walk(name="Nothing", crs="EPSG:32629", stops=({"name": "x", "lit": ["no such item"]},))
    with pytest.raises(InputError, match="nothing is lit"):
        write_walk(ctx, empty, tmp_path / "none.html")
    assert not (tmp_path / "none.html").exists()
