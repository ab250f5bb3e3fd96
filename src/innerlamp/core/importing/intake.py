"""From offers to runs: which operations bring a set of files in, in which order, and what they will do with odd values."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import pyarrow as pa

from ..elements import measured, ranked
from ..errors import InputError, LampError
from ..findings import Findings
from ..formats.tables import dates, rawtable, tables_in
from ..formats.tables.rawtable import RawTable
from ..formats.tables.roles import ROLES
from ..units import unit_in_heading
from .angles import sense_of
from .detection import GRADES, CellRules
from .offers import HOLE_KINDS, KINDS, Offer, lacking
from .reading import attributes, title
from .tiles import beginning, tile_sets

_LOOKED_AT = 400


@dataclass(frozen=True)
class Choices:
    """What the user chose for all files together.

    `picks` are the picked points of pictures by file; `add_to` is the id of a hole set that holes are
    added to, '' for a new one; `batches` makes further collar tables batches of the first set; `ground` and `holes` are
    the ids of a ground surface and of the hole set in the project that pictures of core are of.
    """

    cells: CellRules = field(default_factory=CellRules)
    day_order: dates.DayOrder = "auto"
    dips: str = "auto"
    coordinates: str = ""
    add_to: str = ""
    batches: bool = False
    ground: str = ""
    holes: str = ""
    picks: Mapping[str, Sequence[Sequence[float]]] = field(default_factory=dict)


@dataclass(frozen=True)
class Run:
    """One operation to run: its parameters, its inputs (``@ground`` is what an earlier run makes), and the files."""

    operation: str
    params: dict[str, Any]
    inputs: dict[str, str]
    files: tuple[str, ...]

    @property
    def words(self) -> str:
        """What it brings in, for people."""
        return f"{self.operation}: " + ", ".join(Path(f).name for f in self.files)


def plan(offers: Sequence[Offer], choices: Choices = Choices()) -> list[Run]:
    """Return the runs that bring offers in: the ground first, since others take elevations from it.

    Raises
    ------
    InputError
        When a required column is not chosen, or tables of holes have no collars to go to.
    """
    for offer in offers:
        if offer.kind and lacking(offer):
            raise InputError(
                "no column for " + ", ".join(lacking(offer)),
                where=offer.label,
                fix="Choose it in the preview, or leave the file out",
            )
    grounds = [o for o in offers if o.kind == "ground"]
    runs = [_together(tiles, choices) for tiles in _tiles(grounds)]
    ground = choices.ground or ("@ground" if grounds else "")
    runs += _holes([o for o in offers if o.kind in HOLE_KINDS], choices, ground)
    runs += _lines([o for o in offers if o.kind == "lines"], choices, ground)
    electric = [o for o in offers if o.kind in ("resistivity", "electrodes")]
    if electric:
        runs.append(_resistivity(electric, choices, ground))
    core = [o for o in offers if o.kind == "core"]
    if core:
        runs.append(_core(core, choices, any(r.operation == "import-holes" for r in runs)))
    aside = ("", "base", "ground", "lines", "resistivity", "electrodes", "core", *HOLE_KINDS)
    runs += [_together(tiles, choices) for tiles in _tiles([o for o in offers if o.kind == "grid"])]
    others = [o for o in offers if o.kind not in (*aside, "grid")]
    return runs + [_single(o, choices) for o in others]


def _tiles(offers: Sequence[Offer]) -> list[list[Offer]]:
    """Grids by what they are parts of. Those of other things have other names; a ground has any."""
    stems = [tables_in.split(o.ref)[0].stem for o in offers]
    by_name = any(o.kind != "ground" for o in offers)
    return [[offers[k] for k in each] for each in tile_sets(stems, [o.extent for o in offers], by_name)]


def _together(tiles: Sequence[Offer], choices: Choices) -> Run:
    """The run that brings in a grid with the tiles that belong to it."""
    first = _single(tiles[0], choices)
    if len(tiles) == 1:
        return first
    paths = [tables_in.split(o.ref)[0] for o in tiles]
    common = title(Path(beginning([p.stem for p in paths]) or paths[0].parent.name))
    named = {"attribute": common} if tiles[0].kind == "grid" else {}
    params = {**first.params, **named, "tiles": [o.ref for o in tiles[1:]], "name": common}
    return Run(first.operation, params, {}, tuple(o.ref for o in tiles))


def usable(offers: Sequence[Offer], choices: Choices = Choices()) -> tuple[list[Offer], dict[str, str]]:
    """Return the offers that can be brought in, and why the others can't, by file: one never stops the others."""
    good: list[Offer] = []
    why: dict[str, str] = {}
    for offer in offers:
        absent = lacking(offer) if offer.kind else []
        if absent:
            fix = "say what it is, or which column it is, or leave it out"
            why[offer.ref] = f"{offer.label}: no column for {', '.join(absent)}; {fix}"
        else:
            good.append(offer)
    kinds = {o.kind for o in good}
    lone = {k for k in HOLE_KINDS if k != "collar"} if "collar" not in kinds else set()
    lone |= {"electrodes"} if "resistivity" not in kinds else set()
    if "collar" not in kinds and not choices.add_to and not choices.holes:
        lone |= {"core"}
    words = {"electrodes": "there are electrodes and no readings", "core": "there are pictures of core and no holes"}
    for offer in [o for o in good if o.kind in lone]:
        why[offer.ref] = f"{offer.label}: {words.get(offer.kind, 'there are tables of holes and no collars')}"
    return [o for o in good if o.kind not in lone], why


