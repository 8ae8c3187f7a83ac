"""Several values in one text, parted by a sign: what has it itself stands in double quotes, as in CSV."""

from __future__ import annotations

import re
from functools import cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Sequence

__all__ = ["in_one_text", "parts_of_text"]


def in_one_text(values: Sequence[str], sign: str, *, tight: bool = True) -> str:
    """Return values as one text; without ``tight`` there is a space behind each sign."""
    if len(values) == 1 and sign not in values[0]:  # so it is read as it is, quotes and all
        return values[0]
    return (sign if tight else f"{sign} ").join(_quoted(each, sign) for each in values)


def parts_of_text(text: str, sign: str) -> list[str]:
    """Return the values that one text has, without the blanks around them and without empty ones."""
    if '"' not in text:
        return [part for each in text.split(sign) if (part := each.strip())]
    found = (plain if quoted is None else quoted.replace('""', '"') for quoted, plain in _pieces(text, sign))
    return [part for each in found if (part := each.strip())]


def _quoted(value: str, sign: str) -> str:
    """Return a value in quotes if it could be taken for several, or for one in quotes."""
    is_plain = sign not in value and not value.startswith('"')
    return value if is_plain else '"' + value.replace('"', '""') + '"'


def _pieces(text: str, sign: str) -> list[tuple[str | None, str]]:
    """Return what stands in quotes, or else what stands there, of each piece between signs."""
    found, at = [], 0
    while (match := _piece(sign).match(text, at)) and at <= len(text):
        found.append((match["quoted"], match["plain"] or ""))
        at = match.end() + len(sign)
    return found


@cache
def _piece(sign: str) -> re.Pattern[str]:
    """Return the pattern of a piece: one in quotes up to a sign or the end, or all up to the next sign."""
    end = rf"(?={re.escape(sign)}|\Z)"
    plain = rf"(?:(?!{re.escape(sign)}).)*+"
    return re.compile(rf'\s*+"(?P<quoted>(?:[^"]++|"")*+)"\s*+{end}|(?P<plain>{plain})', re.DOTALL)
