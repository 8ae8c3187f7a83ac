"""One key of groups: its values as codes, how codes sort, and what they are called."""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.column import Lists, Numbers, Texts
from elenchus.engine.columns.distinct import each_value
from elenchus.frozen import Working
from elenchus.plan.nodes import Part, Stepped
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import Type
from elenchus.values.collation import sort_key
from elenchus.values.dates import count_between, date_label, days_between, from_instant, start_of
from elenchus.values.kept import cached_property
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Iterator
    from datetime import date
    from fractions import Fraction

    from numpy.typing import NDArray

    from elenchus.engine.coded import Coded
    from elenchus.engine.columns.column import Column, Mask
    from elenchus.engine.select import Selection
    from elenchus.plan.nodes import GroupBy

__all__ = ["MISSING", "KeyColumn"]

_name_key = lru_cache(4096)(lambda name: sort_key(fold(name)))
MISSING = 2**62  # the code of rows without a value; sorts after all others
_FIXED_DOMAINS = {"weekday": range(1, 8), "month_of_year": range(1, 13), "hour": range(24)}


class KeyColumn(Working):
    """A key of groups over the rows of a selection. Codes are int64 and unique to a value."""

    selection: Selection
    spec: GroupBy

    @property
    def kind(self) -> Type:
        """The type of the values."""
        return self.spec.field.type.type

    @property
    def part(self) -> str:
        """The part of a date that the values are; nothing where they are no part."""
        source = self.spec.field.source
        return source.part if isinstance(source, Part) else ""

    @property
    def step(self) -> Fraction | None:
        """How wide groups of numbers are; None for all other values."""
        source = self.spec.field.source
        return source.step if isinstance(source, Stepped) else None

    @cached_property
    def column(self) -> Column:
        """The column of the field."""
        return self.selection.view.column(self.spec.field, self.selection.subject)

    @property
    def coded(self) -> Coded:
        """The codes of single values for all rows, kept with the view."""
        return self.selection.view.coded(self.spec.field, self.selection.subject)

    @cached_property
    def within(self) -> list[tuple[int, int]]:
        """The numbers of the terms in each of the subtrees that are named, as ranges."""
        places = [self.terms.places.get(value.path, -1) for value in self.spec.within]
        return [(number, self.terms.ends[number]) if number >= 0 else (0, 0) for number in places]

    def codes(self, column: Numbers | Texts) -> NDArray[np.int64]:
        """Return the codes of single values."""
        return (column.codes if isinstance(column, Texts) else column.keys).astype(np.int64)

    def wanted(self, codes: NDArray[np.int64]) -> Mask:
        """Return which codes belong to the groups asked: all, or those of the subtrees that are named."""
        if not self.spec.within:
            return np.ones(len(codes), np.bool_)
        inside = [(low <= codes) & (codes < high) for low, high in self.within]
        found: Mask = np.logical_or.reduce(inside)
        return found

    def domain(self, present: NDArray[np.int64]) -> list[int]:
        """Return the codes of all groups that there could be, beside those that are there."""
        codes = [int(code) for code in each_value(present) if code != MISSING]
        if self.part == "top":
            tops = set(self.terms.tops) - self.selection.view.hidden_terms(self.spec.field.type.taxonomy)
            return sorted(tops if not self.spec.within else {code for code in tops if self.is_within(code)})
        if self.kind is Type.TERM:
            ranges = self.within if self.spec.within else [(0, len(self.terms.terms))]
            hidden = self.selection.view.hidden_terms(self.spec.field.type.taxonomy)
            found = [at for low, high in ranges for at in range(low, high)]
            return [number for number in dict.fromkeys(found) if number not in hidden]
        if self.kind is Type.CHOICE:
            return list(range(len(self.spec.field.type.choices)))
        if self.kind is Type.YESNO:
            return [0, 1]
        if self.part in _FIXED_DOMAINS:
            return list(_FIXED_DOMAINS[self.part])
        if self.kind is Type.DATE and codes:
            return list(self.units(codes[0], codes[-1]))
        return list(range(codes[0], codes[-1] + 1)) if self.step and codes else codes

    def domain_size(self, present: NDArray[np.int64]) -> int:
        """Return how many codes the domain has; days and the like are counted without being listed."""
        codes = [int(code) for code in each_value(present) if code != MISSING]
        if self.step and codes:
            return codes[-1] - codes[0] + 1
        if self.kind is not Type.DATE or self.part in _FIXED_DOMAINS or not codes:
            return len(self.domain(present))
        return count_between(*self.days(codes[0], codes[-1]), self.part or "day")

    def is_within(self, code: int) -> bool:
        """Say whether a term lies in one of the subtrees that are named."""
        return any(low <= code < high for low, high in self.within)

    def units(self, first: int, last: int) -> Iterator[int]:
        """Yield the starts of all days, weeks, months or years from the first to the last."""
        zone = self.selection.view.data.zone
        for day in days_between(*self.days(first, last), self.part or "day"):
            yield start_of(day, zone)

    def days(self, first: int, last: int) -> tuple[date, date]:
        """Return the local days of two instants."""
        zone = self.selection.view.data.zone
        return from_instant(first, zone).date(), from_instant(last, zone).date()

    def sort_values(self, codes: NDArray[np.int64]) -> list[NDArray[np.int64]]:
        """Return numbers that put codes in the default order of the key, different for different codes.

        Terms stand in term order, choices as declared, dates newest or oldest first as the question goes,
        references by title and then by id, texts A to Z.
        """
        known = codes != MISSING
        values = np.where(known, codes, 0)
        if self.kind is Type.ENTRY:
            ids = self.selection.view.id_ranks(ENTRIES).astype(np.int64)
            own = ids[values] if len(ids) else values
            names = self.name_ranks(codes)
            return [-names if self.is_turned else names, np.where(known, own, 0)]
        if self.texts is not None:
            values = self.texts.lexicon.ranks[np.where(known, codes, -1)].astype(np.int64)
        return [-values if self.is_turned else values]

    @property
    def is_turned(self) -> bool:
        """Say whether the values of the key go from the last to the first."""
        return self.spec.descending if self.spec.by == "value" else self.spec.latest_first

    def name_ranks(self, codes: NDArray[np.int64]) -> NDArray[np.int64]:
        """Return numbers that put codes in the order of their names, A to Z; equal for equal names."""
        names = {code: _name_key(self.label(code)) if code != MISSING else "" for code in set(codes.tolist())}
        place = {name: rank for rank, name in enumerate(sorted(set(names.values())))}
        return np.array([place[names[code]] for code in codes.tolist()], dtype=np.int64)

    @property
    def terms(self) -> Any:
        """The taxonomy of the values."""
        return self.selection.view.data.taxonomies[self.spec.field.type.taxonomy]

    @cached_property
    def texts(self) -> Texts | None:
        """The column of single texts, where the values are texts."""
        single = self.column.elements if isinstance(self.column, Lists) else self.column
        return single if isinstance(single, Texts) else None

    @cached_property
    def first_of(self) -> NDArray[np.intp]:
        """The first place in the column of single texts that has each code: there one is as it is written."""
        codes = self.texts.codes if self.texts else np.zeros(0, dtype=np.int32)
        found = np.zeros(int(codes.max(initial=-1)) + 2, dtype=np.intp)  # the last one serves the code -1
        found[codes[::-1]] = np.arange(len(codes))[::-1]  # of several writes to one place the last one counts
        return found

    def spoken(self, code: int) -> tuple[Any, str]:
        """Return a code as a value and as people call it; kept with the view."""
        if code not in self.known:
            self.known[code] = self.key(code), self.label(code)
        return self.known[code]

    @cached_property
    def known(self) -> dict[int, tuple[Any, str]]:
        """The codes that were spoken of already."""
        return self.selection.view.spoken.setdefault((self.selection.subject, self.spec.field), {})

    def key(self, code: int) -> Any:
        """Return a code as a value: a slug, a choice, an id, a date, a number; None for missing."""
        if code == MISSING:
            return None
        match self.kind:
            case Type.TERM:
                return self.terms.labels[code]
            case Type.CHOICE:
                return self.spec.field.type.choices[code]
            case Type.YESNO:
                return bool(code)
            case Type.ENTRY:
                return self.selection.view.data.entries.ids[code]
            case Type.DATE:
                return date_label(
                    from_instant(code, self.selection.view.data.zone).date(), self.part or "day"
                )
            case Type.TEXT:
                return self.texts.item(int(self.first_of[code])) if self.texts else ""
            case _:
                return self.bound(code)

    def bound(self, code: int) -> int | float:
        """Return a whole number, or the number at which a step begins."""
        begin = code * self.step if self.step else code
        return int(begin) if begin == int(begin) else float(begin)

    def label(self, code: int) -> str:
        """Return what people call a code: the name of a term, the title of an entry, else the value."""
        if code == MISSING:
            return f"no {self.spec.field.name}"
        if self.kind is Type.TERM:
            return str(self.terms.terms[code].name)
        if self.kind is Type.ENTRY:
            return self.selection.view.titles.item(code) or self.selection.view.data.entries.ids[code]
        if self.kind is Type.YESNO:
            return "yes" if code else "no"
        if self.step:
            unit = self.spec.field.type.unit
            return f"{self.bound(code)} to {self.bound(code + 1)}{f' {unit}' if unit else ''}"
        return str(self.key(code))
