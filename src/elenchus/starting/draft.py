"""A draft of a site: sources, kinds, fields and taxonomies as content suggests them, and what is unsure."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from typing import TYPE_CHECKING, Any

from elenchus.frozen import replace
from elenchus.schema.conform import FLAGS
from elenchus.schema.convert import NO, YES
from elenchus.schema.types import CORE_FIELDS
from elenchus.site.names import can_be_named
from elenchus.starting.agreeing import kinds_apart, of_one_meaning, one_name_for_each
from elenchus.starting.apart import are_keys, parts_of_titles, slug_pattern
from elenchus.starting.dates import DateHabits, dates_of
from elenchus.starting.guessing import (
    Typed,
    are_people,
    can_be,
    flags_of_keys,
    is_choice,
    is_event,
    is_meant,
    is_term_name,
    is_usual,
    renamed_keys,
    separator_of,
    statuses_of,
    terms_of_keys,
    typed,
)
from elenchus.starting.kinds import kinds_of
from elenchus.starting.references import with_references
from elenchus.starting.schemas import UPPER_KEYS
from elenchus.starting.sitedraft import SiteDraft, SourceDraft
from elenchus.starting.unsure import Unsure
from elenchus.starting.values import flattened, values_of
from elenchus.values.datepatterns import EPOCH
from elenchus.values.slugs import slugify
from elenchus.values.texts import fold, quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.sources import SourceSpec, TermsSpec
    from elenchus.starting.looking import Entry, Stock
    from elenchus.starting.values import KeyValues

__all__ = ["drafted"]

_MOSTLY = 0.8  # of the entries must have what could be their title or their date
_YEAR = re.compile(r"(?:19|20)\d{2}")
_DATES = ("date", "updated", "expires")
_NO_FIELDS = frozenset(CORE_FIELDS) - {"author"}
_LONGEST_TITLE = 120
_NAME_LINK = re.compile(r"\[\[[^\[\]\n]{1,200}\]\]")
_NAMELESS = frozenset(["name", "value", "title", "label", "text", "rendered"])  # last steps that say nothing
# Other names for what somebody calls like a field of every entry, and means otherwise.
_OTHERWISE = {
    "status": "stage", "parent": "parent-name", "date": "when", "updated": "updated-on", "expires": "expiry",
    "image": "picture", "pinned": "pin", "slug": "short-name", "id": "number", "address": "location",
    "source": "origin", "kind": "type", "summary": "outline", "body": "content", "image_alt": "image-text",
    "author": "by", "title": "heading",
}  # fmt: skip


def drafted(title: str, stocks: Sequence[Stock]) -> SiteDraft:
    """Return the draft of a site for what was found."""
    sources = with_references(one_name_for_each([_source(stock) for stock in stocks]))
    sources = kinds_apart(of_one_meaning(sources))
    languages = Counter(source.language for source in sources if source.language != "en")
    language = languages.most_common(1)[0][0] if languages else "en"
    return SiteDraft(title, sources, language)


def _source(stock: Stock) -> SourceDraft:
    """Return what one source seems to be."""
    return _Guess(stock).draft()


class _Guess:
    """What one source seems to be, while it is looked at: each step knows what the ones before it found."""

    def __init__(self, stock: Stock) -> None:
        self.stock = stock
        is_nested = stock.spec.read in ("json", "jsonl")
        self.raw = flattened(stock.entries) if is_nested else list(stock.entries)
        self.unsure: list[Unsure] = []
        self.columns: dict[str, str] = dict(stock.spec.columns)
        own = stock.spec.table.table if stock.spec.table else None
        for key, table in stock.refers.items():
            if table == own and key.lower() in UPPER_KEYS:
                self.columns.setdefault("parent", key)
        self.is_title_made = bool(self.raw) and all("title" in entry.guessed for entry in self.raw)
        self.given = values_of(self.raw)

    def draft(self) -> SourceDraft:
        """Return what was found."""
        spec, kind_of = kinds_of(self.stock.spec, self.raw, self.given, self.unsure)
        self.name_columns(spec)
        entries = [_renamed(entry, self.columns) for entry in self.raw]
        values = self.values_by_field()
        apart = {*_NO_FIELDS, *FLAGS, "id", "kind", spec.kind.strip("{}")}
        rest = {key: each for key, each in values.items() if key not in apart and can_be_named(key)}
        flags = flags_of_keys(rest.values())
        rest = {key: each for key, each in rest.items() if key not in flags}
        words_of_status = statuses_of(values["status"].texts) if "status" in values else ({}, [])
        dates = self.dates(values, rest)
        types, terms = self.types_and_terms(values, rest, dates)
        terms |= {each.taxonomy: True for each in self.joined if each.parent}
        fields = {key: told for key, told in types.items() if key not in terms}
        spec = self.told_apart(spec, entries, values, fields)
        parted = (rest[key] for key in terms if key in rest and not rest[key].many)
        habits = replace(
            spec.habits,
            statuses=words_of_status[0],
            dates=tuple(dates.patterns),
            flags={key: meaning for key, (meaning, _) in flags.items()},
            separator=separator_of(text for each in parted for text in each.texts).strip(),
            blanks=self.blanks(rest, types),
            units={key: told.form.unit for key, told in fields.items() if told.form.unit},
            scales={key: told.form.scale for key, told in fields.items() if told.form.scale},
            numbers=_languages(fields, values),
        )
        spec = replace(spec, columns=self.columns, habits=habits, **self.written_in(values))
        spec = replace(spec, missing_status=self.missing_status(values))
        self.tell(dates, words_of_status[1], values, terms, fields)
        of_kind: dict[str, list[str]] = defaultdict(list)
        counts: Counter[str] = Counter()
        for entry in entries:
            kind = kind_of(entry)
            counts[kind] += 1
            of_kind[kind] += [key for key in entry.values if key in fields and key not in of_kind[kind]]
        return SourceDraft(
            spec=spec,
            kinds=dict(counts),
            fields=fields,
            fields_of=of_kind,
            taxonomies=terms,
            seen=list(self.seen(values, dates, flags, words_of_status[0])),
            unsure=self.unsure,
            language=dates.language,
            values=values,
            size=self.stock.size,
            sample=self.stock.entries if self.stock.size else (),
        )

    @property
    def joined(self) -> Sequence[TermsSpec]:
        """The taxonomies that a database has in tables of their own."""
        return self.stock.spec.table.terms if self.stock.spec.table else ()

    def values_by_field(self) -> dict[str, KeyValues]:
        """Return the values of keys by the names of fields."""
        fields = {column: field for field, column in self.columns.items()}
        found = {}
        for key, each in self.given.items():
            name = fields.get(key, key)
            if name != key or key not in self.columns:  # else another key has its name
                found[name] = each._replace(key=name)
        return found

    def types_and_terms(
        self, values: Mapping[str, KeyValues], rest: Mapping[str, KeyValues], dates: DateHabits
    ) -> tuple[dict[str, Typed], dict[str, bool]]:
        """Return what the values of keys are, and which keys hold terms, with whether these are a tree."""
        types = {key: typed(each, dates) for key, each in rest.items()}
        types |= {
            key: Typed("entry", rest[key].many, rest[key].number, table=table)
            for key, table in self.stock.refers.items()
            if key in types
        }
        terms = {
            key: tree
            for key, tree in terms_of_keys(rest.values(), types).items()
            if is_usual(key) or values[key].many or not are_keys(values[key])
        }
        for key, each in rest.items():
            if key in terms and not is_usual(key) and not _is_better_as_terms(each) and is_choice(each):
                del terms[key]
                types[key] = Typed("choice", number=each.number, choices=tuple(each.texts))
        return types, terms

    # names of keys

    def name_columns(self, spec: SourceSpec) -> None:
        """Find the fields that have other names, and names for keys that no question can name."""
        given = {key: each for key, each in self.given.items() if key not in self.columns.values()}
        self.columns |= {
            field: key
            for field, key in renamed_keys(given, is_title_made=self.is_title_made).items()
            if field not in self.columns
        }
        for key, each in given.items():
            field = fold(key)
            if field not in CORE_FIELDS or key in self.columns.values():
                continue
            is_right = spec.kind == f"{{{key}}}" if field == "kind" else can_be(field, each)
            is_right = is_right or is_meant(field, each)
            if field == "slug" and spec.read in ("markdown", "html"):
                continue  # the first entry keeps it, and others are told
            if not is_right or (field == "parent" and not self.are_above(each)):
                self.move(field, key)
        self.find_date(given)
        self.find_title(given)
        taken = {*self.columns, *self.given}
        for key in given:
            if key in self.columns.values():
                continue
            first, *steps = [step for step in key.split(".") if step] or [key]
            while steps and fold(steps[-1]) in _NAMELESS:
                steps.pop()
            name = slugify("-".join([first, *steps]) if "." in key else key).replace(".", "-")
            if name in CORE_FIELDS or (name in taken and "." in key):
                name = slugify(key.replace(".", "-")).replace(".", "-")
            if can_be_named(name) and name not in taken and not (can_be_named(key) and key.islower()):
                self.columns[name] = key
                taken.add(name)
            elif not can_be_named(name) and not can_be_named(key):
                number = next(at for at in range(1, 10**6) if f"column-{at}" not in taken)
                self.columns[f"column-{number}"] = key
                taken.add(f"column-{number}")

    def are_above(self, values: KeyValues) -> bool:
        """Say whether the values of a key name entries of the source, which may be those above others."""
        names = {
            fold(text)
            for key in ("id", "slug", "title", "name")
            if key in self.given
            for text in self.given[key].texts
        }
        return values.share(text for text in values.texts if fold(text) in names) >= _MOSTLY

    def move(self, field: str, key: str) -> None:
        """Give another name to a key that is called like a field of every entry, and is something else."""
        other = _OTHERWISE.get(field, f"{field}-there")
        while other in self.given or other in self.columns:
            other = f"{other}-there"
        self.columns[other] = key
        examples = ", ".join(map(quoted, list(self.given[key].texts)[:3]))
        meant = _WHAT_IT_IS.get(field, field)
        what = f"{key} ({examples}) is not {meant}, so it is a separate field, {other}"
        if examples:
            self.unsure.append(Unsure(what, f"columns without {other} in the source"))

    def find_date(self, given: Mapping[str, KeyValues]) -> None:
        """Take a key whose values are dates for the date where nothing is called so."""
        if "date" in self.columns or any(
            fold(key) == "date" for key in given if key not in self.columns.values()
        ):
            return
        for key, each in given.items():
            if key in self.columns.values() or fold(key) in CORE_FIELDS or key == "id":
                continue
            if each.having < _MOSTLY * each.total or each.many or is_event(key) or each.whole:
                continue
            if typed(each, dates_of(each.texts)).type in ("date", "datetime"):
                self.columns["date"] = key
                self.unsure.append(
                    Unsure(f"{key} is used as the date", "another key in columns = { date = … }")
                )
                return

    def find_title(self, given: Mapping[str, KeyValues]) -> None:
        """Take the key whose texts tell most entries apart for the title where nothing is called so."""
        keys = given.get("slug")
        are_names = keys is not None and keys.is_everywhere and not any(map(str.isdecimal, keys.texts))
        if "title" in self.columns or not self.is_title_made or are_names:
            return
        best: tuple[float, str] = 0.0, ""
        for key, each in given.items():
            if key in self.columns.values() or fold(key) in CORE_FIELDS or each.many or each.whole:
                continue
            longest = max(map(len, each.texts), default=0)
            is_text = typed(each, dates_of(each.texts)).type == "text"
            if not is_text or longest > _LONGEST_TITLE or each.having < _MOSTLY * each.total:
                continue
            share = len(each.texts) / each.total + (0.2 if any(" " in text for text in each.texts) else 0)
            if len(each.texts) >= _MOSTLY * each.total and share > best[0]:
                best = share, key
        if best[1]:
            self.columns["title"] = best[1]
            self.unsure.append(
                Unsure(f"{best[1]} is used as the title", "another key in columns = { title = … }")
            )

    # what tells entries apart

    def told_apart(
        self,
        spec: SourceSpec,
        entries: Sequence[Entry],
        values: Mapping[str, KeyValues],
        fields: Mapping[str, Typed],
    ) -> SourceSpec:
        """Return a source that makes titles and slugs of what tells its rows apart."""
        if spec.read in ("markdown", "html", "feed"):
            return spec
        is_titled = "title" in self.columns or not self.is_title_made
        titles, keys = values.get("title"), self.given.get("slug")
        are_names = keys is not None and not any(map(str.isdecimal, keys.texts))
        if not are_names and not (is_titled and titles and titles.is_everywhere):
            parts = parts_of_titles(entries, values, fields)
            pattern = ", ".join(f"{{{key}}}" for key in parts)
            spec = replace(spec, title=pattern)
            if parts and not is_titled:
                what = f"there is no title, so titles are made from {' and '.join(parts)}"
                self.unsure.append(Unsure(what, f'another pattern in title = "{pattern}"'))
        return spec if spec.slug else replace(spec, slug=slug_pattern(values))

    # habits

    def dates(self, values: Mapping[str, KeyValues], rest: Mapping[str, KeyValues]) -> DateHabits:
        """Return how dates are written in all keys whose values are dates."""
        patterns: dict[str, int] = {}
        language, unsure = "en", ""
        for key in (*_DATES, *rest):
            each = values.get(key)
            if each is None or not each.texts or each.whole:
                continue
            found = dates_of(each.texts)
            is_slashed = found.unsure and all(text[:1].isdecimal() and "/" in text for text in found.left)
            is_other = found.left or {EPOCH, "yMMdd"} & found.patterns.keys()
            if key in rest and is_other and not is_slashed:
                continue
            if key == "date" and found.left and all(_YEAR.fullmatch(text) for text in found.left):
                found = found._replace(patterns={**found.patterns, "y": len(found.left)})
            unsure = unsure or found.unsure
            language = found.language if found.language != "en" else language
            for pattern, count in found.patterns.items():
                patterns[pattern] = patterns.get(pattern, 0) + count
        return DateHabits(patterns, language, unsure)

    def blanks(self, rest: Mapping[str, KeyValues], types: Mapping[str, Typed]) -> frozenset[str]:
        """Return the words that stand for no value where a key is no text."""
        return frozenset(
            fold(word)
            for key, each in rest.items()
            for word in each.words
            if types[key].type not in ("text", "yesno") or len(each.words) == 1
        )

    def written_in(self, values: Mapping[str, KeyValues]) -> dict[str, Any]:
        """Return what bodies and titles are written in."""
        found: dict[str, Any] = {}
        if self.stock.spec.read == "markdown":
            count = sum(bool(_NAME_LINK.search(str(entry.values.get("body", "")))) for entry in self.raw)
            if count:
                found["name_links"] = True
                what = f"[[Name]] links to the entry with that name, in {count} texts"
                self.unsure.append(Unsure(what, "name_links = false in the source"))
        if self.stock.spec.read not in ("html", "feed", "markdown"):  # which are made ready already
            bodies, titles = values.get("body"), values.get("title")
            if (
                bodies
                and bodies.texts
                and sum(text.lstrip().startswith("<") for text in bodies.texts) * 2 > len(bodies.texts)
            ):
                found["bodies"] = "html"
            joined = [values[each.taxonomy] for each in self.joined if each.taxonomy in values]
            if any(_MARKED.search(text) for each in joined for text in each.texts):
                found["texts"] = "html"
            elif titles and any(map(_MARKED.search, titles.texts)):
                found["titles"] = "html"
        return found

    def missing_status(self, values: Mapping[str, KeyValues]) -> str:
        """Return the status of rows that have none, if most have one: nobody knows what was meant."""
        each = values.get("status")
        is_row = self.stock.spec.read not in ("markdown", "html", "feed")
        if each is None or not is_row or not each.total > each.having > each.total / 2:
            return ""
        count, column = each.total - each.having, self.columns.get("status", "status")
        number = "1 entry has" if count == 1 else f"{count:,} entries have"
        what = f"{number} no {column}, and {'it is' if count == 1 else 'they are'} held back"
        self.unsure.insert(0, Unsure(what, 'missing_status = "published" in the source', "If public, write"))
        return "draft"

    # what is told

    def seen(
        self,
        values: Mapping[str, KeyValues],
        dates: DateHabits,
        flags: Mapping[str, tuple[str, int]],
        words: Mapping[str, str],
    ) -> Iterator[tuple[str, int]]:
        """Yield the habits of a source, each with how often it was met."""
        for key in FLAGS:
            texts = values[key].texts if key in values else {}
            yes = sum(count for text, count in texts.items() if fold(text) in YES)
            count = sum(texts.values()) - yes if key == "published" else yes
            if count and set(map(fold, texts)) <= YES | NO:
                yield f"{key} keeps entries back", count
        for key, (meaning, count) in flags.items():
            yield f"{key} keeps entries back, as {'draft' if meaning == 'published' else meaning}", count
        for word, ours in words.items():
            yield f"the status {word} means {ours}", values["status"].texts[word]
        for field, column in self.columns.items():
            if slugify(column) != field and field in values:
                yield f"{field} is called {column}", values[field].number
        for pattern, count in dates.patterns.items():
            yield f"dates are written as {pattern}", count
        for name in {"title", "date"} - self.columns.keys():
            for source, count in Counter(entry.guessed.get(name, "") for entry in self.raw).items():
                if source:
                    yield f"the {name} is that of the {source}", count

    def tell(
        self,
        dates: DateHabits,
        unknown: Sequence[str],
        values: Mapping[str, KeyValues],
        terms: Mapping[str, bool],
        fields: Mapping[str, Typed],
    ) -> None:
        """Note what could be otherwise, what matters most first."""
        first = []
        if unknown:
            counts = ", ".join(f"{quoted(word)} {values['status'].texts[word]}" for word in unknown[:3])
            what = f"unknown status words ({counts}); their entries are held back"
            first.append(Unsure(what, f'statuses = {{ "{unknown[0]}" = "published" }} in the source'))
        if dates.unsure:
            what = f"{quoted(dates.unsure)} may begin with the day or the month, so it holds its entry back"
            first.append(Unsure(what, 'dates = ["d/M/y"] or ["M/d/y"] in the source'))
        if self.stock.spec.encoding:
            what = "some files are not UTF-8 and are read as Windows-1252"
            first.append(Unsure(what, 'encoding = "…" in the source'))
        for key, what in self.stock.private.items():
            otherwise = "take it out of omit in the source"
            first.append(Unsure(f"{key} looks like {what}, so it is not read", otherwise, "To read it,"))
        self.unsure[:0] = [*self.stock.unsure, *first]
        for key, told in fields.items():
            if told.unsure:
                sign = f"the comma in {quoted(told.unsure)}"
                what = f"{key} is text: {sign} could separate thousands or decimals"
                self.unsure.append(
                    Unsure(what, f'numbers = "en" or "de" in the source, and {key} = {{ type = "number" }}')
                )
            elif told.odd:
                at = values[key].first.get(told.odd[0])
                odd = f"{quoted(told.odd[0])}{f' at {at}' if at else ''}"
                what = f"{key} is text because not all values are {_SEVERAL[told.nearly]}: {odd} is not"
                self.unsure.append(Unsure(what, f'{key} = {{ type = "{told.nearly}" }}'))
        declared = {each.taxonomy for each in self.joined}
        for key, tree in terms.items():
            if not is_usual(key) and key in values and key not in declared:
                what = f"{key} is used as a {'taxonomy (a tree)' if tree else 'taxonomy'}"
                many = ", many = true" if values[key].many else ""
                self.unsure.append(Unsure(what, f'{key} = {{ type = "text"{many} }} as a field instead'))


def _languages(fields: Mapping[str, Typed], values: Mapping[str, KeyValues]) -> dict[str, str]:
    """Return the languages whose signs numbers have: one for all fields if none has others."""
    found = {name: told.form.language for name, told in fields.items() if told.form.language}
    plain = [name for name, told in fields.items() if told.type == "number" and name not in found]
    have_points = any("." in text for name in plain if name in values for text in values[name].texts)
    if len(set(found.values())) == 1 and not have_points:
        return {"": next(iter(found.values()))}
    return found


_SEVERAL = {"number": "numbers", "date": "dates", "url": "addresses"}
_MARKED = re.compile(r"</?(?:i|b|em|strong|sup|sub|span|br|a|small)\b[^>]*>|&[a-z]{2,8};|&#\d+;")
_WHAT_IT_IS = {
    "status": "a status", "kind": "used as the kind", "parent": "another entry", "date": "a date",
    "updated": "a date", "expires": "a date", "image": "a picture", "id": "different for each entry",
    "slug": "different for each entry", "address": "the address of a page", "source": "set by content",
    "pinned": "yes or no",
}  # fmt: skip


def _is_better_as_terms(values: KeyValues) -> bool:
    """Say whether values are names of things or people by which one would look for entries."""
    return (
        values.many
        or is_term_name(values.key)
        or are_people(values)
        or any("," in text for text in values.texts)
    )


def _renamed(entry: Entry, columns: Mapping[str, str]) -> Entry:
    """Return an entry with the names of fields for its keys."""
    if not columns:
        return entry
    fields = {column: field for field, column in columns.items()}
    values = {
        fields.get(key, key): value
        for key, value in entry.values.items()
        if key not in columns or key in fields
    }
    return entry._replace(values=values)
