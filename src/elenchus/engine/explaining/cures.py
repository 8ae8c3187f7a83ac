"""What would make a condition hold for an entry: edits of its fields, each tried on a copy of the columns."""

from __future__ import annotations

import math
from datetime import date
from itertools import islice, product
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

import numpy as np

from elenchus.engine.columns.patch import patched
from elenchus.engine.explaining.standins import stand_ins
from elenchus.engine.select import Selection
from elenchus.engine.view import View
from elenchus.errors import Edit
from elenchus.frozen import Frozen, replace
from elenchus.plan.explanation import Change
from elenchus.plan.nodes import (
    AllOf,
    AnyOf,
    EntryValue,
    FieldRef,
    FieldTest,
    ListedIn,
    Negation,
    NumberValue,
    Part,
    PositionValue,
    SharesTerms,
    Stored,
    TermValue,
    Test,
    TextValue,
    TimeValue,
    Via,
)
from elenchus.plan.words import condition_words, fix_words
from elenchus.schema.convert import Moment, within
from elenchus.schema.state import HoldKind
from elenchus.schema.subject import ENTRIES, Subject
from elenchus.schema.types import CORE_FIELDS, Type
from elenchus.values.dates import from_instant, local_microseconds, start_of, to_minute, unit_interval
from elenchus.values.texts import fold, with_article

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from elenchus.engine.columns.column import Mask
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.plan.explanation import Way
    from elenchus.plan.nodes import Condition
    from elenchus.schema.state import Hold, State
    from elenchus.schema.types import Field, FieldType

__all__ = ["Trial", "Workshop", "merged"]

_MOST_WAYS = 12  # that are looked at for one condition
_MOST_TRIED = 60  # values that are tried for one comparison
_MOST_TARGETS = 8  # entries or terms that a reference is tried with
# Days from a date by which each weekday and each month of the year is reached soon.
_STEPS = (*range(-1, -7, -1), *range(1, 7), *range(-28, -365, -28))
_FIXED = frozenset({"id", "kind", "slug", "source", "address"})  # what an entry is, or what is made of that

_Sign: TypeAlias = Literal["=", "+=", "-="]
_Key: TypeAlias = tuple[str, Any]  # a value as it is written, and as the column's type has it


class Trial(Change):
    """A change of an entry that can be tried: ``keys`` are all values that a field of a type has then.

    That is the ``field`` where it is another than the edit writes: of a flag the status that it stands for.
    """

    keys: tuple[Any, ...] = ()
    type: FieldType | None = None
    field: str = ""


def merged(way: Iterable[Change]) -> Way:
    """Return changes with one for each field and each part of the plan: the last that was made for it."""
    found: dict[tuple[str, str], Change] = {}
    for change in way:
        if change.edit:
            key = "field", change.edit.field
        else:
            key = ("part", change.part[0]) if change.part else ("", change.words)
        found.pop(key, None)
        found[key] = change
    return tuple(found.values())


