"""Looking at files before they are brought in: a table of a gigabyte, and a folder of many files."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

from innerlamp.core.formats.tables import tables_in
from innerlamp.core.importing import intake, offers
from innerlamp.core.importing.detection import CellRules
from innerlamp.demo.build import FILES

from .table import Row, peak_megabytes, seconds

_BIG = 1_000_000_000


def look_at_a_gigabyte() -> Iterator[Row]:
    """All that the form shows of a table: what it is, columns, first rows, odd values, dates."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "assays.csv"
        rows = "".join(
            f"LG{k % 5000:05d},{k % 400},{k % 400 + 2},S{k:07d},{'<5' if k % 9 == 0 else k % 977},{k % 31 / 10},0.0{k % 9}\n"
            for k in range(200_000)
        ).encode()
        with path.open("wb") as handle:
            handle.write(b"HoleID,From,To,Sample,Sn_ppm,W_ppm,Cu_pct\n")
            while handle.tell() < _BIG:
                handle.write(rows)
        before = peak_megabytes()

        def look() -> None:
            (offer,) = offers.offers_of(path)
            assert offer.kind == "assay"
            assert offer.layout is not None
            assert len(tables_in.first_rows(offer.ref, offer.layout, 8)) == 8
            assert intake.odd_values(offer, CellRules())
            intake.ambiguous_dates([offer])

        took = seconds(look, 3)

        def read() -> None:
            with path.open("rb") as handle:
                while handle.read(1 << 22):
                    pass

        every = seconds(read)
        yield Row(
            "Look at a CSV of 1 GB: kind, columns, rows, odd values",
            f"{1000 * took:.0f} ms, +{peak_megabytes() - before:.0f} MB",
            "at once",
            f"its bytes alone take {every:.2f} s to read",
        )


def look_at_the_prospect() -> Iterator[Row]:
    """The folder of the prospect: found, told, planned."""

    def look() -> None:
        found = [o for f in offers.found_files([FILES]) for o in offers.offers_of(f)]
        intake.plan([o for o in found if o.kind != "picture"])

    count = len(offers.found_files([FILES]))
    yield Row(f"Look at the prospect's folder of {count} files, plan the import", f"{1000 * seconds(look, 3):.0f} ms")
