"""Writes the files of Tarquel into tests/data/tarquel, and its truth beside them: ``python -m tests.tarquel.make``.

Everything is invented. It differs from the demo in what files differ in: languages of headings, decimal commas,
laboratories with their own units, codes and layouts, feet, angles from the vertical, a base record without dates.
"""

from __future__ import annotations

import itertools
import json
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

PLACE = Path(__file__).parents[1] / "data" / "tarquel"
CRS = "EPSG:32719"
E0, N0 = 402_000.0, 7_502_000.0
HOLES, EACH, LENGTH = 12, 20, 2.5
FOOT = 0.3048


def level(x: Any, y: Any) -> Any:
    """Elevation of the ground in metres."""
    return 4100.0 + 0.05 * (x - E0) - 0.03 * (y - N0)


def comma(value: float, digits: int = 3) -> str:
    return f"{value:.{digits}f}".replace(".", ",")


def write(name: str, lines: list[str], encoding: str = "utf-8") -> None:
    path = PLACE / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(("\n".join(lines) + "\n").encode(encoding))


def make() -> None:
    rng = np.random.default_rng(20)
    truth: dict[str, Any] = {}
    ids = [f"TQ-{k + 1:03d}" for k in range(HOLES)]
    x, y = E0 + 80.0 * np.arange(HOLES), N0 + 40.0 * (np.arange(HOLES) % 4)
    azimuth, zenith = (30.0 * np.arange(HOLES)) % 360.0, 20.0 + 3.0 * np.arange(HOLES)
    depth = EACH * LENGTH
    truth["holes"] = [
        {"hole": h, "x": a, "y": b, "z": float(level(a, b)), "azimuth": az, "dip": ze - 90.0}
        for h, a, b, az, ze in zip(ids, x, y, azimuth, zenith, strict=True)
    ]

    # Collars: a title, a remark, decimal commas, a code page of its own; one hole with its coordinates changed round.
    rows = [
        "Prospecto Tarquel;;;;;",
        "# medido con GPS diferencial;;;;;",
        "Sondaje;Este (m);Norte (m);Cota (m);Profundidad final (m);Fecha término",
    ]
    for k, h in enumerate(ids):
        place = (y[k], x[k]) if k == 10 else (x[k], y[k])
        rows.append(
            f"{h};{comma(place[0], 2)};{comma(place[1], 2)};{comma(float(level(x[k], y[k])), 2)};{comma(depth, 1)};{13 + k}/05/2023"
        )
    write("sondajes/collares.csv", rows, "cp1252")

    # Angles from the vertical; one can't be.
    rows = ["Sondaje;Profundidad (m);Azimut;Inclinación desde la vertical (°)"]
    for k, h in enumerate(ids):
        rows += [f"{h};{comma(d, 1)};{comma(azimuth[k], 1)};{comma(zenith[k], 1)}" for d in (0.0, 25.0)]
        if k == 3:
            rows.append(f"{h};{comma(40.0, 1)};{comma(azimuth[k], 1)};128,5")
    write("sondajes/desviaciones.csv", rows, "cp1252")

    gold = rng.lognormal(-1.0, 1.2, (HOLES, EACH)).round(3)  # g/t
    copper = rng.lognormal(7.6, 1.3, (HOLES, EACH)).round(0)  # ppm
    silver = rng.uniform(0.6, 40.0, (HOLES, EACH)).round(1)  # g/t
    zinc = rng.uniform(200, 990, (HOLES, EACH)).round(0)  # ppm
    silver[:5] = 0.25  # all below 0,5: the first hundred cells of that column are codes
    zinc[1, 4], zinc[2, 4] = 1250.0, np.nan
    copper[0, 3] = 15_200.0
    _first_laboratory(ids, gold, silver, copper, zinc)
    _second_laboratory(ids, gold, silver, copper)
    _third_laboratory(ids, gold, copper)
    truth["gold_gpt"], truth["copper_ppm"] = gold.tolist(), copper.tolist()
    truth["silver_gpt"] = silver.tolist()
    truth["zinc_ppm"] = [[None if np.isnan(v) else v for v in row] for row in zinc[:6].tolist()]

    _logs(ids, depth)
    truth |= _soils(rng)
    truth |= _flight(rng)
    _electrodes()
    _ground()
    (PLACE.parent / "tarquel_truth.json").write_text(json.dumps(truth, indent=1) + "\n")


