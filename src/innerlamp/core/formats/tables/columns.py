"""Which column of a table plays which role, guessed from its heading; the user has the last word."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from ...elements import letters_of
from ...units import without_unit_in_heading
from .heading_words import words_of
from .north_words import without_north
from .roles import ROLES, Role


def plain(heading: str) -> str:
    """Reduce a heading to letters and digits without its unit: ``Depth (m)`` becomes ``depth``."""
    text = re.sub(r"[\(\[].*?[\)\]]", "", heading.lower())
    return re.sub(r"[^a-z0-9]", "", text)


def spellings(heading: str) -> tuple[str, ...]:
    """Return what a heading may be known by: whole, without what stands in brackets, without its unit; no accents."""
    bare = re.sub(r"[\(\[].*?[\)\]]", "", heading)
    texts = (heading, bare, without_unit_in_heading(bare), without_north(heading))
    return tuple(dict.fromkeys(t for text in texts if (t := re.sub(r"[^a-z0-9]", "", letters_of(text)))))


def words_in(heading: str) -> list[str]:
    """Return the words of a heading in small letters without accents."""
    return [w for w in re.split(r"[^a-z0-9]+", letters_of(heading.strip())) if w]


def tells(heading: str, words: str) -> bool:
    """Return whether a heading, or one of its words, is of a line of `heading_words`, in any language."""
    known = words_of(words)
    return any(t in known for t in (*spellings(heading), *(w for w in words_in(heading) if len(w) > 2)))


def names(heading: str, words: str) -> bool:
    """Return whether a whole heading, or its first word, is of a line of `heading_words`: a fracture density is no density."""
    known = words_of(words)
    parts = words_in(heading)
    if any(t in known for t in spellings(heading)):
        return True
    return bool(parts) and len(parts[0]) > 2 and parts[0] in known and not set(parts[1:]) & _NUMBERS_OF


# A second word that makes a number of a record out of what it follows: ``Rec_No`` is no recovery.
_NUMBERS_OF = {"no", "nr", "num", "number", "id", "date", "by", "code", "index"}


def guess(columns: Sequence[str], table: str) -> dict[str, str]:
    """Return the likely column of each role of a kind of table; roles without a candidate are absent.

    A whole heading tells before its first word does ("Azi grid"), and that before any of its words ("ID of hole").
    """
    if table == "resistivity":
        return _with_electrodes(columns)
    return _guess(columns, ROLES[table])


# Current and potential electrodes by the names that they have: one family for all four, so that a level n or a dipole
# length a beside Tx and Rx is none of them.
_FAMILIES = (
    ("a", "b", "m", "n"),
    ("c1", "c2", "p1", "p2"),
    ("i1", "i2", "v1", "v2"),
    ("tx1", "tx2", "rx1", "rx2"),
    ("txa", "txb", "rxm", "rxn"),
    ("t1", "t2", "r1", "r2"),
    ("ca", "cb", "pm", "pn"),
    ("current1", "current2", "potential1", "potential2"),
)
_AROUND = (
    "",
    "x",
    "el",
    "elec",
    "electrode",
    "elno",
    "pos",
    "position",
    "no",
    "nr",
    "number",
    "s",
    "loc",
    "electrodo",
    "elektrode",
)


def _with_electrodes(columns: Sequence[str]) -> dict[str, str]:
    flat = {c: spellings(c) for c in columns}
    best: dict[str, str] = {}
    for family in (*_FAMILIES[1:], _FAMILIES[0]):
        four: dict[str, str] = {}
        for role, base in zip("abmn", family, strict=True):
            known = {base + w for w in _AROUND} | {w + base for w in _AROUND}
            hit = next((c for c in columns if any(t in known for t in flat[c]) and c not in four.values()), "")
            if hit:
                four[role] = hit
        best = four if len(four) > len(best) else best
        if len(four) == 4:
            break
    rest = [c for c in columns if c not in best.values()]
    return {**best, **_guess(rest, [r for r in ROLES["resistivity"] if r.name not in "abmn"])}


def _guess(columns: Sequence[str], roles: Sequence[Role]) -> dict[str, str]:
    flat = {c: spellings(c) for c in columns}
    words = {c: words_in(c) for c in columns}
    taken: set[str] = set()
    mapping: dict[str, str] = {}
    for role in roles:
        place = {word: k for k, word in reversed(list(enumerate(role.known_by)))}
        free = [c for c in columns if c not in taken]
        ranked = [(min(place[t] for t in flat[c] if t in place), c) for c in free if any(t in place for t in flat[c])]
        if not ranked:
            first = {c: words[c][0] for c in free if words[c] and len(words[c][0]) > 1}
            ranked = [(place[w], c) for c, w in first.items() if w in place]
        if not ranked and role.required:
            ranked = [(place[w], c) for c in free for w in words[c][1:] if len(w) > 3 and w in place]
        if ranked:
            mapping[role.name] = min(ranked)[1]
            taken.add(mapping[role.name])
    return mapping


def cell_sizes(columns: Sequence[str]) -> dict[str, str]:
    """Return the columns of the sizes of cells by ``dx``, ``dy``, ``dz``, by the names that block models give them."""
    found = {}
    for axis in "xyz":
        known = (
            f"d{axis}",
            f"{axis}inc",
            f"{axis}size",
            f"size{axis}",
            f"{axis}length",
            f"dim{axis}",
            f"{axis}dim",
            f"l{axis}",
        )
        hit = next((c for c in columns if plain(c) in known), "")
        if hit:
            found[f"d{axis}"] = hit
    return found


def missing(mapping: Mapping[str, str], table: str) -> list[str]:
    """Labels of required roles that have no column."""
    return [r.label for r in ROLES[table] if r.required and not mapping.get(r.name)]
