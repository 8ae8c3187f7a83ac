"""Which keys name other entries: by codes and ids that a column of another source, or of its own, has."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, NamedTuple

from elenchus.frozen import replace
from elenchus.language.words import is_keyword
from elenchus.schema.types import CORE_FIELDS
from elenchus.site.names import can_be_named
from elenchus.starting.guessing import Typed
from elenchus.starting.plurals import singular
from elenchus.starting.unsure import Unsure
from elenchus.starting.vocabulary import words
from elenchus.values.slugs import slugify
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.starting.sitedraft import SourceDraft
    from elenchus.starting.values import KeyValues

__all__ = ["with_references"]

_CODE = re.compile(r"[^\W_](?:[\w.-]{0,38}[^\W_])?")
_FEWEST = 3  # different codes that must be met for a column of texts to be one of references
_STEM = re.compile(r"[_\s-]?(?:ids?|refs?|codes?|keys?|slugs?|nr|no)$", re.IGNORECASE)


class _Target(NamedTuple):
    """A key that tells the entries of a source apart, and what it says of them."""

    number: int
    kinds: tuple[str, ...]
    key: str
    names: frozenset[str]
    called: frozenset[str]
    are_numbers: bool


def with_references(sources: Sequence[SourceDraft]) -> list[SourceDraft]:
    """Return sources in which keys that hold names of entries refer to these."""
    targets = [target for number, source in enumerate(sources) for target in _targets(number, source)]
    found = list(sources)
    for number, source in enumerate(sources):
        for key, each in source.values.items():
            told = source.fields.get(key)
            if each.whole or (told is None and key not in source.taxonomies):
                continue
            if told and told.table:  # as a database says
                found[number] = _called(found[number], key, told, sources)
                continue
            if target := _target_of(number, key, each, targets):
                found[number] = _referring(found[number], key, each, target)
                found[target.number] = _named_by(found[target.number], target)
    return found


def _called(source: SourceDraft, key: str, told: Typed, sources: Sequence[SourceDraft]) -> SourceDraft:
    """Return a source whose reference is called by what it leads to, and not by its column."""
    number = next((at for at, other in enumerate(sources) if _table_of(other) == told.table), -1)
    if number < 0:  # it is not content
        return _renamed(source, key, key, Typed("text", told.many, told.number))
    kinds = tuple(sources[number].kinds)
    called = _words_for(kinds, sources[number])
    target = _Target(number, kinds, "id", frozenset(), called, are_numbers=True)
    return _renamed(source, key, _name_for(source, key, target), told._replace(kinds=kinds))


def _table_of(source: SourceDraft) -> str:
    """Return the table of a source in the same database; nothing if it has none."""
    return source.spec.table.table if source.spec.table else ""


def _words_for(kinds: Sequence[str], source: SourceDraft) -> frozenset[str]:
    """Return what the entries of a source are called: their kinds, and their table."""
    table = _table_of(source) or source.spec.name
    return frozenset(
        {*kinds, *(singular(kind.rpartition("-")[2]) for kind in kinds), singular(slugify(table))}
    )


def _targets(number: int, source: SourceDraft) -> Iterator[_Target]:
    """Yield the keys of a source that tell its entries apart."""
    if source.spec.read in ("markdown", "html", "feed") or (len(source.kinds) != 1 and not source.spec.table):
        return
    kinds = tuple(source.kinds)
    called = _words_for(kinds, source)
    for key, each in source.values.items():
        told = source.fields.get(key)
        if not (each.is_everywhere and each.are_distinct and each.total > 1) or each.whole:
            continue
        are_numbers = all(text.isdecimal() for text in each.texts)
        if are_numbers and key == "id":
            yield _Target(number, kinds, key, frozenset(each.texts), called, are_numbers=True)
        elif (
            not are_numbers
            and (told is None or told.type == "text")
            and all(map(_CODE.fullmatch, each.texts))
            and all(slugify(text) == fold(text) for text in each.texts)
        ):
            yield _Target(number, kinds, key, frozenset(map(fold, each.texts)), called, are_numbers=False)


def _target_of(number: int, key: str, values: KeyValues, targets: Sequence[_Target]) -> _Target | None:
    """Return the key of entries that the values of a key name; None if there is none."""
    stem = singular(fold(_STEM.sub("", key)))
    names, people = {fold(text) for text in values.texts}, words("keys.persons")
    found = [
        target
        for target in targets
        if (target.number, target.key) != (number, key)
        and names <= target.names
        and (
            (stem in target.called or (stem in words("keys.writers") and bool(people & target.called)))
            if target.are_numbers
            else len(names) >= _FEWEST
        )
    ]
    return max(found, key=lambda target: (stem in target.kinds, target.key in ("id", "slug")), default=None)


def _referring(source: SourceDraft, key: str, values: KeyValues, target: _Target) -> SourceDraft:
    """Return a source with a key that names entries."""
    told = Typed("entry", values.many, values.number, kinds=target.kinds)
    name = _name_for(source, key, target)
    unsure = [each for each in source.unsure if not each.what.startswith(f"{key} is ")]
    unsure.append(
        Unsure(
            f"{key} names entries of the kind {' or '.join(target.kinds)}", f'{name} = {{ type = "text" }}'
        )
    )
    return _renamed(source, key, name, told)._replace(unsure=unsure)


def _renamed(source: SourceDraft, key: str, name: str, told: Typed) -> SourceDraft:
    """Return a source with another name for a key that refers to entries."""
    spec = source.spec
    if name != key:
        columns = {field: column for field, column in spec.columns.items() if field != key}
        columns[name] = spec.columns.get(key, key)
        spec = replace(spec, columns=columns)
    fields = {each: other for each, other in source.fields.items() if each != key}
    fields[name] = told
    fields_of = {
        kind: [*(each for each in keys if each != key), name] for kind, keys in source.fields_of.items()
    }
    terms = {each: tree for each, tree in source.taxonomies.items() if each != key}
    values = {name if each == key else each: other for each, other in source.values.items()}
    return source._replace(spec=spec, fields=fields, fields_of=fields_of, taxonomies=terms, values=values)


def _name_for(source: SourceDraft, key: str, target: _Target) -> str:
    """Return what a reference is called: ``board`` for ``board_id``, ``author`` for who wrote an entry."""
    stem = slugify(_STEM.sub("", key)).replace(".", "-")
    taken = {*source.values, *source.fields, *source.taxonomies, *source.spec.columns}
    people = words("keys.persons")
    if stem in words("keys.writers") and people & target.called and not taken & {"author", "by"}:
        return "author"
    is_free = (
        stem not in taken
        and stem not in (*CORE_FIELDS, "entry")
        and stem not in target.kinds
        and not is_keyword(stem)
    )
    return stem if stem and can_be_named(stem) and is_free else key


def _named_by(source: SourceDraft, target: _Target) -> SourceDraft:
    """Return a source whose entries are called as others name them."""
    if target.key in ("id", "slug") or source.spec.slug == f"{{{target.key}}}":
        return source
    return source._replace(spec=replace(source.spec, slug=f"{{{target.key}}}"))