def _first_laboratory(ids: list[str], gold: Any, silver: Any, copper: Any, zinc: Any) -> None:
    """Two heading lines and a row of units; above the limit of copper another column goes on, for all but one."""
    rows = ["Laboratorio Norte, informe LN-2031;;;;;;;;", ";;;;;;;;"]
    rows += ["Sondaje;Profundidad;;Muestra;Leyes;;;;", ";Desde;Hasta;;Au;Ag;Cu;Cu OL;Zn", ";m;m;;ppb;g/t;ppm;%;ppm"]
    for k in range(6):
        for i in range(EACH):
            cu, over = f"{copper[k, i]:.0f}", ""
            if copper[k, i] > 10_000:
                cu, over = ">10000", "" if (k, i) == (0, 3) else comma(copper[k, i] / 1e4, 4)
            zn = "LNR" if np.isnan(zinc[k, i]) else "1.250" if zinc[k, i] == 1250 else f"{zinc[k, i]:.0f}"
            ag = "<0,5" if silver[k, i] < 0.5 else comma(silver[k, i], 1)
            start = LENGTH * i
            # One interval begins 1.5 m before the last one ends.
            first = start - 1.5 if (k, i) == (4, 7) else start
            rows.append(
                f"{ids[k]};{comma(first, 1)};{comma(start + LENGTH, 1)};M{k}{i:02d};{comma(gold[k, i] * 1000, 0)};{ag};{cu};{over};{zn}"
            )
    write("leyes/leyes_lab_norte.csv", rows)


def _second_laboratory(ids: list[str], gold: Any, silver: Any, copper: Any) -> None:
    rows = ["Forage;De (m);À (m);Échantillon;Au_gpt;Ag (ppm);Cu (%);Laboratoire;Lot"]
    for k in range(6, 10):
        for i in range(EACH):
            cu = "-9" if (k, i) in ((7, 2), (7, 3)) else comma(copper[k, i] / 1e4, 4)
            au = "NSS" if (k, i) == (8, 1) else comma(gold[k, i])
            rows.append(
                f"{ids[k]};{comma(LENGTH * i, 1)};{comma(LENGTH * (i + 1), 1)};E{k}{i:02d};{au};{comma(silver[k, i], 1)};{cu};Labo Sud;LS-{k}"
            )
    # One interval of the first laboratory was sent here as well.
    rows.append(f"{ids[0]};0,0;2,5;E999;{comma(gold[0, 0])};;{comma(copper[0, 0] / 1e4, 4)};Labo Sud;LS-99")
    write("leyes/analyses_labo_sud.csv", rows)


def _third_laboratory(ids: list[str], gold: Any, copper: Any) -> None:
    """Numbers kept as text, and gold by two methods: fire assay where there is one."""
    out = []
    for k in range(10, 12):
        for i in range(EACH):
            fire = "" if i % 5 == 4 else f"{gold[k, i]:.3f}"
            wet = gold[k, i] * (1000.0 if i % 5 == 4 else 800.0)
            out.append([ids[k], f"{LENGTH * i}", f"{LENGTH * (i + 1)}", fire, f"{wet:.1f}", f"{copper[k, i]:.0f}"])
    frame = pd.DataFrame(out, columns=["Hole ID", "From", "To", "Au_FA_ppm", "Au_AA_ppb", "Cu_ppm"])
    path = PLACE / "leyes" / "assays_third_lab.xlsx"
    with pd.ExcelWriter(path, engine="xlsxwriter") as book:
        frame.to_excel(book, sheet_name="results", index=False)
        book.book.set_properties({"created": pd.Timestamp("2023-06-01").to_pydatetime()})


