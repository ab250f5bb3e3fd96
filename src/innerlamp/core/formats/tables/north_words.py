"""From which north a heading says that directions are: in words, short forms and seven languages."""

from __future__ import annotations

import re
from typing import Literal

from ...elements import letters_of

Told = Literal["grid", "true", "magnetic", ""]
# Beginnings of words in English, Spanish, French, Portuguese, German, Finnish and Swedish, and short forms that stand alone.
_WORDS: dict[Told, tuple[str, tuple[str, ...]]] = {
    "magnetic": (
        "magn|mag$|missweis|missvis|kompas|compas|brujul|boussol|bussol|neulapoh",
        ("mag", "mn", "nm", "m", "mgn"),
    ),
    "true": (
        "true|verdader|verdadeir|vrai|rechtweis|rattvis|geogr|geografi|maantiet|wahr|sann|tosi|astron|napapoh",
        ("tn", "t", "ng", "nv", "gyro", "wn"),
    ),
    "grid": (
        "grid|grill|gitter|kartennord|kartta|kartpro|kartnor|rutn|quadric|cuadric|rejilla|carroy|utm|malla|koordinaat|projek",
        ("gn", "g", "nc", "nq", "gk"),
    ),
}
# Words for a direction, the longer ones first.
_DIRECTIONS = tuple(
    sorted(
        [
            "azimuth",
            "azimut",
            "azimute",
            "azim",
            "azi",
            "azm",
            "az",
            "acimut",
            "bearing",
            "brg",
            "rumbo",
            "rumo",
            "riktning",
            "baring",
            "bohrrichtung",
            "richtung",
            "atsimuutti",
            "suunta",
            "strike",
            "dipdirection",
            "dipdir",
            "ddir",
            "trend",
            "streichen",
            "strykning",
            "direction",
            "direccion",
            "direcao",
            "kulku",
        ],
        key=len,
        reverse=True,
    )
)


def north_of(heading: str) -> Told:
    """Return the north that the heading of a direction names, '' when it names none."""
    tokens = _tokens(heading)
    directed = any(t.startswith(_DIRECTIONS) for t in tokens)
    for token in tokens:
        told = _told(token, directed and len(tokens) > 1)[0]
        if told:
            return told
    return ""


def without_north(heading: str) -> str:
    """Return the heading of a direction without the words for its north; other headings as they are."""
    tokens = _tokens(heading)
    if not north_of(heading) or not any(t.startswith(_DIRECTIONS) for t in tokens):
        return heading
    kept = []
    for token in tokens:
        told, bare = _told(token, True)
        if bare or (not told and token not in ("north", "norte", "nord", "norr", "pohjoinen")):
            kept.append(bare or token)
    return " ".join(kept) or heading


def _told(token: str, beside: bool) -> tuple[Told, str]:
    """The north that a word names, and the word for a direction that it begins with.

    `beside` says whether another word is there for the direction: only then one or two letters name a north.
    """
    if token in _DIRECTIONS:
        return "", ""
    for bare in ("", *(d for d in _DIRECTIONS if token.startswith(d))):
        rest = token[len(bare) :]
        for told, (starts, short) in _WORDS.items():
            if rest and (re.match(starts, rest) or (rest in short and (bare or beside or len(rest) > 2))):
                return told, bare
    return "", ""


def _tokens(heading: str) -> list[str]:
    """Words of a heading in small letters; those that are written together with a capital between are parted."""
    parted = re.sub(r"(?<=[a-zà-ÿ])(?=[A-Z])", " ", heading)
    text = re.sub(r"\bdip[^a-z0-9]+(?=dir|az)", "dip", letters_of(parted))  # a dip direction is one word here
    return [t for t in re.split(r"[^a-z0-9]+", text) if t]
