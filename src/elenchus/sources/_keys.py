"""The names under which content has its values: those that count in any case of letters, those left out."""

from __future__ import annotations

from fnmatch import fnmatchcase
from functools import cache
from typing import TYPE_CHECKING, Any, TypeVar

from elenchus.schema.conform import FLAGS
from elenchus.schema.types import CORE_FIELDS

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from elenchus.sources._spec import SourceSpec

__all__ = ["as_written", "decides", "is_omitted", "named", "without_omitted"]

_DECISIVE = frozenset({"status", "date", "expires", *FLAGS})
_CORE = (*CORE_FIELDS, *FLAGS)
_Value = TypeVar("_Value")


def named(values: Mapping[str, _Value], spec: SourceSpec) -> tuple[dict[str, _Value], list[tuple[str, str]]]:
    """Return what content has under the names of fields, without what its source omits.

    Fields have the names that the source gives them; else ``Draft`` and ``STATUS`` mean ``draft`` and
    ``status``. Also returns the pairs of names that differ in their letters only.
    """
    omit = spec.omit
    left = {name: value for name, value in values.items() if not is_omitted(name, omit)} if omit else values
    given = {field: left[column] for field, column in spec.columns.items() if column in left}
    found: dict[str, _Value] = {}
    taken = frozenset(spec.columns.values())
    folded, exact = _folded(spec.names, tuple(spec.habits.flags))
    pairs: list[tuple[str, str]] = []
    first_as: dict[str, str] = {}
    for name, value in left.items():
        is_exact = name in exact or name == spec.edits
        field = name if is_exact else folded.get(name.casefold(), name)
        if name in taken or field in given:
            continue
        if field in found:
            pairs.append((first_as[field], name))
            if not is_exact:  # the one that is written as it is called is the better guess
                continue
        first_as[field] = name
        found[field] = value
    return found | given, pairs


def decides(name: str, spec: SourceSpec) -> bool:
    """Say whether a key decides who may see an entry: two of them in different letters cannot both hold."""
    return name.casefold() in _DECISIVE or any(_same(name, flag) for flag in spec.habits.flags)


def _same(first: str, second: str) -> bool:
    return first.casefold() == second.casefold()


@cache
def _folded(names: tuple[str, ...], flags: tuple[str, ...]) -> tuple[dict[str, str], frozenset[str]]:
    """Return the names that count in any case of letters, by their folded forms, and as they are."""
    known = (*_CORE, *names, *flags)
    return {name.casefold(): name for name in known}, frozenset(known)


def is_omitted(name: str, omit: tuple[str, ...]) -> bool:
    """Say whether a key is one of those that a source omits; ``*`` stands for any letters."""
    names, patterns = _omitted(omit)
    folded = name.casefold()
    return folded in names or any(fnmatchcase(folded, pattern) for pattern in patterns)


@cache
def _omitted(names: tuple[str, ...]) -> tuple[frozenset[str], tuple[str, ...]]:
    folded = [name.casefold() for name in names]
    return frozenset(folded), tuple(name for name in folded if "*" in name)


def without_omitted(value: Any, spec: SourceSpec, name: str) -> Any:
    """Return a value without the parts that its source omits, which it names as ``author.email``."""
    inside = [path for path in spec.omit if path.casefold().startswith(f"{name.casefold()}.")]
    for path in inside:
        value = _without(value, path.split(".")[1:])
    return value


def _without(value: Any, steps: list[str]) -> Any:
    if isinstance(value, list):
        return [_without(each, steps) for each in value]
    if not isinstance(value, dict):
        return value
    first, *rest = steps
    kept = {key: inner for key, inner in value.items() if rest or not _same(str(key), first)}
    return {key: _without(inner, rest) if _same(str(key), first) else inner for key, inner in kept.items()}


def as_written(wanted: Mapping[str, _Value], there: Iterable[str]) -> dict[str, _Value]:
    """Return what is to be written, by the names that content has already: ``Status`` where it has that."""
    known = list(there)
    by_fold = {name.casefold(): name for name in reversed(known)}
    return {_written(name, known, by_fold): value for name, value in wanted.items()}


def _written(name: str, known: list[str], by_fold: Mapping[str, str]) -> str:
    return name if name in known else by_fold.get(name.casefold(), name)
