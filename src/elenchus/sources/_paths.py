"""Where the units of a source stand below it."""

from __future__ import annotations

from functools import cache
from typing import TYPE_CHECKING

from elenchus.values.filepaths import archive_of, fixed_part, is_pattern, normal

if TYPE_CHECKING:
    from elenchus.sources._spec import SourceSpec

__all__ = ["below", "start_of"]


def start_of(base: str) -> str:
    """Return what stands before the paths of what is below a folder."""
    return "" if base == "." else f"{base}/"


@cache
def _bases(paths: tuple[str, ...]) -> tuple[str, ...]:
    """Return what stands before the paths of units, for each path of a source."""
    found = []
    for path in map(normal, paths):
        archive, inside = archive_of(path)
        found.append(
            start_of(fixed_part(path) if is_pattern(path) else archive if archive and inside else path)
        )
    return tuple(found)


def below(spec: SourceSpec, unit: str) -> str:
    """Return the path of a unit below that of its source; of a file that is named, its name."""
    for base in _bases(spec.paths):
        if not base or unit.startswith(base):
            return unit[len(base) :]
    return unit.rpartition("/")[2]
