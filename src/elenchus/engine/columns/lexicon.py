"""The distinct texts of a column: their codes, their order, and what can be searched in them at once."""

from __future__ import annotations

import re
import unicodedata
from bisect import bisect_left
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.values.collation import sort_key

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

__all__ = ["Lexicon", "initial"]

_DIGITS = re.compile(r"\d+")
_WIDEST = 40  # digits of a number that natural order tells apart


@dataclass(frozen=True)
class Lexicon:
    """The distinct folded texts of a column, by code. All else is worked out when it is first asked for."""

    texts: Sequence[str]

    @cached_property
    def codes(self) -> dict[str, int]:
        """The code of each text."""
        return {text: code for code, text in enumerate(self.texts)}

    @cached_property
    def searchable(self) -> NDArray[Any]:
        """The texts as an array that NumPy's string functions read."""
        return np.array(list(self.texts), dtype=np.dtypes.StringDType())

    @cached_property
    def sort_keys(self) -> list[str]:
        """The sort key of each text."""
        return [sort_key(text) for text in self.texts]

    @cached_property
    def order(self) -> list[str]:
        """The sort keys in their order."""
        return sorted(self.sort_keys)

    @cached_property
    def ranks(self) -> NDArray[np.int64]:
        """The place of each text in the order, by code."""
        return _ranked(self.sort_keys)

    @cached_property
    def natural_ranks(self) -> NDArray[np.int64]:
        """The same with numbers inside the texts read as numbers: 2 before 10."""
        padded = (
            _DIGITS.sub(lambda match: match[0].lstrip("0").rjust(_WIDEST, "0"), text) for text in self.texts
        )
        return _ranked([sort_key(text) + key for text, key in zip(padded, self.sort_keys, strict=True)])

    def rank(self, folded: str) -> tuple[int, int]:
        """Return the ranks [low, high) of a text; empty, at the place it would have, where no row has it."""
        key = sort_key(folded)
        low = bisect_left(self.order, key)
        return low, low + (low < len(self.order) and self.order[low] == key)


def _ranked(keys: Sequence[str]) -> NDArray[np.int64]:
    """Return the place of each key among all; one spare at the end serves rows without a text."""
    place = {key: position for position, key in enumerate(sorted(keys))}
    return np.array([*(place[key] for key in keys), 0], dtype=np.int64)


def initial(text: str) -> str:
    """Return the letter or digit under which a text stands in an index: Étang under E; # for others."""
    start = next((char for char in unicodedata.normalize("NFD", text) if char.isalnum()), "#")
    return start.upper()[0]
