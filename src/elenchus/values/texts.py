"""Text as the language sees it: without regard to case or Unicode form, accents counting."""

from __future__ import annotations

import re
import unicodedata
from heapq import nlargest, nsmallest
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

__all__ = ["distinct", "either", "fold", "nearest", "quoted", "slips", "with_article"]


_LONGEST_NAME = 100  # characters of a misspelt name that are looked at
_MOST_COMPARED = 300
_SHORTEST_WORD = 4  # letters of a word that tells names apart


def distinct(names: Sequence[str]) -> list[str]:
    """Return names of which no two are the same: the second ``a`` is ``a-2``, if nothing is called so."""
    given, used, last = set(names), set[str](), dict[str, int]()
    found = []
    for name in names:
        new, number = name, last.get(name, 1)
        while new in used or (new != name and new in given):
            number += 1
            new = f"{name}-{number}"
        last[name] = number
        used.add(new)
        found.append(new)
    return found


def fold(text: str) -> str:
    """Return the caseless form in which texts are compared.

    The Unicode Standard, section 3.13, definition D145: canonical caseless matching,
    here with NFC as the final form, so that an accented letter is one character.
    """
    if text.isascii():
        return text.lower()
    return unicodedata.normalize("NFC", unicodedata.normalize("NFD", text).casefold())


def nearest(wanted: str, known: Iterable[str], *, most: int = 3) -> tuple[str, ...]:
    """Return up to ``most`` of the known names that look like the wanted one, best first.

    Out of many names, only those that share most pairs of letters with the wanted one are compared in
    full, so that a slip costs no more time on a large site than on a small one.
    """
    import difflib

    folded = fold(wanted[:_LONGEST_NAME])
    names = {fold(name): name for name in known}
    candidates = list(names)
    if len(candidates) > _MOST_COMPARED:
        pairs = {folded[at : at + 2] for at in range(len(folded) - 1)} or {folded}
        candidates = nlargest(
            _MOST_COMPARED, candidates, key=lambda name: sum(pair in name for pair in pairs)
        )
    found = difflib.get_close_matches(folded, candidates, n=most, cutoff=0.6)
    found = found or _with_words(folded, names, most)
    return tuple(names[name] for name in found)


def _with_words(wanted: str, names: Iterable[str], most: int) -> list[str]:
    """Return the shortest names that have all longer words of the wanted one: few remember a whole slug."""
    words = [word for word in re.split(r"[\W_]+", wanted) if len(word) >= _SHORTEST_WORD]
    found = (name for name in names if all(word in name for word in words))
    return sorted(nsmallest(most, found, key=len), key=len) if words else []


def slips(one: str, other: str) -> int:
    """Return how many letters are too many, missing, wrong, or in the place of their neighbours."""
    rows = [list(range(len(other) + 1))]
    for at, letter in enumerate(one, 1):
        rows.append([at])
        for to, wanted in enumerate(other, 1):
            best = min(rows[at - 1][to] + 1, rows[at][to - 1] + 1, rows[at - 1][to - 1] + (letter != wanted))
            if at > 1 and to > 1 and letter == other[to - 2] and one[at - 2] == wanted:
                best = min(best, rows[at - 2][to - 2] + 1)
            rows[at].append(best)
    return rows[-1][-1]


def either(names: Iterable[str]) -> str:
    """Join names into ``a, b or c``."""
    listed = list(names)
    return " or ".join(part for part in (", ".join(listed[:-1]), *listed[-1:]) if part)


def with_article(name: str) -> str:
    """Return a name with the article that it is read with: an image, a date."""
    return f"{'an' if name[:1].lower() in 'aeiou' else 'a'} {name}"


def quoted(text: str, *, most: int = 60) -> str:
    """Return the text in curly quotes, control characters shown as escapes, cut when very long."""
    shown = text if len(text) <= most else text[: most - 1] + "…"
    printable = "".join(char if char.isprintable() else f"\\u{ord(char):04x}" for char in shown)
    return f"“{printable}”"