def _logs(ids: list[str], depth: float) -> None:
    rows = ["Sondaje;Desde (pies);Hasta (pies);Litología;Comentario"]
    codes = ["AND / BX", "PORF 1", "AND"]
    for k, h in enumerate(ids):
        cuts = np.array([0.0, 12.5, 30.0, depth]) / FOOT
        rows += [
            f"{h};{comma(a)};{comma(b)};{codes[(k + n) % 3]};roca fresca, vetilla {n}"
            for n, (a, b) in enumerate(itertools.pairwise(cuts.tolist()))
        ]
    write("registros/litologia.csv", rows)
    rows = ["Sondaje;Desde;Hasta;Recuperación (%);RQD (%)"]
    for h in ids:
        rows += [f"{h};0;25;95;60", f"{h};25;50;98;80"]
    rows[3], rows[6] = f"{ids[1]};0;25;112;60", f"{ids[2]};25;50;70;85"
    write("registros/recuperacion.csv", rows)
    rows = ["Furo,De,Até,Densidade (g/cm3)"] + [f"{h},10,10.2,{2.65 + 0.01 * k:.2f}" for k, h in enumerate(ids)]
    rows[5] = f"{ids[4]},10,10.2,26.9"
    write("registros/densidade.csv", rows)
    write("registros/alteration.csv", ["Forage;De;À;Altération"] + [f"{h};0;50;séricite" for h in ids])
    write("registros/rapautuminen.csv", ["Reikä;Mistä;Mihin;Rapautuminen"] + [f"{h};0;8;voimakas" for h in ids])
    for h, first in ((ids[0], 0.0), (ids[1], 10.0)):
        body = "".join(
            f"{first + 5 * k:.1f} {0.5 + 0.1 * k:.2f} {-999.25 if k == 2 else 80 + k:.2f}\n" for k in range(6)
        )
        head = f"~V\n VERS. 2.0 :\n WRAP. NO :\n~W\n STRT.FT {first} :\n NULL. -999.25 :\n WELL. {h} :\n~C\n DEPT.FT :\n MSUS.10-3SI :\n GAMA.CPS :\n~A\n"
        write(f"registros/{h}.las", (head + body).rstrip("\n").split("\n"))