def without(run: Run, error: LampError) -> tuple[Run, str] | None:
    """Return a run of holes without the table that an error is about, and that table's file; None where it is no such."""
    if run.operation not in ("import-holes", "add-holes"):
        return None
    where = str(error.where).partition("#")[0]
    mine = [f for f in run.files if f != run.params["collar"] and where and tables_in.split(f)[0].name == where]
    part = str(error.where).partition("#")[2]
    exact = [f for f in mine if part and tables_in.split(f)[1] == part] or mine
    if len(exact) != 1 or (not part and tables_in.split(run.params["collar"])[0].name == where):
        return None
    file = exact[0]
    params: dict[str, Any] = {}
    for name, value in run.params.items():
        if name in ("survey", "assay", "lithology", "controls") and value == file:
            continue
        params[name] = [v for v in value if v != file] if name in ("more", "assays", "surveys") else value
    mapping = dict(params.get("columns", {}))
    # Columns of further tables are named by their place: those behind it move up.
    for first, rest in (("survey", "surveys"), ("assay", "assays")):
        files = [run.params.get(first, ""), *run.params.get(rest, [])]
        if file in files:
            kept = [(f, mapping.pop(first if not k else f"{first} {k + 1}", {})) for k, f in enumerate(files)]
            kept = [(f, columns_) for f, columns_ in kept if f and f != file]
            params.pop(first, None)
            params[rest] = [f for f, _ in kept[1:]]
            if kept:
                params[first] = kept[0][0]
            mapping |= {first if not k else f"{first} {k + 1}": c for k, (_, c) in enumerate(kept)}
        if not params.get(rest):
            params.pop(rest, None)
    return replace(run, params={**params, "columns": mapping}, files=tuple(f for f in run.files if f != file)), file


def resolved(run: Run, made: Mapping[str, str]) -> dict[str, str]:
    """Return the inputs of a run with what earlier ones made; an input whose run failed is left out."""
    inputs = {slot: made.get(item, "") if item.startswith("@") else item for slot, item in run.inputs.items()}
    return {slot: item for slot, item in inputs.items() if item}


def remember(run: Run, outputs: Mapping[str, str], made: dict[str, str]) -> None:
    """Note what a run made, for those that wait for it."""
    if run.operation == "import-grid" and run.params.get("quantity") == "elevation":
        made.setdefault("@ground", outputs["grid"])
    if run.operation == "import-holes":
        made.setdefault("@holes", outputs["holes"])


def _cell_params(rules: CellRules) -> dict[str, Any]:
    """Return what cells become as parameters of an import; what is left as it is need not be said."""
    usual = CellRules()
    told = {
        "above_limit": (rules.above, usual.above),
        "above_factor": (rules.above_factor, usual.above_factor),
        "negatives": (rules.negatives, usual.negatives),
        "methods": (rules.methods, usual.methods),
    }
    return {"below_detection": rules.below, **{k: v for k, (v, default) in told.items() if v != default}}


def _given(inputs: str) -> dict[str, str]:
    return {"ground": inputs} if inputs else {}


