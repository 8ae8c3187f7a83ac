"""Of what kinds entries are: by a key, by their folders, or all of one kind."""

from __future__ import annotations

import re
from collections import Counter
from typing import TYPE_CHECKING

from elenchus.frozen import replace
from elenchus.language.words import is_keyword
from elenchus.schema.types import CORE_FIELDS
from elenchus.site.names import can_be_named
from elenchus.starting.plurals import singular
from elenchus.starting.unsure import Unsure
from elenchus.starting.vocabulary import words
from elenchus.values.locales import is_language
from elenchus.values.slugs import slugify
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

    from elenchus.sources import SourceSpec
    from elenchus.starting.looking import Entry
    from elenchus.starting.values import KeyValues

__all__ = ["kinds_of", "word_for_kind"]

_MOST_KINDS = 12
_YEAR = re.compile(r"(?:19|20)\d{2}")
_KIND_KEYS = ("kind", "type")


def kinds_of(
    spec: SourceSpec, entries: Sequence[Entry], given: Mapping[str, KeyValues], unsure: list[Unsure]
) -> tuple[SourceSpec, Callable[[Entry], str]]:
    """Return a source that says of what kinds its entries are, and what tells the kind of one."""
    otherwise = f'kind = "{word_for_kind(spec.name)}" for one kind'
    for key in _KIND_KEYS:
        each = given.get(key)
        if not (each and each.is_everywhere and not each.many and _are_kinds(each)):
            continue
        if spec.read not in ("markdown", "html") and not _are_usual_kinds(each):
            few = ", ".join(list(each.texts)[:3])
            what = f"all entries have the same kind; {key} ({few}) could divide them"
            unsure.append(Unsure(what, f'kind = "{{{key}}}" in the source, and declare these kinds'))
        else:
            unsure.append(Unsure(f"{key} is used as the kind", otherwise))
            return _by_key(spec, key, {text: word_for_kind(text) for text in each.texts})
    in_folders = [entry.path.partition("/")[0] for entry in entries if "/" in entry.path]
    folders = Counter(in_folders if spec.read in ("markdown", "html") else ())
    is_dated = any(_YEAR.fullmatch(name) for name in folders)
    are_languages = len(folders) > 1 and all(len(name) == 2 and is_language(name) for name in folders)  # noqa: PLR2004
    if (
        folders
        and not is_dated
        and not are_languages
        and not (spec.read == "html" and len(in_folders) < len(entries))  # folders of one whole
        and len(folders) <= _MOST_KINDS
        and len(in_folders) > len(folders)
    ):
        called = {name: word_for_kind(name) for name in folders}
        at_root = "page" if len(in_folders) < len(entries) else ""
        unsure.append(Unsure("each folder is used as a kind", otherwise))
        changed = replace(_with_kinds(spec, "{folder}", called), kind_at_root=at_root)
        return changed, lambda entry: called[entry.path.partition("/")[0]] if "/" in entry.path else at_root
    word = word_for_kind(singular((spec.table.table if spec.table else "") or spec.name))
    return replace(spec, kind=word), lambda _: word


def _are_kinds(values: KeyValues) -> bool:
    """Say whether values are a few words that can be kinds, none of which is called like another."""
    words = {word_for_kind(text) for text in values.texts}
    return len(values.texts) <= min(_MOST_KINDS, values.total // 2 + 1) and len(words) == len(values.texts)


def _are_usual_kinds(values: KeyValues) -> bool:
    """Say whether values are words for kinds of what websites show."""
    found = {singular(slugify(text)) for text in values.texts}
    return len(found & words("texts.kinds")) * 2 > len(found)


def _by_key(
    spec: SourceSpec, key: str, words: Mapping[str, str]
) -> tuple[SourceSpec, Callable[[Entry], str]]:
    """Return a source whose entries say of what kinds they are, and what tells the kind of one."""
    return _with_kinds(spec, f"{{{key}}}", words), lambda entry: words[as_text(entry.values[key])]


def _with_kinds(spec: SourceSpec, kind: str, words: Mapping[str, str]) -> SourceSpec:
    """Return a source whose kinds have other words there."""
    return replace(spec, kind=kind, kinds={text: word for text, word in words.items() if text != word})


def word_for_kind(text: str) -> str:
    """Return a word that a kind can be called."""
    found = slugify(text).replace(".", "-").strip("-")
    found = found if found and can_be_named(found) else "article"
    return f"{found}-entry" if is_keyword(found) or found in CORE_FIELDS or found == "entry" else found