def _soils(rng: Any) -> dict[str, Any]:
    """Samples of a third language: a negative code for below detection, -99 for none, one place changed round."""
    x, y = (E0 - 500 + 100.0 * (np.arange(60) % 10)).round(1), (N0 - 300 + 100.0 * (np.arange(60) // 10)).round(1)
    gold, arsenic = rng.lognormal(2.0, 0.8, 60).round(1), rng.uniform(8, 90, 60).round(0)
    rows = ["Échantillon;Est;Nord;Altitude;Or (ppb);As (ppm)"]
    for k in range(60):
        a, b = (y[k], x[k]) if k == 30 else (x[k], y[k])
        arsenic_said = "-5" if k < 8 else "-99" if k in (12, 13) else f"{arsenic[k]:.0f}"
        rows.append(
            f"S{k:03d};{comma(a, 1)};{comma(b, 1)};{comma(float(level(x[k], y[k])), 1)};{comma(gold[k], 1)};{arsenic_said}"
        )
    write("suelos/echantillons_sol.csv", rows)
    arsenic[:8], arsenic[12:14] = 2.5, np.nan
    return {"soil_gold_ppb": gold.tolist(), "soil_arsenic_ppm": [None if np.isnan(v) else v for v in arsenic]}


def _flight(rng: Any) -> dict[str, Any]:
    """Four lines over midnight, elevations in feet, zeros and spikes; the base has a remark, no dates, a gap."""
    rows = ["Línea;Este;Norte;Alt GPS (pies);Fecha;Hora;Mag (nT)"]
    spikes, zeros, true = [], [], []
    begin = 22.5 * 3600
    for line in range(4):
        for k in range(100):
            east, north = E0 - 300 + 10.0 * k, N0 + 200.0 * line
            u = (east - E0 - 200) / 60.0
            anomaly = 350.0 * (1 - 0.5 * u) / (1 + u * u) ** 1.5 if line == 1 else 20.0 * np.sin(k / 15)
            seconds = begin + 1600.0 * line + 10.0 * k
            drift = 30.0 * (seconds - begin) / 3600.0
            value = 23_000.0 + anomaly + rng.normal(0, 0.3)
            number = len(true)
            said = value + drift
            if (line, k) in ((0, 30), (1, 20), (1, 62), (3, 77)):
                said += 180.0
                spikes.append(number)
            if (line, k) in ((0, 50), (2, 10)):
                said = 0.0
                zeros.append(number)
            true.append(round(value, 2))
            day, clock = 17 + int(seconds // 86_400), seconds % 86_400
            height = (float(level(east, north)) + 90.0) / FOOT
            stamp = f"{int(clock // 3600):02d}:{int(clock % 3600 // 60):02d}:{int(clock % 60):02d}"
            rows.append(
                f"L{line + 1};{comma(east, 1)};{comma(north, 1)};{comma(height, 1)};{day}/05/2023;{stamp};{comma(said, 2)}"
            )
    write("mag/vuelo.csv", rows, "cp1252")
    base = ["Estación base Tarquel, instrumento 3", "Hora;Base (nT)"]
    for step in range(0, 8400, 60):
        seconds = begin - 600 + step
        if 5400 <= step < 6300:  # a gap of a quarter of an hour
            continue
        clock = seconds % 86_400
        stamp = f"{int(clock // 3600):02d}:{int(clock % 3600 // 60):02d}:00"
        base.append(f"{stamp};{comma(23_500.0 + 30.0 * (seconds - begin) / 3600.0, 2)}")
    write("mag/base.txt", base)
    return {"field_nT": true, "spikes": spikes, "zeros": zeros}


def _electrodes() -> None:
    """Dipole-dipole over uniform ground of 120 ohm.m, by names of instruments; n is a level and no electrode."""
    rows = ["C1;C2;P1;P2;n;Vp (mV);I (A);Cargabilidad (mV/V);M dev"]
    for first in range(1, 21):
        for n in range(1, 5):
            a, b, m, p = first + 1, first, first + 1 + n, first + 2 + n
            factor = np.pi * n * (n + 1) * (n + 2) * 10.0
            volts = 120.0 / factor * 0.5 * 1000.0
            rows.append(f"{a};{b};{m};{p};{n};{comma(volts, 6)};0,5;{comma(12.0 + n, 1)};0,4")
    rows.append("3;4;5;6;1;0;0,5;0;0")
    write("ip/linea_1.csv", rows)


def _ground() -> None:
    """The ground in feet, as its band says."""
    import rasterio
    from rasterio.transform import from_origin

    gx, gy = np.meshgrid(E0 - 1000 + 50.0 * np.arange(60), N0 - 1000 + 50.0 * np.arange(50))
    path = PLACE / "topo" / "dem_pies.tif"
    path.parent.mkdir(parents=True, exist_ok=True)
    place = from_origin(E0 - 1025, N0 - 1000 + 50.0 * 49.5, 50.0, 50.0)
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        width=60,
        height=50,
        count=1,
        dtype="float32",
        crs=CRS,
        transform=place,
        compress="deflate",
    ) as out:
        out.write((level(gx, gy) / FOOT).astype("float32")[::-1], 1)
        out.units = ("ft",)


if __name__ == "__main__":
    make()