def _holes(offers: Sequence[Offer], choices: Choices, ground: str) -> list[Run]:
    collars = [o for o in offers if o.kind == "collar"]
    if not offers:
        return []
    if not collars:
        raise InputError(
            "there are tables of holes and no collars", where=offers[0].label, fix="Bring the collar table in with them"
        )
    out: list[Run] = []
    for collar in collars:
        mine = [o for o in offers if o is not collar and o.kind != "collar" and _home(o, collars) is collar]
        params: dict[str, Any] = {
            "collar": collar.ref,
            **_cell_params(choices.cells),
            "dips": choices.dips,
        }
        mapping = {"collar": collar.roles}
        more: list[str] = []
        labs: list[str] = []
        surveys: list[str] = []
        for offer in mine:
            slot = offer.kind if offer.kind in ("survey", "assay", "lithology", "controls") else "more"
            if slot == "assay" and slot in params:
                labs.append(offer.ref)
                mapping[f"assay {len(labs) + 1}"] = offer.roles
                continue
            if slot == "survey" and slot in params:
                surveys.append(offer.ref)
                mapping[f"survey {len(surveys) + 1}"] = offer.roles
                continue
            if slot == "more" or slot in params:
                more.append(offer.ref)
                if offer.roles:
                    mapping[offer.ref] = offer.roles  # further tables get their names only when they are read
                continue
            params[slot] = offer.ref
            mapping[slot] = offer.roles
        params |= {"more": more, "columns": mapping, **({"assays": labs} if labs else {})}
        params |= {"surveys": surveys} if surveys else {}
        params |= {"day_order": choices.day_order, "coordinates": choices.coordinates}
        files = (collar.ref, *(o.ref for o in mine))
        target = choices.add_to or ("@holes" if choices.batches and out else "")
        if target:
            out.append(Run("add-holes", params, {"holes": target, **_given(ground)}, files))
            continue
        folder = tables_in.split(collar.ref)[0].parent.name
        name = title(Path(folder)) if len(collars) > 1 and folder and not choices.batches else "Drillholes"
        out.append(Run("import-holes", {**params, "name": name}, _given(ground), files))
    return out


def _home(offer: Offer, collars: Sequence[Offer]) -> Offer:
    """The collar table that a table of holes belongs to: in its file, its folder, the nearest folder above, else the first."""
    path, _ = tables_in.split(offer.ref)
    places = [tables_in.split(c.ref)[0] for c in collars]
    for k, place in enumerate(places):
        if place == path:
            return collars[k]
    near = [len(_shared(path.parent, p.parent)) - len(p.parent.parts) for p in places]
    return collars[near.index(max(near))]


def _shared(a: Path, b: Path) -> list[str]:
    out = []
    for x, y in zip(a.parts, b.parts, strict=False):
        if x != y:
            break
        out.append(x)
    return out


def _lines(offers: Sequence[Offer], choices: Choices, ground: str) -> list[Run]:
    """Files of one folder with the same columns and no line column are the lines of one survey."""
    groups: dict[tuple[str, ...], list[Offer]] = {}
    for offer in offers:
        layout = offer.layout
        key: tuple[str, ...] = (offer.ref,)
        if layout is not None and "line" not in offer.roles:
            key = (str(tables_in.split(offer.ref)[0].parent), *layout.columns)
        groups.setdefault(key, []).append(offer)
    out = []
    for members in groups.values():
        params: dict[str, Any] = {
            "file": members[0].ref,
            "more": [o.ref for o in members[1:]],
            "columns": members[0].roles,
            "day_order": choices.day_order,
            "coordinates": choices.coordinates,
        }
        if len(members) > 1:
            params["name"] = title(tables_in.split(members[0].ref)[0].parent)
        out.append(Run("import-lines", params, _given(ground), tuple(o.ref for o in members)))
    return out


def _resistivity(offers: Sequence[Offer], choices: Choices, ground: str) -> Run:
    readings = [o for o in offers if o.kind == "resistivity"]
    electrodes = [o for o in offers if o.kind == "electrodes"]
    if not readings:
        raise InputError(
            "there are electrodes and no readings",
            where=electrodes[0].label,
            fix="Bring the tables of readings in with them",
        )
    mapping = {"readings": readings[0].roles}
    if electrodes:
        mapping["electrodes"] = electrodes[0].roles
    params = {
        "readings": [o.ref for o in readings],
        "electrodes": [o.ref for o in electrodes],
        "columns": mapping,
        "coordinates": choices.coordinates,
    }
    return Run("import-resistivity", params, _given(ground), tuple(o.ref for o in offers))


