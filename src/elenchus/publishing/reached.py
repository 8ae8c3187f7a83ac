"""Which pages a change of content can reach: all others show what they showed, and need not be asked.

The rows that changed are held, as they were and as they are, against the conditions of each section. If none
of them meets these on either side, the section shows the same rows, and what it shows of them is the same:
a row counts as changed, too, where something that it refers to looks otherwise. What cannot be decided so
counts as reached.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from elenchus.engine.executor import Engine
from elenchus.errors import ElenchusError
from elenchus.frozen import Working, member, replace
from elenchus.operators import operator
from elenchus.plan.nodes import (
    Counted,
    EntryValue,
    GivenOrder,
    Part,
    SharesTerms,
    Stepped,
    Test,
    Via,
)
from elenchus.plan.values import Refused, Resolver
from elenchus.plan.walking import named_rows, placing_fields, sorting_fields, tests_in, walk
from elenchus.publishing.asked import SectionAsked
from elenchus.rendering.marks import PageMarks
from elenchus.rendering.renderer import Renderer
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import Type
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from numpy.typing import NDArray

    from elenchus.engine.select import Selection
    from elenchus.pages.book import Book, Page
    from elenchus.plan.nodes import FieldRef, Plan, Rows
    from elenchus.publishing.asked import Slot
    from elenchus.site.pages import PageRule, SectionRule
    from elenchus.site.site import Site

    _Rows = NDArray[np.intp]

__all__ = ["Reached", "reached"]


class Reached(NamedTuple):
    """The pages that may differ between two states of a site, by their paths.

    ``rows`` are those that may have other rows, or show something else besides; pages that only one state has
    are among them. ``looks`` have the same rows, and differ if they show one of the entries called ``names``.
    """

    rows: frozenset[str]
    looks: frozenset[str]
    names: frozenset[str]


def reached(before: Book, after: Book) -> Reached | None:
    """Return which pages may differ between two states of a site; None for all of them.

    Private pages are never among them.
    """
    old, new = _SiteState.of(before), _SiteState.of(after)
    if old is None or new is None or old.marks.everywhere != new.marks.everywhere:
        return None
    reach = _Reach(old, new)
    rows, looks = reach.paths
    return Reached(frozenset(rows), frozenset(looks - rows), reach.names)


class _SiteState(Working):
    """One state of a site."""

    book: Book
    engine: Engine
    marks: PageMarks

    @classmethod
    def of(cls, book: Book) -> _SiteState | None:
        """Return a state whose content is in memory; None for one of tables."""
        engine = book.site.executor
        return cls(book, engine, PageMarks(Renderer(book.site, book))) if isinstance(engine, Engine) else None

    @property
    def site(self) -> Site:
        """The site."""
        return self.book.site

    @cached_property
    def shown(self) -> NDArray[np.uint64]:
        """What each entry shows, and whether it is public."""
        marks = self.marks.rows[False]
        return marks.entries ^ self.engine.view().visible.astype(np.uint64)

    @property
    def by_name(self) -> dict[str, int]:
        """The same by the ids of entries."""
        return dict(zip(self.site.dataset.entries.ids, self.shown.tolist(), strict=True))

    @cached_property
    def rules(self) -> dict[str, PageRule]:
        """The rules of the pages that visitors can see."""
        return {name: rule for name, rule in self.book.rules.items() if not rule.private}

    @cached_property
    def terms(self) -> dict[str, tuple[Any, ...]]:
        """The terms of each taxonomy with what each shows as a value: not how many entries it has."""
        marks = self.marks.rows[False]
        return {
            name: (list(each.terms), list(each.ends), marks.of_terms(name).tobytes())
            for name, each in self.site.dataset.taxonomies.items()
        }

    def pages(self, rule: PageRule) -> dict[str, Page]:
        """Return the pages of a rule by their paths."""
        return {page.path: page for page in self.book.of(rule.name).pages}

    def told(self, page: Page) -> tuple[Any, ...]:
        """Return what a page shows besides its sections."""
        around = self.book.neighbours(page) if page.here else ()
        renderer = self.marks.renderer
        return (
            (page.title, page.about, page.count, page.here and (page.here.subject, page.here.name)),
            [(other.title, other.address) if other else None for other in around],
            [(link.text, link.href) for link in renderer.trail(page)],
            self.marks.about(self.marks.rows[False], page),
        )


class _ChangedRows(NamedTuple):
    """The rows of one state that changed: those that the other has not, or that show something else."""

    side: _SiteState
    rows: _Rows

    def selection(self, plan: Plan, rows: _Rows) -> Selection:
        """Return these rows as conditions are held against them."""
        return self.side.engine.selection(plan).at(rows)


class _Reach(Working):
    """What a change reaches."""

    old: _SiteState
    new: _SiteState
    meeting: dict[Any, bool] = member(default_factory=dict)
    sharing: dict[Any, frozenset[str]] = member(default_factory=dict)
    values: dict[tuple[FieldRef, str], bool] = member(default_factory=dict)

    @cached_property
    def changed(self) -> tuple[_ChangedRows, _ChangedRows]:
        """The changed rows of both sides."""
        marks = [side.by_name for side in self.sides]
        found = []
        for side, own, other in zip(self.sides, marks, marks[::-1], strict=True):
            numbers = [row for row, (name, mark) in enumerate(own.items()) if other.get(name) != mark]
            found.append(_ChangedRows(side, np.array(numbers, dtype=np.intp)))
        return found[0], found[1]

    @property
    def sides(self) -> tuple[_SiteState, _SiteState]:
        """Both sides."""
        return self.old, self.new

    @cached_property
    def names(self) -> frozenset[str]:
        """The ids of changed entries."""
        return frozenset(
            name for side, rows in self.changed for name in side.site.dataset.entries.ids.at(rows)
        )

    @cached_property
    def kinds(self) -> frozenset[str]:
        """The kinds of changed entries."""
        return frozenset(
            side.site.dataset.kind_names[number]
            for side, rows in self.changed
            for number in np.unique(side.site.dataset.entries.kinds[rows]).tolist()
        )

    @cached_property
    def taxonomies(self) -> frozenset[str]:
        """The taxonomies that have other terms, or whose terms show something else."""
        every = {*self.old.terms, *self.new.terms}
        return frozenset(name for name in every if self.old.terms.get(name) != self.new.terms.get(name))

    @property
    def is_any(self) -> bool:
        """Say whether an entry or a term has changed at all."""
        return bool(self.names or self.taxonomies)

    @cached_property
    def moves_groups(self) -> bool:
        """Say whether groups link to other pages."""
        old, new = (
            {group: [page.address for page in pages] for group, pages in side.book.by_group.items()}
            for side in self.sides
        )
        return old != new

    @cached_property
    def paths(self) -> tuple[set[str], set[str]]:
        """The paths of the pages that may have other rows, and of those whose rows may look otherwise."""
        rules = [side.rules for side in self.sides]
        found: set[str] = set()
        looks: set[str] = set()
        for name in {**rules[0], **rules[1]}:
            if rules[0].get(name) != rules[1].get(name):
                found |= {path for side, own in zip(self.sides, rules, strict=True) if name in own
                          for path in side.pages(own[name])}  # fmt: skip
            else:
                more, other = self.of_rule(rules[1][name])
                found |= more
                looks |= other
        return found, looks

    def of_rule(self, rule: PageRule) -> tuple[set[str], set[str]]:
        """Return the paths of the pages of a rule that may have other rows, or other looks."""
        old, new = self.old.pages(rule), self.new.pages(rule)
        found = old.keys() ^ new.keys()
        both = [path for path in new if path in old]
        found |= {path for path in both if self.old.told(old[path]) != self.new.told(new[path])}
        looks: set[str] = set()
        for section in rule.sections:
            left = [new[path] for path in both if path not in found]
            more, other = self.of_section(section, left)
            found |= {page.path for page in more}
            looks |= {page.path for page in other}
        return found, looks

    def of_section(self, rule: SectionRule, pages: Sequence[Page]) -> tuple[Sequence[Page], Sequence[Page]]:
        """Return those of some pages of a set whose section may have other rows, and those with other looks.

        The row that a page is about is the same on both sides.
        """
        if not pages:
            return [], []
        try:
            asked = [SectionAsked.of(side.site, rule, pages[0]) for side in self.sides]
        except ElenchusError:  # which is told where the page is made
            return pages, []
        if asked[0].plan != asked[1].plan or asked[0].listing != asked[1].listing:
            return pages, []
        if (asked[1].is_chosen and self.is_any) or self.is_open(asked[1].plan):
            return pages, []
        inside = [each.rows[self.possible(each, one)] for each, one in zip(self.changed, asked, strict=True)]
        steady, other = self.divided(asked[1].plan, inside)
        found = [page for page in pages if self.may_meet(asked, other, page)] if any(map(len, other)) else []
        if not len(steady[1]):
            return found, []
        return found, [page for page in pages if self.may_meet(asked, steady, page)]

    def divided(self, plan: Plan, inside: Sequence[_Rows]) -> tuple[list[_Rows], list[_Rows]]:
        """Return which changed rows a plan has on both sides in the same place, and all others.

        What is the same on both sides need not be looked at on more than one: of the old one there are none.
        """
        ids = [each.side.site.dataset.entries.ids for each in self.changed]
        names = [set(one.at(rows)) for one, rows in zip(ids, inside, strict=True)]
        same = names[0] & names[1]
        for field in placing_fields(plan):
            same = {name for name in same if self.is_same(field, name)} if same else same
        if any(field.type.type in (Type.ENTRY, Type.TERM) for field in sorting_fields(plan)):
            same = set()  # a row may move where what it refers to is called otherwise
        kept = [np.array([name in same for name in one.at(rows)], dtype=np.bool_)
                for one, rows in zip(ids, inside, strict=True)]  # fmt: skip
        others = [rows[~one] for rows, one in zip(inside, kept, strict=True)]
        return [inside[0][:0], inside[1][kept[1]]], others

    def is_same(self, field: FieldRef, name: str) -> bool:
        """Say whether an entry has the same value on both sides."""
        key = field, name
        if key not in self.values:
            one, other = (side.engine.values(ENTRIES, name, [field]) for side in self.sides)
            self.values[key] = one == other
        return self.values[key]

    # Whether a question can be decided by its own rows

    def is_open(self, plan: Plan) -> bool:
        """Say whether rows of a plan can change without being changed themselves."""
        if not plan.subject.is_entries:
            return self.is_any
        if plan.groups and (self.moves_groups or (plan.with_empty and self.is_any)):
            return True
        led = {*plan.lead, *(name for key in plan.order if isinstance(key, GivenOrder) for name in key.rows)}
        if any(isinstance(name, EntryValue) and name.id in self.names for name in led):
            return True
        likenesses = (each for each in walk(plan.condition) if isinstance(each, SharesTerms))
        if any(each.entry.id in self.names for each in likenesses):
            return True
        return any(map(self.is_changed, dict.fromkeys(named_rows(plan)))) or self.leads_far(plan)

    def leads_far(self, plan: Plan) -> bool:
        """Say whether a field of a plan may have another value in a row that has not changed."""
        trees = [each.field for each in tests_in(plan.condition) if operator(each.operator).along_tree]
        if self.names and any(each.type.type is Type.ENTRY for each in trees):
            return True  # where an entry stands in its tree depends on those above it
        return any(map(self.leads_on, (*plan.fields, *plan.show, *placing_fields(plan))))

    def is_changed(self, rows: Rows) -> bool:
        """Say whether a listing may have other rows, whatever its conditions."""
        plan = rows.plan
        return self.is_open(plan) or not self.kinds.isdisjoint(plan.kinds)

    def leads_on(self, field: FieldRef) -> bool:
        """Say whether a field may have another value in a row that has not changed."""
        match field.source:
            case Via(first, then):
                if first.type.type is Type.TERM:
                    return self.is_any  # how many entries it has may be among what is said of a term
                kinds = first.type.kinds
                beyond = bool(self.kinds) if not kinds else not self.kinds.isdisjoint(kinds)
                return beyond or self.leads_on(first) or self.leads_on(then)
            case Part(of) | Stepped(of):
                return self.leads_on(of)
            case Counted(kind, _):
                return kind in self.kinds
            case _:
                return field.type.taxonomy in self.taxonomies if field.type.type is Type.TERM else False

    # Whether a changed row meets it

    def possible(self, changed: _ChangedRows, asked: SectionAsked) -> NDArray[np.bool_]:
        """Return which changed rows of a side meet all that is the same on all pages."""
        plan, data = asked.plan, changed.side.site.dataset
        found = np.isin(
            data.entries.kinds[changed.rows], [data.kind_names.index(each) for each in plan.kinds]
        )
        if not plan.unpublished:
            found &= changed.side.engine.view().visible[changed.rows]
        for each in asked.fixed:
            if found.any():
                found &= changed.selection(plan, changed.rows).rows(each)
        return found

    def may_meet(self, asked: Sequence[SectionAsked], inside: Sequence[_Rows], page: Page) -> bool:
        """Say whether a changed row of either side may meet what the section of a page asks."""
        given = asked[1].given(page)
        for changed, one, rows in zip(self.changed, asked, inside, strict=True):
            if len(rows) and all(self.meets(changed, one, slot, rows, given) for slot in one.slots):
                return True
        return False

    def meets(
        self,
        changed: _ChangedRows,
        asked: SectionAsked,
        slot: Slot,
        rows: _Rows,
        given: Mapping[str, Sequence[str]],
    ) -> bool:
        """Say whether one of some rows may meet the condition that a page gives a value to."""
        texts = tuple(filter(None, given.get(slot.name, ())))
        if not texts:
            return True  # which may mean that nothing is asked, or that there are no rows
        if isinstance(slot.condition, SharesTerms):
            is_one = len(texts) == 1 and changed.side.site.dataset.row_of_id(texts[0]) >= 0
            if not is_one or texts[0] in self.names:
                return True
            related = (id(changed.side), slot, rows.tobytes())
            if related not in self.sharing:
                self.sharing[related] = self.related(changed, asked.plan, slot.condition, rows)
            return texts[0] in self.sharing[related]
        key = (id(changed.side), slot, rows.tobytes(), texts)
        if key not in self.meeting:
            self.meeting[key] = self.met(changed, asked.plan, slot.condition, rows, texts)
        return self.meeting[key]

    def related(
        self, changed: _ChangedRows, plan: Plan, likeness: SharesTerms, rows: _Rows
    ) -> frozenset[str]:
        """Return the ids of the entries to which some rows are related."""
        ids, selection = changed.side.site.dataset.entries.ids, changed.side.engine.selection(plan)
        found = np.zeros(len(ids), np.bool_)
        for name in ids.at(rows):
            found |= selection.sharers(replace(likeness, entry=EntryValue(name)))
        return frozenset(ids.at(np.flatnonzero(found)))

    def met(self, changed: _ChangedRows, plan: Plan, test: Test, rows: _Rows, texts: Sequence[str]) -> bool:
        """Say whether one of some rows meets a comparison with other values."""
        site = changed.side.site
        resolver = Resolver(site.dataset, site.clock, plan.unpublished, watch=site.watch)
        try:
            condition = replace(test, values=resolver.values(test.field, texts))
        except Refused:
            return True
        return bool(resolver.notices) or bool(changed.selection(plan, rows).rows(condition).any())
