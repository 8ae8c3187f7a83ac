"""A draft of a site: sources, kinds, fields and taxonomies as content suggests them, and what is unsure."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from typing import TYPE_CHECKING, NamedTuple

from elenchus.frozen import replace
from elenchus.language.words import is_keyword
from elenchus.schema.conform import FLAGS
from elenchus.schema.convert import YES
from elenchus.schema.types import CORE_FIELDS
from elenchus.site.names import can_be_named
from elenchus.starting.guessing import (
    dates_of,
    flags_of_keys,
    is_usual,
    renamed_keys,
    separator_of,
    statuses_of,
    terms_of_keys,
    texts_of,
    typed,
)
from elenchus.starting.plurals import singular
from elenchus.values.datepatterns import EPOCH
from elenchus.values.texts import fold, quoted, slugify
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence

    from elenchus.sources import SourceSpec
    from elenchus.starting.guessing import DateHabits, Typed
    from elenchus.starting.looking import Entry, Stock

__all__ = ["SiteDraft", "SourceDraft", "Unsure", "drafted"]

_MOST_KINDS = 12
_NEARLY = 0.95  # of the values of a field must be dates by patterns for these to be declared
_MOSTLY = 0.8  # of the entries must have what could be their title or their date
_YEAR = re.compile(r"(?:19|20)\d{2}")
_KIND_KEYS = ("kind", "type")
_DATES = ("date", "updated", "expires")
_NO_FIELDS = frozenset(CORE_FIELDS) - {"author"}


class Unsure(NamedTuple):
    """Something that could be otherwise: what was taken, and what else to write."""

    what: str
    otherwise: str
    lead: str = "Otherwise write"


class SourceDraft(NamedTuple):
    """A source as it is to be read, the kinds of its entries with how many there are, and what was seen.

    ``fields`` are the keys with what their values are, ``seen`` habits with how often they were met.
    """

    spec: SourceSpec
    kinds: Mapping[str, int]
    fields: Mapping[str, Typed]
    fields_of: Mapping[str, Sequence[str]]
    taxonomies: Mapping[str, bool]
    seen: Sequence[tuple[str, int]]
    unsure: Sequence[Unsure]
    language: str


class SiteDraft(NamedTuple):
    """A site in the making."""

    title: str
    sources: Sequence[SourceDraft]
    language: str

    @property
    def taxonomies(self) -> dict[str, bool]:
        """The taxonomies of all sources, and whether they are trees."""
        found: dict[str, bool] = {}
        for source in self.sources:
            for name, tree in source.taxonomies.items():
                found[name] = found.get(name, False) or tree
        return found

    @property
    def kinds(self) -> dict[str, int]:
        """The kinds of all sources, with the number of their entries."""
        found: Counter[str] = Counter()
        for source in self.sources:
            found.update(source.kinds)
        return dict(found)

    def fields(self, kind: str) -> dict[str, Typed]:
        """Return the fields of a kind; the same field of two sources is what both can hold."""
        found: dict[str, Typed] = {}
        for source in self.sources:
            for name in source.fields_of.get(kind, ()):
                told = source.fields[name]
                before = found.get(name)
                found[name] = (
                    told if before is None or before.type == told.type else told._replace(type="text")
                )
        return found


def drafted(title: str, stocks: Sequence[Stock]) -> SiteDraft:
    """Return the draft of a site for what was found."""
    sources = _kept_apart(_agreed([_source(stock) for stock in stocks]))
    languages = Counter(source.language for source in sources if source.language != "en")
    language = languages.most_common(1)[0][0] if languages else "en"
    return SiteDraft(title, sources, language)


def _agreed(sources: Sequence[SourceDraft]) -> list[SourceDraft]:
    """Return sources that have one name for a taxonomy which some call by one thing and some by several."""
    names: dict[str, str] = {}
    for source in sorted(
        sources, key=lambda source: source.spec.table is None
    ):  # those of tables cannot be changed
        for name in source.taxonomies:
            names.setdefault(singular(name), name)
    found = []
    for source in sources:
        changed = {name: names[singular(name)] for name in source.taxonomies if names[singular(name)] != name}
        columns = {field: column for field, column in source.spec.columns.items() if field not in changed}
        columns |= {new: source.spec.columns.get(old, old) for old, new in changed.items()}
        taxonomies = {changed.get(name, name): tree for name, tree in source.taxonomies.items()}
        spec = replace(source.spec, columns=columns)
        found.append(source._replace(spec=spec, taxonomies=taxonomies))
    return found


def _kept_apart(sources: Sequence[SourceDraft]) -> list[SourceDraft]:
    """Return sources none of whose kinds is called like a taxonomy or a field: each name means one thing."""
    taken = {name for source in sources for name in (*source.taxonomies, *source.fields)}
    found = []
    for source in sources:
        changed = {kind: f"{kind}-entry" for kind in source.kinds if kind in taken}
        spec = source.spec
        if spec.kind in changed:
            spec = replace(spec, kind=changed[spec.kind])
        elif changed:
            words = {**{kind: kind for kind in changed}, **spec.kinds}
            kinds = {text: changed.get(kind, kind) for text, kind in words.items()}
            spec = replace(spec, kinds={text: kind for text, kind in kinds.items() if text != kind})
        counts = {changed.get(kind, kind): count for kind, count in source.kinds.items()}
        fields_of = {changed.get(kind, kind): keys for kind, keys in source.fields_of.items()}
        found.append(source._replace(spec=spec, kinds=counts, fields_of=fields_of))
    return found


def _source(stock: Stock) -> SourceDraft:
    """Return what one source seems to be."""
    unsure: list[Unsure] = []
    keys = list(dict.fromkeys(key for entry in stock.entries for key in entry.values))
    spec, kind_of = _kinds(stock.spec, stock.entries, keys, unsure)
    columns = _columns(stock.entries, keys, unsure)
    entries = [_renamed(entry, columns) for entry in stock.entries]
    given = _GivenEntries(entries, list(dict.fromkeys(key for entry in entries for key in entry.values)))
    apart = {*_NO_FIELDS, *FLAGS, "id", "kind", spec.kind.strip("{}")}
    others = [key for key in given.keys if key not in apart]
    flags = flags_of_keys(entries, others)
    words, unknown = statuses_of(given.texts("status"))
    terms = terms_of_keys(entries, [key for key in others if key not in flags])
    terms |= {each.taxonomy: True for each in (spec.table.terms if spec.table else ()) if each.parent}
    rest = [key for key in others if key not in flags and key not in terms and can_be_named(key)]
    dates = _more_dates(dates_of([text for key in _DATES for text in given.texts(key)]), given, rest)
    fields = {key: typed(entries, key, dates) for key in rest}
    for key, table in stock.refers.items():
        if key in fields:
            fields[key] = fields[key]._replace(type="entry", kind=_word(singular(table)))
    meanings = {key: meaning for key, (meaning, _) in flags.items()}
    separator = separator_of([text for key in terms for text in given.texts(key)])
    habits = replace(
        spec.habits, statuses=words, dates=tuple(dates.patterns), flags=meanings, separator=separator
    )
    bodies = given.texts("body")
    is_html = sum(text.lstrip().startswith("<") for text in bodies) * 2 > len(bodies)
    is_html = is_html and spec.read not in ("html", "feed")  # which are made ready already
    spec = replace(spec, columns=columns, habits=habits, bodies="html" if is_html else "")
    if spec.encoding:
        what = "some files are not UTF-8 and are taken for Windows-1252"
        unsure.append(Unsure(what, 'encoding = "…" in the source'))
    unsure += _doubts(dates, unknown, terms, fields)
    for key, what in stock.private.items():
        otherwise = "take it out of omit in the source"
        unsure.append(Unsure(f"{key} looks like {what}, so it is not read", otherwise, "To read it,"))
    of_kind: dict[str, list[str]] = defaultdict(list)
    counts: Counter[str] = Counter()
    for entry in entries:
        kind = kind_of(entry)
        counts[kind] += 1
        of_kind[kind] += [key for key in entry.values if key in fields and key not in of_kind[kind]]
    seen = list(_seen(given, columns, dates, flags, words))
    of_files = (spec, dict(counts), fields, of_kind, terms)
    return SourceDraft(*of_files, seen, unsure, dates.language)


class _GivenEntries(NamedTuple):
    """The entries of a source under the names of fields, and all keys that they have."""

    entries: Sequence[Entry]
    keys: Sequence[str]

    def texts(self, key: str) -> list[str]:
        """Return the texts that entries have for a key."""
        return texts_of(self.entries, key)


def _columns(entries: Sequence[Entry], keys: Sequence[str], unsure: list[Unsure]) -> dict[str, str]:
    """Return the fields that content has under other names, and names for keys that no question can name."""
    found = renamed_keys(keys, entries)
    found |= _likely(entries, [key for key in keys if key not in found.values()], found, unsure)
    for key in keys:
        name = slugify(key).replace(".", "-")
        is_free = name not in (*keys, *found) and key not in found.values()
        if is_free and can_be_named(name) and not (can_be_named(key) and key.islower()):
            found[name] = key
    return found


def _seen(
    given: _GivenEntries,
    columns: Mapping[str, str],
    dates: DateHabits,
    flags: Mapping[str, tuple[str, int]],
    words: Mapping[str, str],
) -> Iterator[tuple[str, int]]:
    """Yield the habits of a source, each with how often it was met."""
    for field, column in columns.items():
        if slugify(column) != field:
            yield f"{field} is called {column}", len(given.texts(field))
    for pattern, count in dates.patterns.items():
        yield f"dates are written as {pattern}", count
    for key in FLAGS:
        yes = sum(fold(text) in YES for text in given.texts(key))
        count = len(given.texts(key)) - yes if key == "published" else yes
        if count:
            yield f"{key} keeps entries back", count
    for key, (meaning, count) in flags.items():
        yield f"{key} keeps entries back, as {'draft' if meaning == 'published' else meaning}", count
    for word, ours in words.items():
        yield f"the status {word} means {ours}", sum(text == word for text in given.texts("status"))
    for name in {"title", "date"} - columns.keys():
        for source, count in Counter(entry.guessed.get(name, "") for entry in given.entries).items():
            if source:
                yield f"the {name} is that of the {source}", count


def _doubts(
    dates: DateHabits, unknown: Sequence[str], terms: Mapping[str, bool], fields: Mapping[str, Typed]
) -> Iterator[Unsure]:
    """Yield what could be otherwise."""
    if dates.unsure:
        what = f"{quoted(dates.unsure)} may begin with the day or the month, so it holds its entry back"
        yield Unsure(what, 'dates = ["d/M/y"] or ["M/d/y"] in the source')
    if unknown:
        what = f"nobody knows what the status {quoted(unknown[0])} means, so it holds its entries back"
        yield Unsure(what, f'statuses = {{ "{unknown[0]}" = "published" }} in the source')
    for key, tree in terms.items():
        if not is_usual(key):
            what = f"{key} is taken for a {'tree of terms' if tree else 'taxonomy'}"
            yield Unsure(what, f'{key} = {{ type = "text", many = true }} as a field instead')
    for key, told in fields.items():
        if told.fitting < told.total:
            fits = f"which {told.fitting} of {told.total} values fit, and {quoted(told.odd)} does not"
            yield Unsure(f"{key} is taken for a {told.type}, {fits}", f'{key} = {{ type = "text" }}')


def _likely(
    entries: Sequence[Entry], keys: Sequence[str], columns: Mapping[str, str], unsure: list[Unsure]
) -> dict[str, str]:
    """Return keys for the title and the date where nothing is called so, by their values."""
    found: dict[str, str] = {}
    others = [key for key in keys if key not in CORE_FIELDS and key != "id"]
    if entries and "date" not in (*keys, *columns):
        for key in others:
            texts = texts_of(entries, key)
            told = typed(entries, key, dates_of(texts))
            if told.type in ("date", "datetime") and told.total >= _MOSTLY * len(entries):
                found["date"] = key
                break
    if entries and "title" not in columns and all("title" in entry.guessed for entry in entries):
        for key in others:
            texts = texts_of(entries, key)
            is_text = typed(entries, key, dates_of(texts)).type == "text"
            if is_text and key not in found.values() and len(set(texts)) >= _MOSTLY * len(entries):
                found["title"] = key
                break
    for field, key in found.items():
        if fold(key) == field:
            continue
        unsure.append(
            Unsure(f"{key} is taken for the {field}", f"another key in columns = {{ {field} = … }}")
        )
    return found


def _renamed(entry: Entry, columns: Mapping[str, str]) -> Entry:
    """Return an entry with the names of fields for its keys."""
    fields = {column: field for field, column in columns.items()}
    values = {
        fields.get(key, key): value
        for key, value in entry.values.items()
        if key not in columns or key in fields
    }
    return entry._replace(values=values) if fields else entry


def _more_dates(dates: DateHabits, given: _GivenEntries, keys: Sequence[str]) -> DateHabits:
    """Return how dates are written, with those of other fields nearly all of whose values are dates."""
    for key in keys:
        texts = given.texts(key)
        found = dates_of(texts)
        is_date = sum(found.patterns.values()) >= _NEARLY * len(texts)
        if found.patterns and EPOCH not in found.patterns and is_date:
            language = found.language if dates.language == "en" else dates.language
            dates = dates._replace(patterns={**found.patterns, **dates.patterns}, language=language)
    return dates


def _kinds(
    spec: SourceSpec, entries: Sequence[Entry], keys: Sequence[str], unsure: list[Unsure]
) -> tuple[SourceSpec, Callable[[Entry], str]]:
    """Return a source that says of what kinds its entries are, and what tells the kind of one."""
    otherwise = f'kind = "{_word(spec.name)}" for one kind'
    for key in _KIND_KEYS:
        texts = texts_of(entries, key)
        if key in keys and len(texts) == len(entries) and len(set(texts)) <= _MOST_KINDS:
            unsure.append(Unsure(f"{key} is taken for the kind of an entry", otherwise))
            return _by_key(spec, key, {text: _word(text) for text in dict.fromkeys(texts)})
    in_folders = [entry.path.partition("/")[0] for entry in entries if "/" in entry.path]
    folders = Counter(in_folders if spec.read in ("markdown", "html") else ())
    is_dated = any(_YEAR.fullmatch(name) for name in folders)
    if folders and not is_dated and len(folders) <= _MOST_KINDS and len(in_folders) > len(folders):
        words = {name: _word(name) for name in folders}
        at_root = "page" if len(in_folders) < len(entries) else ""
        unsure.append(Unsure("each folder is taken for a kind", otherwise))
        changed = replace(_with_kinds(spec, "{folder}", words), kind_at_root=at_root)
        return changed, lambda entry: words[entry.path.partition("/")[0]] if "/" in entry.path else at_root
    word = _word(singular(spec.table.table if spec.table else spec.name))
    return replace(spec, kind=word), lambda _: word


def _by_key(
    spec: SourceSpec, key: str, words: Mapping[str, str]
) -> tuple[SourceSpec, Callable[[Entry], str]]:
    """Return a source whose entries say of what kinds they are, and what tells the kind of one."""
    return _with_kinds(spec, f"{{{key}}}", words), lambda entry: words[as_text(entry.values[key])]


def _with_kinds(spec: SourceSpec, kind: str, words: Mapping[str, str]) -> SourceSpec:
    """Return a source whose kinds have other words there."""
    return replace(spec, kind=kind, kinds={text: word for text, word in words.items() if text != word})


def _word(text: str) -> str:
    """Return a word that a kind can be called."""
    found = slugify(text).replace(".", "-").strip("-")
    found = found if found and can_be_named(found) else "article"
    return f"{found}-entry" if is_keyword(found) or found in CORE_FIELDS or found == "entry" else found