def _core(offers: Sequence[Offer], choices: Choices, fresh: bool) -> Run:
    holes = choices.add_to or ("@holes" if fresh else choices.holes)
    if not holes:
        raise InputError(
            "there are pictures of core and no holes",
            where=offers[0].label,
            fix="Bring the holes in with or before them",
        )
    files = tuple(o.ref for o in offers)
    return Run("import-core-pictures", {"files": list(files)}, {"holes": holes}, files)


def _single(offer: Offer, choices: Choices) -> Run:
    path, part = tables_in.split(offer.ref)
    system = {"coordinates": choices.coordinates}
    if offer.kind in ("samples", "stations", "structures", "workings"):
        params: dict[str, Any] = {
            "file": offer.ref,
            "content": offer.kind,
            "columns": offer.roles,
            **_cell_params(choices.cells),
            **system,
        }
        return Run("import-points", params, {}, (offer.ref,))
    if offer.kind in ("ground", "grid"):
        named = {"attribute": "elevation", "quantity": "elevation"} if offer.kind == "ground" else _grid_words(path)
        return Run("import-grid", {"file": offer.ref, **named, **system}, {}, (offer.ref,))
    if offer.kind in ("blocks", "cells"):
        return Run("import-blocks", {"file": offer.ref, "columns": offer.roles}, {}, (offer.ref,))
    if offer.kind in ("surface", "heights"):
        return Run("import-surface", {"file": offer.ref, **system}, {}, (offer.ref,))
    if offer.kind == "element":
        return Run("import-element", {"file": str(path), "element": part}, {}, (offer.ref,))
    if offer.kind == "picture":
        points = [list(map(float, p)) for p in choices.picks.get(offer.ref, ())]
        return Run("import-picture", {"file": offer.ref, "points": points, **system}, {}, (offer.ref,))
    return Run("import-features", {"file": offer.ref, **system}, {}, (offer.ref,))


def _grid_words(path: Path) -> dict[str, str]:
    unit = unit_in_heading(path.stem)
    return {"attribute": title(path), "unit": unit}


def ambiguous_dates(offers: Sequence[Offer]) -> dict[str, list[str]]:
    """Return, by file, dates that could be day or month first with nothing in their first rows to tell."""
    out = {}
    for offer in offers:
        column = offer.roles.get("date", "")
        if offer.layout is None or column not in offer.layout.columns:
            continue
        at = offer.layout.columns.index(column)
        rows = tables_in.first_rows(offer.ref, offer.layout, _LOOKED_AT)
        asked = dates.ambiguous([r[at] for r in rows if len(r) > at])
        if asked:
            out[offer.ref] = asked
    return out


@dataclass(frozen=True)
class Questions:
    """What the content of files leaves open: by file, doubtful dates, dips and negative grades, each in words.

    `methods` are those that give one element in a file, in the order in which they would count: a choice, no question.
    """

    dates: Mapping[str, list[str]] = field(default_factory=dict)
    dips: Mapping[str, str] = field(default_factory=dict)
    negatives: Mapping[str, str] = field(default_factory=dict)
    methods: Mapping[str, list[str]] = field(default_factory=dict)

    def of(self, files: Collection[str]) -> Questions:
        """Return what is open in some files only."""
        return Questions(*({k: v for k, v in part.items() if k in files} for part in self._parts))

    def updated(self, file: str, now: Questions) -> Questions:
        """Return the same with what is open in one file as it is now."""
        return Questions(
            *(
                {k: v for k, v in before.items() if k != file} | dict(after)
                for before, after in zip(self._parts, now._parts, strict=True)
            )
        )

    @property
    def _parts(self) -> tuple[Mapping[str, Any], ...]:
        return self.dates, self.dips, self.negatives, self.methods