class Workshop(Frozen):
    """One row of a selection, changed until conditions hold; every change is tried before it is reported."""

    judged: Selection
    row: int

    @property
    def data(self) -> Dataset:
        """The dataset as it is."""
        return self.judged.view.data

    @property
    def id(self) -> str:
        """The id of the entry."""
        return self.data.entries.ids[self.row]

    @property
    def kind(self) -> str:
        """The kind of the entry."""
        return self.data.kind_of(self.row)

    def with_changes(self, way: Iterable[Change]) -> Dataset:
        """Return the dataset with the edits of some changes."""
        values = {
            (each.field or each.edit.field, each.type): each.keys
            for each in way
            if isinstance(each, Trial) and each.edit and each.type
        }
        return patched(self.data, self.row, values)

    def trial(
        self, words: str, field: str, sign: _Sign, value: str, keys: Sequence[Any], kind: FieldType
    ) -> Trial:
        """Return a change of a field of the entry."""
        return Trial(words, Edit(self.id, field, sign, value), keys=tuple(keys), type=kind)

    def holds(self, condition: Condition, way: Way) -> bool:
        """Say whether a condition holds for the row after some changes."""
        view = self.judged.view
        after = View(self.with_changes(way), view.now, view.unpublished, view.besides)
        return bool(Selection(after, ENTRIES, self.judged.listed).rows(condition)[self.row])

    # Being public

    def ways_to_publish(self, state: State) -> Way:
        """Return all that must change so that nothing keeps the entry back."""
        found: list[Change] = []
        is_status_told = any(hold.key == "status" for hold in state.holds)
        for hold in state.holds:
            words, field, value, keys = self.opening(hold)
            if hold.is_flag and is_status_told:  # a flag beside a status: what the status is then decides
                found.append(Change(words, Edit(self.id, hold.key, "=", value)))
                continue
            kind = CORE_FIELDS[field].type
            edit = Edit(self.id, hold.key if hold.is_flag else field, "=", value)
            found.append(Trial(words, edit, keys=keys, type=kind, field=field))
        return tuple(found)

    def opening(self, hold: Hold) -> tuple[str, str, str, tuple[Any, ...]]:
        """Return the words of a change that lifts a hold, its field, and the value that it writes."""
        today = from_instant(self.judged.view.now, self.data.zone).date()
        now = (today.isoformat(), (self.moment(today),))
        match hold.kind:
            case HoldKind.DRAFT | HoldKind.WITHDRAWN if hold.is_flag:
                yes = "yes" if hold.key == "published" else "no"
                return f"publish it: set {hold.key} to {yes}", "status", yes, (0,)
            case HoldKind.DRAFT | HoldKind.WITHDRAWN | HoldKind.UNKNOWN_STATUS:
                return "publish it: set status to published", "status", "published", (0,)
            case HoldKind.SCHEDULED:
                return "set its date to now or earlier, or wait: it becomes public by itself", "date", *now
            case HoldKind.UNDATED:
                return "give it a date", "date", *now
            case HoldKind.UNREADABLE_DATE:
                return "write its date so that it can be read, now or earlier", "date", *now
            case HoldKind.EXPIRED:
                return "take its expires away, or set it to a later date", "expires", "", ()
            case HoldKind.UNREADABLE_END:
                return "write its expires so that it can be read, or take it away", "expires", "", ()

    def moment(self, day: date) -> Moment:
        """Return a whole day as a key of a column of dates."""
        interval = unit_interval(day, "day", self.data.zone)
        local = local_microseconds(interval.start, self.data.zone)
        return Moment(interval.start, local, interval.end, whole=True)

    # Meeting conditions

    def ways(self, condition: Condition, *, wanted: bool = True) -> list[Way]:
        """Return ways to make a condition hold, or not hold, each tried; the most natural first."""
        found = islice(self.possible(condition, wanted), _MOST_TRIED)
        tried = (way for way in found if self.holds(condition, way) == wanted)
        told = {
            tuple(change.words for change in way): way for way in reversed(list(islice(tried, _MOST_WAYS)))
        }
        return list(reversed(told.values()))

    def possible(self, condition: Condition, wanted: bool) -> Iterator[Way]:  # noqa: FBT001 - yes or no is meant
        """Yield what might make a condition hold, or not."""
        match condition:
            case Negation():
                yield from self.possible(condition.part, not wanted)
            case Test():
                yield from self.edits(condition, condition.field, wanted != condition.negated, wanted=wanted)
            case FieldTest():
                for test in stand_ins(condition, self.judged, self.row):
                    yield from self.edits(test, test.field, wanted != test.negated, wanted=wanted)
            case SharesTerms():
                yield from self.likeness(condition, wanted)
            case AllOf() | AnyOf():
                yield from self.joined(condition, wanted)
            case ListedIn():
                return  # what lists it there is reported by asking why of that listing

    def joined(self, condition: AllOf | AnyOf, wanted: bool) -> Iterator[Way]:  # noqa: FBT001
        """Yield ways for all parts together where all are needed, and else for each by itself."""
        wrong = [part for part in condition.parts if self.holds(part, ()) != wanted]
        ways = [self.ways(part, wanted=wanted) for part in wrong]
        if isinstance(condition, AllOf) == wanted:
            for chosen in product(*ways):
                yield merged(change for way in chosen for change in way)
        else:
            for each in ways:
                yield from each

    def likeness(self, condition: SharesTerms, wanted: bool) -> Iterator[Way]:  # noqa: FBT001
        """Yield a term that the other entry has, or the loss of all that both have."""
        words = fix_words(condition, lambda _: not wanted, wanted=wanted)
        other = self.data.row_of(ENTRIES, condition.entry)
        lost: list[Change] = []
        for ref in condition.fields:
            theirs = self.judged.view.column(ref).item(other) if other >= 0 else []
            mine = self.judged.view.column(ref).item(self.row)
            labels = self.data.taxonomies[ref.type.taxonomy].labels
            if wanted and other != self.row:
                for number in theirs:
                    told_words, keys = f"{words}, such as {labels[number]}", (*mine, number)
                    yield (self.trial(told_words, ref.name, "+=", labels[number], keys, ref.type),)
            kept = [number for number in mine if number not in theirs]
            if len(kept) < len(mine):
                gone = ",".join(labels[number] for number in mine if number in theirs)
                lost.append(self.trial(words, ref.name, "-=", gone, kept, ref.type))
        if not wanted:
            yield tuple(lost)

    # One comparison

    def declared(self, ref: FieldRef) -> Field | None:
        """Return a field of the entry that can be written; None where its kind has none of that type."""
        field = self.data.schema.field_of(self.kind, ref.name)
        if field is None or field.type != ref.type or ref.name in _FIXED:
            return None
        return field

    def edits(
        self,
        test: Test,
        ref: FieldRef,
        positive: bool,  # noqa: FBT001
        *,
        wanted: bool,
    ) -> Iterator[Way]:
        """Yield edits that may make a comparison true (``positive``) or false."""
        words = fix_words(test, lambda _: not wanted, wanted=wanted)
        match ref.source:
            case Stored():
                field = self.declared(ref)
                if field:
                    for keys in self.candidates(test, field, positive):
                        yield (self.edit(words, field, keys),)
            case Part(of):
                field = self.declared(of) if isinstance(of.source, Stored) else None
                if field:
                    for keys in self.of_part(test, field, positive):
                        yield (self.edit(words, field, keys),)
            case Via(first, then):
                yield from self.along(test, first, then, positive)
            case _:
                return

    def edit(self, words: str, field: Field, keys: Sequence[_Key]) -> Trial:
        """Return the change that gives a field other values: the one value more or less where it is that."""
        name, kind = field.name, field.type
        new = tuple(key for _, key in keys)
        if not kind.many:
            return self.trial(words, name, "=", keys[0][0] if keys else "", new, kind)
        old = self.keys_of(field)
        added = [text for text, key in keys if key not in [each for _, each in old]]
        gone = [text for text, key in old if key not in new]
        if added and not gone:
            return self.trial(words, name, "+=", ",".join(added), new, kind)
        if gone and not added and keys:
            return self.trial(words, name, "-=", ",".join(gone), new, kind)
        return self.trial(words, name, "=", ",".join(text for text, _ in keys), new, kind)

    def keys_of(self, field: Field) -> list[_Key]:
        """Return the values that the entry has in a field, as they are written and as keys."""
        column = self.data.entries.columns[field.name, field.type]
        item = column.item(self.row)
        found = item if isinstance(item, list) else [] if item is None else [item]
        return [(self.written(field, key), key) for key in found]

    def written(self, field: Field, key: Any) -> str:
        """Return a key as content writes it."""
        match field.type.type:
            case Type.CHOICE:
                return str(field.type.choices[key])
            case Type.YESNO:
                return "yes" if key else "no"
            case Type.ENTRY:
                return str(self.data.entries.ids[key])
            case Type.TERM:
                return str(self.data.taxonomies[field.type.taxonomy].labels[key])
            case Type.DATE | Type.DATETIME:
                start = key.start if isinstance(key, Moment) else key
                local = from_instant(start, self.data.zone)
                whole = isinstance(key, Moment) and key.whole
                return local.date().isoformat() if whole else to_minute(local)
            case Type.NUMBER:
                return f"{key:g}" if float(f"{key:g}") == key else str(key)
            case _:
                return str(key)

    def candidates(self, test: Test, field: Field, positive: bool) -> Iterator[list[_Key]]:  # noqa: FBT001
        """Yield values for a field that may make a comparison of it true or false, the likeliest first."""
        have = self.keys_of(field)
        keys = self.keys_for(test, field, positive)
        if field.type.many:
            yield from self.of_many(test, field, have, keys, positive)
            return
        for key in keys:
            yield [(self.written(field, key), key)]
        if field.name != "title":
            yield []

    def of_many(
        self,
        test: Test,
        field: Field,
        have: list[_Key],
        keys: Iterator[Any],
        positive: bool,  # noqa: FBT001
    ) -> Iterator[list[_Key]]:
        """Yield the values that a field has with another one, or without those that decide."""
        if positive and test.operator != "is missing":
            more: list[_Key] = []
            for key in keys:
                if key not in [each for _, each in have]:
                    new = (self.written(field, key), key)
                    more.append(new)
                    yield [*have, new]
                    yield [*have, *more]
            return
        for value in have:  # without each of them that makes it true
            rest = [each for each in have if each != value]
            yield rest
        plain = replace(test, negated=False)
        yield [each for each in have if not self.holds(plain, (self.only(field, each[1]),))]
        yield []

    def only(self, field: Field, key: Any) -> Trial:
        """Return the change that leaves a field one value."""
        return self.trial("", field.name, "=", "", (key,), field.type)

    def keys_for(self, test: Test, field: Field, positive: bool) -> Iterator[Any]:  # noqa: FBT001
        """Yield keys of a field's type around the values of a comparison."""
        match field.type.type:
            case Type.INTEGER | Type.NUMBER:
                yield from self.numbers(test, field)
            case Type.DATE | Type.DATETIME:
                for value in test.values:
                    if isinstance(value, TimeValue):
                        yield from self.moments(value)
                yield self.moment(from_instant(self.judged.view.now, self.data.zone).date())
            case Type.YESNO:
                yield from (1, 0)
            case Type.CHOICE:
                named = [value.position for value in test.values if isinstance(value, PositionValue)]
                yield from dict.fromkeys((*named, *range(len(field.type.choices))))
            case Type.ENTRY:
                yield from self.entries(test, field)
            case Type.TERM:
                yield from self.terms(test, field)
            case _:
                yield from self.texts(test, field, positive)

    def numbers(self, test: Test, field: Field) -> Iterator[int | float]:
        """Yield numbers at the values of a comparison and beside them that the field may hold."""
        written = [float(value.number) for value in test.values if isinstance(value, NumberValue)]
        whole = field.type.type is Type.INTEGER
        least = field.least if field.least is not None else 1
        around = [number + step for step in (0, 1, -1, 0.5, -0.5) for number in written] or [least, 1]
        for number in around:
            if math.isinf(number) or abs(number) >= 2**53:
                continue
            rounded = [math.ceil(number), math.floor(number)] if whole else [number]
            yield from (each for each in dict.fromkeys(rounded) if within(each, field))

    def moments(self, value: TimeValue) -> Iterator[Moment]:
        """Yield the days at both ends of an interval and beside them, then its first and last instants."""
        zone = self.data.zone
        interval = value.interval
        for instant in (interval.start, interval.end - 1, interval.start - 1, interval.end):
            try:
                yield self.moment(from_instant(instant, zone).date())
            except OverflowError:
                continue
        for start in (interval.start, interval.start - 60_000_000, interval.end):
            try:
                yield Moment(start, local_microseconds(start, zone), start + 60_000_000, whole=False)
            except OverflowError:
                continue

    def entries(self, test: Test, field: Field) -> Iterator[int]:
        """Yield the entries of a comparison, then visible ones of the kind that the field refers to."""
        values = [value for value in test.values if isinstance(value, EntryValue)]
        named = [row for value in values if (row := self.data.row_of(ENTRIES, value)) >= 0]
        allowed = self.referable(field)
        yield from (row for row in named if allowed[row])
        yield from np.flatnonzero(allowed & self.judged.view.visible).tolist()

    def referable(self, field: Field) -> Mask:
        """Return the entries that a field may refer to: as a parent neither itself nor what lies below it."""
        entries = self.data.entries
        found: Mask = np.ones(len(entries), np.bool_)
        if field.type.kinds:
            found &= self.data.of_kinds(field.type.kinds)
        if field.name == "parent":
            low, high = entries.ancestry.numbers[self.row], entries.ancestry.ends[self.row]
            found &= (entries.ancestry.numbers < low) | (entries.ancestry.numbers >= high)
        return found

    def terms(self, test: Test, field: Field) -> Iterator[int]:
        """Yield the terms of a comparison, those just below them, then all others."""
        terms = self.data.taxonomies[field.type.taxonomy]
        named = [value.path for value in test.values if isinstance(value, TermValue)]
        values = [
            (number, terms.ends[number]) for path in named if (number := terms.places.get(path, -1)) >= 0
        ]
        yield from (number for number, _ in values)
        yield from (number + 1 for number, end in values if end > number + 1)
        yield from (number for number in range(len(terms.terms)) if number not in dict(values))

    def texts(self, test: Test, field: Field, positive: bool) -> Iterator[str]:  # noqa: FBT001
        """Yield texts that begin with, hold, or lack that of a comparison."""
        have = [text for text, _ in self.keys_of(field)] or [""]
        for value in test.values:
            if isinstance(value, TextValue):
                yield from _spelt(have[0], value.shown, positive=positive)
        if test.operator == "is set":
            yield "…"

    def of_part(self, test: Test, field: Field, positive: bool) -> Iterator[list[_Key]]:  # noqa: FBT001
        """Yield values whose part may make a comparison true or false."""
        if field.type.type.is_date and not field.type.many:
            yield from ([(self.written(field, key), key)] for key in self.days_around(test, field))
        elif field.type.type is Type.TERM:
            yield from self.of_many(test, field, self.keys_of(field), self.terms(test, field), positive)
        elif field.type.type is Type.TEXT and not field.type.many:
            have = [text for text, _ in self.keys_of(field)] or [""]
            for value in test.values:
                if isinstance(value, TextValue):
                    text = f"{value.shown} {have[0]}".strip()
                    yield [(text, text)]
        if field.name != "title":
            yield []

    def days_around(self, test: Test, field: Field) -> Iterator[Moment]:
        """Yield the days that a comparison names, then those before and after that which the entry has."""
        for value in test.values:
            if isinstance(value, TimeValue):
                yield from self.moments(value)
        have = self.keys_of(field)
        start = have[0][1] if have else self.judged.view.now
        first = from_instant(start, self.data.zone).date().toordinal()
        if isinstance(test.field.source, Part) and test.field.source.part == "hour":
            yield from self.hours(date.fromordinal(first))
        for step in _STEPS:
            if 1 <= first + step <= date.max.toordinal():
                yield self.moment(date.fromordinal(first + step))

    def hours(self, day: date) -> Iterator[Moment]:
        """Yield each hour of a day."""
        start = start_of(day, self.data.zone)
        for hour in range(24):
            at = start + hour * 3_600_000_000
            yield Moment(at, local_microseconds(at, self.data.zone), at + 60_000_000, whole=False)

    def along(self, test: Test, first: FieldRef, then: FieldRef, positive: bool) -> Iterator[Way]:  # noqa: FBT001
        """Yield another reference, or another term, for which what follows it is as it should be."""
        field = self.declared(first) if isinstance(first.source, Stored) else None
        if field is None:
            return
        view, subject = self.judged.view, Subject(first.type.taxonomy)
        fits = Selection(view, subject, self.judged.listed).positive(replace(test, field=then)) == positive
        if subject.is_entries:
            fits &= view.visible & self.referable(field)
        what = f"one whose {then.name} {_told(replace(test, field=then, negated=not positive))}"
        have = self.keys_of(field)
        for number in np.flatnonzero(fits)[:_MOST_TARGETS].tolist():
            new = (self.written(field, number), number)
            words = f"set {first.name} to {what}, such as {new[0]}"
            keys = [new]
            if field.type.many and positive:
                words = f"give it {with_article(first.name)}: {what}, such as {new[0]}"
                keys = [*have, new]
            yield (self.edit(words, field, keys),)
        if not positive:
            for rest in self.of_many(test, field, have, iter(()), positive=False):
                yield (self.edit(f"take its {first.name} away", field, rest),)


def _told(test: Test) -> str:
    """Return what a comparison says, without its field."""
    return condition_words(test).removeprefix(test.field.name).strip()


def _spelt(have: str, text: str, *, positive: bool) -> Iterator[str]:
    """Yield a text that is another, begins or ends with it, or holds it; or the text without it."""
    if positive:
        yield text
        yield f"{text} {have}".strip()
        yield f"{have} {text}".strip()
        yield f"{text}z"
        return
    at = fold(have).find(fold(text))
    if at >= 0:
        rest = " ".join(f"{have[:at]} {have[at + len(text) :]}".split())
        if rest:
            yield rest
