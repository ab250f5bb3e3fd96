"""Texts from outside as people can read them: in one line, without control characters, of bounded length."""

from __future__ import annotations

import re

# Control characters, and those that turn the direction of what is written after them.
_HIDDEN = re.compile("[\x00-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff\ud800-\udfff]")
MOST_NAME = 200


def visible(text: str, keep: str = "") -> str:
    """Return a text with its control characters escaped, as ``\\x1b``; those in `keep` stay."""

    def escaped(found: re.Match[str]) -> str:
        letter = found.group(0)
        return letter if letter in keep else f"\\x{ord(letter):02x}" if ord(letter) < 256 else f"\\u{ord(letter):04x}"

    return _HIDDEN.sub(escaped, text)


def plain_name(text: str) -> str:
    """Return a text as the name of something: blanks in place of control characters, no longer than `MOST_NAME`."""
    return clipped(" ".join(_HIDDEN.sub(" ", text).split(" ")).strip(), MOST_NAME)


def one_line(text: str) -> str:
    """Return a text in one line: line breaks are blanks, other control characters are escaped."""
    return visible(re.sub(r"[\r\n\t]+", " ", text))


def clipped(text: str, most: int) -> str:
    """Return a text of at most `most` letters, its end left out where it is longer."""
    return text if len(text) <= most else text[: most - 1].rstrip() + "…"