def questions(offers: Sequence[Offer]) -> Questions:
    """Return what the first rows of files leave open for the user to say."""
    dips, negatives, methods = {}, {}, {}
    for offer in offers:
        if offer.layout is None or offer.kind not in ("survey", "collar", "assay", "samples", "controls"):
            continue
        head = _head(offer, _LOOKED_AT)
        column = offer.roles.get("dip", "")
        if column in offer.layout.columns:
            values = rawtable.numbers(head.cells.column(column), offer.layout.decimal_comma)[0]
            sense = sense_of(column, values)
            if sense.doubt:
                dips[offer.ref] = sense.why
        several = _methods(offer)
        if several:
            methods[offer.ref] = several
        found = Findings()
        with contextlib.suppress(LampError):
            attributes(head, set(offer.roles.values()), CellRules(), found, offer.kind)
        asked = [w for w, d in found.frame()[["what", "done"]].itertuples(index=False) if "negatives=" in str(d)]
        if asked:
            negatives[offer.ref] = str(asked[0]).split(" stands")[0]
    return Questions(ambiguous_dates(offers), dips, negatives, methods)


def _methods(offer: Offer) -> list[str]:
    """Return the methods of the element for which a table has the most, where it has several."""
    assert offer.layout is not None
    by_element: dict[str, list[str]] = {}
    for column in offer.layout.columns:
        told = measured(column, offer.layout.unit_of(column))
        if told is not None and told.unit in GRADES and told.method:
            by_element.setdefault(told.element, []).append(told.method)
    return max((ranked(m) for m in by_element.values() if len(set(m)) > 1), key=len, default=[])


def odd_values(offer: Offer, rules: CellRules) -> list[str]:
    """Return in words what an import will do with odd values, as far as the first rows show it."""
    if offer.layout is None or offer.kind in ("", "base", "log", "resistivity", "electrodes", "cells", "heights"):
        return []
    head = _head(offer, _LOOKED_AT)
    found = Findings()
    used = set(offer.roles.values())
    try:
        attributes(head, used, rules, found, offer.kind)
    except LampError as error:
        return [str(error)]
    counts: dict[tuple[str, str], int] = {}
    for what, done in found.frame()[["what", "done"]].itertuples(index=False):
        key = (
            re.sub(r"'(<?)[^']*'", lambda m: "'<…'" if m.group(1) else m.group(0), str(what)),
            re.sub(r"taken as [\d.e+-]+", f"become {rules.below}", str(done)),
        )
        counts[key] = counts.get(key, 0) + 1
    out = [f"{n} × {what}: {done}" if n > 1 else f"{what}: {done}" for (what, done), n in counts.items()]
    for role, column in offer.roles.items():
        if (
            role in ("hole", "line", "date", "time", "sample", "type", "standard", "original", "batch")
            or column not in offer.layout.columns
        ):
            continue
        if offer.kind == "structures":
            continue
        odd = rawtable.numbers(head.cells.column(column), offer.layout.decimal_comma)[1]
        if odd.any():
            text = head.text(column)[odd].iloc[0]
            out.append(f"{int(odd.sum())} × {column} is not a number, such as '{text}': left out or reported by row")
    return out[:12]


def _head(offer: Offer, count: int) -> RawTable:
    assert offer.layout is not None
    rows = tables_in.first_rows(offer.ref, offer.layout, count)
    width = len(offer.layout.columns)
    padded = [[*r, *[""] * (width - len(r))][:width] for r in rows]
    cells = pa.table({c: pa.array([r[k] for r in padded], pa.string()) for k, c in enumerate(offer.layout.columns)})
    import numpy as np

    return RawTable(
        tables_in.split(offer.ref)[0], offer.layout, cells, np.arange(len(rows)) + offer.layout.header_line + 1
    )


def columns_in_words(offer: Offer) -> list[tuple[str, str, str]]:
    """Return each column of a table with its role ('' for an attribute) and its unit."""
    if offer.layout is None:
        return []
    labels = {r.name: r.label for r in ROLES.get(KINDS[offer.kind][1], ())}
    of = {column: labels.get(role, role) for role, column in offer.roles.items()}
    return [(c, of.get(c, ""), offer.layout.unit_of(c)) for c in offer.layout.columns]


def with_role(offer: Offer, role: str, column: str) -> Offer:
    """Return an offer with another column for a role; '' for none."""
    # '' says that there is none: it is not guessed again. Two roles may share a column, such as date and time.
    roles = {**offer.roles, role: column}
    return replace(offer, roles=roles)
