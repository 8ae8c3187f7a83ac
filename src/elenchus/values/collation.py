"""Sort keys of texts by the Unicode Collation Algorithm (UTS #10, default table, non-ignorable).

A key is a string whose code points are collation weights, level after level, so that keys compare
as plain strings do. Texts in Latin scripts are weighed from a small table that ships with the
package; any other character makes the whole default table be read, once.
"""

from __future__ import annotations

import json
import string
import unicodedata
from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

__all__ = ["base_letter", "first_key", "first_keys", "sort_key"]

_LEVELS = 3
_CHUNK = 256  # the full collator copies what remains of a text at each character

_Weights = dict[int, str]


def sort_key(folded: str) -> str:
    """Return the sort key of a folded text: primary, secondary and tertiary weights, then the text.

    The text itself comes last so that two texts which the algorithm holds for equal still have one
    order everywhere.
    """
    text = unicodedata.normalize("NFD", folded)
    levels = _latin_levels(text) if not text.translate(_latin_characters()) else _full_levels(text)
    return "\0".join((*levels, folded))


def first_key(folded: str) -> str | None:
    """Return a key by which texts of Latin characters sort as by the first level of their sort keys.

    It takes a tenth of the time. Texts whose first keys are equal are told apart by :func:`sort_key`. None
    for a text with other characters.
    """
    text = unicodedata.normalize("NFD", folded)
    return None if text.translate(_latin_characters()) else text.translate(_first_weights())


def first_keys(folded: Sequence[str]) -> list[str | None]:
    """Return the first key of each text; those in ASCII are weighed all at once."""
    block = "".join(folded)
    if not (folded and block.isascii() and block.isprintable()):
        return list(map(first_key, folded))
    weighed = "\n".join(folded).encode().translate(_ascii_weights()).decode("latin-1")
    return list(weighed.split("\n"))


@cache
def base_letter(letter: str) -> str:
    """Return the letter or digit under which a letter with its accents, in NFD, stands in an index.

    That is the one of ASCII with its first primary weight, else the plainest that has this weight: the
    default table gives Ø the weight of O, but Cyrillic Й one of its own.
    """
    weight = _first_weight(letter)
    if weight in _plain_letters():
        return _plain_letters()[weight]
    plain = letter[0] if _first_weight(letter[0]) == weight else unicodedata.normalize("NFC", letter)
    return plain.upper()[0]


def _first_weight(text: str) -> str:
    folded = text.casefold()
    levels = _latin_levels(folded) if not folded.translate(_latin_characters()) else _full_levels(folded)
    return levels[0][:1]


@cache
def _plain_letters() -> dict[str, str]:
    """Return the letters and digits of ASCII by their first primary weights."""
    return {_first_weight(char): char for char in string.digits + string.ascii_uppercase}


@cache
def _first_weights() -> dict[int, str]:
    """Return a translation table from code point to the places of its first weights among all of them."""
    first = _latin_weights()[0]
    letters = sorted({*"".join(first.values())})
    place = {letter: chr(number + _LOWEST) for number, letter in enumerate(letters)}
    return {char: "".join(map(place.__getitem__, weights)) for char, weights in first.items()}


@cache
def _ascii_weights() -> bytes:
    """Return the same for :meth:`bytes.translate`: each printable character of ASCII has one first weight."""
    table = bytearray(range(256))
    for char, weights in _first_weights().items():
        if char < _ASCII:
            table[char] = ord(weights)
    return bytes(table)


_LOWEST = 32  # place of the lowest weight: those of ASCII stay below 256, and none is a line end
_ASCII = 128


def _latin_levels(text: str) -> list[str]:
    """Return the weights of each level for a text of Latin characters in NFD."""
    return [text.translate(weights) for weights in _latin_weights()]


@cache
def _latin_weights() -> tuple[_Weights, ...]:
    """Return one translation table for each level, from code point to its weights."""
    table = json.loads(files(__package__).joinpath("latin_weights.json").read_text(encoding="utf-8"))
    return tuple({ord(char): _weights_at(table[char], level) for char in table} for level in range(_LEVELS))


@cache
def _latin_characters() -> dict[int, None]:
    """Return a translation table that deletes what the Latin table knows."""
    return dict.fromkeys(_latin_weights()[0])


def _weights_at(elements: Iterable[Sequence[int]], level: int) -> str:
    """Return the weights of one level, without the zeros, as code points."""
    return "".join(chr(element[level]) for element in elements if element[level])


def _full_levels(text: str) -> list[str]:
    """Return the weights of each level for any text in NFD, from the whole default table."""
    elements: list[Any] = []
    for start in range(0, len(text), _CHUNK):
        elements += _collator().collation_elements(text[start : start + _CHUNK])
    return [_weights_at(elements, level) for level in range(_LEVELS)]


@cache
def _collator() -> Any:
    """Return the collator of the full table; reading it takes a third of a second."""
    import pyuca

    return pyuca.Collator()
