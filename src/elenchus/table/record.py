"""What a source hands over: entries as they were written, each value with its line."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    from collections.abc import Mapping

    from elenchus.errors import Place

__all__ = ["Raw", "Record"]


class Raw(NamedTuple):
    """A value as a source found it (a scalar, None, or a list of scalars) and its line, 0 if unknown."""

    value: Any
    line: int = 0


@dataclass(frozen=True, slots=True)
class Record:
    """One entry as written: where it stands, its kind, the slug its place suggests, its values."""

    place: Place
    kind: str
    slug: str
    values: Mapping[str, Raw]
