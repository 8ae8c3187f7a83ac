"""Front matter that can be read in one way only, without a parser; and what is wrong with any."""

from __future__ import annotations

import re

from elenchus.errors import About, Place, Problem
from elenchus.schema.record import Raw

__all__ = ["FIRST", "NULLS", "Unreadable", "nesting", "simple_values"]

NULLS = frozenset({"", "~", "null", "Null", "NULL"})  # YAML 1.1, the type null; 1.2 has the same
FIRST = 2  # the line of the file on which front matter begins


class Unreadable(ValueError):
    """A file's front matter cannot be parsed; ``line`` counts from 1 in the file."""

    def __init__(
        self,
        message: str,
        line: int = 0,
        hint: str = "",
        code: str = "unreadable-file",
        about: About = About.ANYTHING,
    ) -> None:
        super().__init__(message)
        self.about = about
        self.line = line
        self.hint = hint
        self.code = code

    def problem(self, unit: str) -> Problem:
        """Return the problem of a unit that this is."""
        return Problem(self.code, str(self), self.hint, place=Place(unit, self.line), about=self.about)


def simple_values(front: str) -> dict[str, Raw] | None:
    """Return the values of front matter that can be read in one way only; None for any other.

    Each line is a name with a text, plain or in quotes without escapes, or with a list of such texts in
    brackets; or a name alone, above lines of such texts after dashes. What these are is the same in all
    versions of YAML. The parser reads the rest, and takes twice as long.
    """
    if len(front) > _LONGEST_SIMPLE or not front.replace("\n", "").isprintable():
        return None
    found: dict[str, Raw] = {}
    listed: list[str | None] | None = None  # of the name that stands alone, while its lines are read
    at, indent = 0, ""
    for number, line in enumerate(front.split("\n"), FIRST):
        match = _NAMED.fullmatch(line)
        if match:
            name, plain, quoted_once, quoted_twice, several = match.groups()
            if name in found:
                return None
            listed = None
            if plain is not None:
                found[name] = Raw(None if plain in NULLS else plain, number)
            elif several is not None:
                found[name] = Raw([_text_of(*each) for each in _ITEM.findall(several)], number)
            elif quoted_once is None and quoted_twice is None:
                found[name] = Raw(None, number)
                listed, at = [], number
            else:
                found[name] = Raw(quoted_twice if quoted_once is None else quoted_once, number)
        elif line and not (line.startswith("#") and listed is None):
            item = _DASHED.fullmatch(line)
            if item is None or listed is None or (listed and item[1] != indent):
                return None
            indent = item[1]
            listed.append(_text_of(*item.groups()[1:]))
            found[name] = Raw(listed, at)
    return found


def _text_of(plain: str | None, quoted_once: str | None, quoted_twice: str | None) -> str | None:
    """Return the text of an item, None where it says that there is none."""
    if plain:
        return None if plain in NULLS else plain
    return quoted_once or quoted_twice or ""


# A plain text begins with a letter or a digit and has neither “: ” nor “ #” in it. In brackets it has no sign
# at all that could mean anything there. Nothing is tried twice: each part keeps what it has matched.
_LONGEST_SIMPLE = 2**16
_WORD = r"(?:[^:# ]|:(?=[^ ]))(?:[^:# ]|#|:(?=[^ ]))*+"
_SURE = rf"(?:\w|-\d)(?:[^:# ]|#|:(?=[^ ]))*+(?: ++{_WORD})*+"
_SURE_INSIDE = r"\w[\w./+-]*+(?: ++[\w./+-]++)*+"
_ONCE, _TWICE = r"'([^']*+)'", r'"([^"\\]*+)"'
_INSIDE = rf"(?:{_SURE_INSIDE}|'[^']*+'|\"[^\"\\]*+\") *+"
_SEVERAL = rf"\[ *+((?:{_INSIDE}(?:, *+{_INSIDE})*+)?)\]"
_NAMED = re.compile(rf"([A-Za-z_][\w-]{{0,99}}+):(?: ++(?:({_SURE})|{_ONCE}|{_TWICE}|{_SEVERAL}))?+ *+")
_ITEM = re.compile(rf"({_SURE_INSIDE})|{_ONCE}|{_TWICE}")
_DASHED = re.compile(rf"( *+)- ++(?:({_SURE})|{_ONCE}|{_TWICE}) *+")


def nesting(front: str) -> int:
    """Return how deep brackets open at the most, those in texts counted along: a bound, no parser."""
    depth = most = 0
    for char in front:
        if char in "[{":
            depth += 1
            most = max(most, depth)
        elif char in "]}":
            depth = max(depth - 1, 0)
    return most
