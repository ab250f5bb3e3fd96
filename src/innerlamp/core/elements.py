"""Which element a column of grades is of, by which method, in which unit: ``Au (ppb)`` and ``AU_FA_PPM`` are both gold."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass

from .units import unit_in_heading, without_units

# Symbols of elements that laboratories report, and the oxides of whole-rock analyses.
_SYMBOLS = (
    "Ag Al As Au B Ba Be Bi Br C Ca Cd Ce Cl Co Cr Cs Cu Dy Er Eu F Fe Ga Gd Ge Hf Hg Ho In Ir K La Li Lu Mg Mn Mo Na Nb "
    "Nd Ni Os P Pb Pd Pr Pt Rb Re Rh Ru S Sb Sc Se Si Sm Sn Sr Ta Tb Te Th Ti Tl Tm U V W Y Yb Zn Zr "
    "SiO2 Al2O3 Fe2O3 FeO MgO CaO Na2O K2O TiO2 P2O5 MnO Cr2O3 BaO SrO WO3 SnO2 Li2O Nb2O5 Ta2O5 U3O8 V2O5 ZrO2 LOI"
)
_SYMBOL = {s.lower(): s for s in _SYMBOLS.split()}
# Names by language (English, Spanish, French, Portuguese, German, Finnish, Swedish): a line for each element, easy to add to.
_NAMES = {
    "Au": "gold oro or ouro gold kulta guld",
    "Ag": "silver plata argent prata silber hopea silver",
    "Cu": "copper cobre cuivre cobre kupfer kupari koppar",
    "Zn": "zinc zinc cinc zinco zink sinkki zink",
    "Pb": "lead plomo plomb chumbo blei lyijy bly",
    "Sn": "tin estano etain estanho zinn tina tenn",
    "Fe": "iron hierro fer ferro eisen rauta jarn",
    "As": "arsenic arsenico arsenic arsenio arsen arseeni arsenik",
    "Ni": "nickel niquel nickel niquel nickel nikkeli nickel",
    "Co": "cobalt cobalto cobalt cobalto kobalt koboltti kobolt",
    "W": "tungsten wolframio tungsteno tungstene tungstenio wolfram volframi volfram",
    "Mo": "molybdenum molibdeno molybdene molibdenio molybdan molybdeeni molybden",
    "S": "sulphur sulfur azufre soufre enxofre schwefel rikki svavel",
    "Sb": "antimony antimonio antimoine antimonio antimon antimoni antimon",
    "Bi": "bismuth bismuto bismuth bismuto wismut vismutti vismut",
    "Hg": "mercury mercurio mercure mercurio quecksilber elohopea kvicksilver",
    "Li": "lithium litio lithium litio lithium litium litium",
    "U": "uranium uranio uranium uranio uran uraani uran",
    "Mn": "manganese manganeso manganese manganes mangan mangaani mangan",
}
_BY_NAME = {word: symbol for symbol, words in _NAMES.items() for word in words.split()}
# What is dissolved or recovered is a part of the metal and no other measure of it: such columns are never joined with it.
_PARTS = frozenset(
    [
        "sol",
        "soluble",
        "solu",
        "cn",
        "cyanide",
        "eq",
        "equiv",
        "equivalent",
        "rec",
        "recoverable",
        "sulphide",
        "sulfide",
        "oxide",
        "ox",
        "mag",
        "ws",
        "leach",
        "residual",
        "cut",
        "capped",
        "ratio",
        "rank",
        "log",
        "ln",
        "norm",
        "clr",
        "zscore",
        "score",
        "sd",
        "std",
        "err",
        "error",
        "unc",
        "uncertainty",
        "limit",
        "lld",
        "dl",
    ]
)
# Methods from the one that is trusted most; common practice, no source. What is not named comes after, as it stands in the file.
PRECEDENCE = (
    "OL",
    "OG",
    "GRA",
    "GRAV",
    "SFA",
    "SCR",
    "FA",
    "FAAA",
    "FAICP",
    "FUS",
    "XRF",
    "4A",
    "4AD",
    "TOTAL",
    "ICPMS",
    "MS",
    "ICP",
    "ICPOES",
    "OES",
    "AAS",
    "AA",
    "AR",
    "PXRF",
)
# What laboratories call the whole of a sample that was sieved for coarse gold, and a second assay of the same sample: sorts
# by their words in the languages of `_NAMES`.
_SORTS = {
    "screened": "screen screened screenfire scr sfa metallic metallics tamiz tamizado tamizaje malla crible criblage tamis "
    "tamisage metallique peneira peneirado peneiramento sieb siebung siebanalyse gesiebt seula seulonta seulottu sikt "
    "siktad siktning siktanalys",
    "repeated": "rpt rep repeat repeats repeated recheck check dup duplicate repeticion repetido repetida duplicado "
    "repetition reprise repete doublon repeticao duplicata wiederholung wdh doppel uusinta toisto rinnakkainen upprepad "
    "omanalys dubbel",
}
_SORT_OF = {word: sort for sort, words in _SORTS.items() for word in words.split()}
_PLAIN = ("plain", "original")  # what the user calls a column that names no method
# A part of a sieved sample is no assay of the whole.
_SIEVED_PART = re.compile(
    r"[+-]\s*\d|\d+\s*(um|µm|mesh|micron)|\b(plus|minus|coarse|fine|fines|oversize|undersize|grueso|fino|gros|grossier|fin|grosso|grob|fein|karkea|hieno|grov)\b"
)


@dataclass(frozen=True)
class Measured:
    """What a heading names: `element` (its symbol, with the part of it that is meant), `method` ('' for none) and `unit`."""

    element: str
    method: str
    unit: str


def letters_of(text: str) -> str:
    """Return a text in small letters without accents."""
    return "".join(c for c in unicodedata.normalize("NFKD", text.lower()) if not unicodedata.combining(c))


def measured(heading: str, unit: str = "") -> Measured | None:
    """Return the element, method and unit of a heading, None when it names no element.

    `unit` is one that is known otherwise, such as from a row of units; without it the heading's counts.
    """
    known = unit or unit_in_heading(heading)
    tokens = [t for t in re.split(r"[^0-9A-Za-zÀ-ÿ+]+", without_units(heading)) if t]
    if not tokens:
        return None
    first = letters_of(tokens[0])
    stuck = re.fullmatch(r"([a-z][a-z]?)(ppm|ppb|pct|gpt)", first)
    if stuck and stuck.group(1) in _SYMBOL:
        first, known = stuck.group(1), unit or unit_in_heading(f"x_{stuck.group(2)}")
    symbol = _SYMBOL.get(first) or _BY_NAME.get(first)
    if symbol is None:
        return None
    rest = [t for t in tokens[1:] if letters_of(t) not in ("total", "assay", "grade", "ley", "teneur", "teor")]
    parts = [t for t in rest if letters_of(t) in _PARTS]
    method = "_".join(t for t in rest if t not in parts)
    return Measured(" ".join([symbol, *(letters_of(p) for p in parts)]), method, known)


def sort_of(method: str) -> str:
    """Return 'screened' for the whole of a sieved sample, 'part' for a part of one, 'repeated' for a second assay, else ''."""
    sorts = {_SORT_OF.get(letters_of(t)) for t in re.findall(r"[^\W\d_]+", method)}
    if "screened" in sorts:
        return "part" if _SIEVED_PART.search(letters_of(method.replace("_", " "))) else "screened"
    return "repeated" if "repeated" in sorts else ""


def ranked(methods: Sequence[str], first: Sequence[str] = ()) -> list[str]:
    """Return methods from the one that counts first: those that the user named, then by `PRECEDENCE`, then as they stand.

    Of those that were not named the whole of a sieved sample comes first, since it holds the coarse gold that a pinch of
    pulp misses (common practice, no source); then a column without a method, the table's own choice. Repeated assays and
    parts of sieved samples come last. The user names sorts in any language (``screen``, ``repeat``), and ``plain`` for the
    column without a method.
    """

    def bared(text: str) -> str:
        return re.sub(r"[^A-Z0-9]", "", text.upper())

    def means(word: str, method: str) -> bool:
        if not method:
            return letters_of(word.strip()) in _PLAIN
        sort = sort_of(word)
        return sort in ("screened", "repeated") and sort == sort_of(method)

    def place(method: str) -> tuple[int, int]:
        bare, sort = bared(method), sort_of(method)
        # Exactly as it is called before what is of its sort: of two repeats one can be meant.
        hits = [k for k, word in enumerate(first) if bare and bared(word) == bare]
        hits = hits or [k for k, word in enumerate(first) if means(word, method)]
        if hits:
            return 0, hits[0]
        if sort == "screened":
            return 1, 0
        if not bare:
            return 1, 1
        if sort:
            return (4, 0) if sort == "repeated" else (5, 0)
        words = {bare, *re.findall(r"[A-Z0-9]+", method.upper()), *re.findall(r"[A-Z]+|\d+[A-Z]+", method.upper())}
        hits = [k for k, known in enumerate(PRECEDENCE) if known in words]
        return (2, hits[0]) if hits else (3, 0)

    return sorted(dict.fromkeys(methods), key=place)
