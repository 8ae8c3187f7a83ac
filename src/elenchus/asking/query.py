"""One question of a site, from its name or its text to all that can be asked of it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.asking.alone import compared_alone, same_values
from elenchus.asking.choices import possible
from elenchus.asking.here import HERE, names_of_here, with_here
from elenchus.asking.names import row_named
from elenchus.asking.parameters import absent_choice, ground, settled
from elenchus.errors import About, NoSuchName, Place, Problem, QuestionError
from elenchus.frozen import Working, member, replace
from elenchus.language.nodes import Parameter
from elenchus.language.parser import read, read_changes
from elenchus.language.tree import walk
from elenchus.language.words import is_keyword
from elenchus.plan.answer import Choice, Choices
from elenchus.plan.check import check
from elenchus.plan.nodes import AllOf, Test
from elenchus.plan.values import Resolver
from elenchus.plan.walking import parts, tests_in
from elenchus.site.inheritance import Listing, Origin, changed_by
from elenchus.site.listings import ListingRule
from elenchus.site.names import can_be_called
from elenchus.values.kept import cached_property
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.plan.answer import Answer
    from elenchus.plan.explanation import Explanation, Verdict
    from elenchus.plan.nodes import Plan
    from elenchus.site.listings import ParameterRule
    from elenchus.site.site import Site

    _Values = Mapping[str, Sequence[str]]

__all__ = ["Query", "as_lists", "listing_named", "resolved"]

_TRIED, _SHOWN = Place("--try"), Place("--show")
_LONGEST_NAME = 100


class Query(Working):
    """A listing, or a question that has no name, with values for its parameters.

    ``show`` are fields that its rows have besides. ``without`` are the ids of rows that it leaves out before
    its own offset and limit, because they stand elsewhere on the same page.
    """

    site: Site
    listing: Listing
    given: _Values = member(default_factory=dict)
    show: tuple[str, ...] = ()
    without: tuple[str, ...] = ()

    @classmethod
    def of(cls, site: Site, text: str, given: _Values | None = None, changes: str = "") -> Query:
        """Return what a name or a text asks, as somebody types it: ``here`` may be an entry or a term.

        Raises NoSuchName for a listing that there is not, QuestionError.
        """
        listing = resolved(site, text, changes)
        return cls(site, listing, with_here(site, listing, given or {}))

    def showing(self, fields: Sequence[str]) -> Query:
        """Return the query with other fields to be shown than those of its listing."""
        shown = tuple(fields), Origin("--show", _SHOWN)
        return replace(self, listing=replace(self.listing, settings={**self.listing.settings, "show": shown}))

    @cached_property
    def plan(self) -> Plan:
        """The checked plan. Raises QuestionError with every problem of form and meaning at once."""
        # The listing is part of what is kept, so that no other can have its identity meanwhile.
        key = id(self.listing), self.given_to_it, self.show
        return self.site.plans.get(key, lambda: (self.listing, self._checked()))[1]

    @property
    def left_out(self) -> tuple[str, ...]:
        """The ids of the rows that it leaves out, if its rows can be repeats at all. Raises QuestionError."""
        return self.without if self.plan.takes_part else ()

    @property
    def given_to_it(self) -> tuple[tuple[str, ...], ...]:
        """The values that it depends on: of the row of a page, only what it asks for."""
        asked = names_of_here(self.site, self.listing)
        return tuple(
            (name, *texts)
            for name, texts in self.given.items()
            if name in asked or name.split(".")[0] != HERE
        )

    def _checked(self) -> Plan:
        """Return the plan, checked now. Raises QuestionError."""
        asked = settled(self.site, self.listing, self.given)
        plan, problems = check(replace(asked, show=(*asked.show, *self.show)), ground(self.site))
        if problems:
            raise QuestionError(self.listing.text, self.located(problems))
        return plan

    def located(self, problems: Sequence[Problem]) -> list[Problem]:
        """Return problems with the parameters that they are about, and their places in files."""
        listing = self.listing
        names = {node.span: node.name for node in walk(listing.question) if isinstance(node, Parameter)}
        named = [
            replace(each, parameter=names[each.span])
            if not each.parameter and each.about is About.VALUE and each.span in names
            else each
            for each in problems
        ]
        own = len(listing.setting("show"))
        told = [
            replace(each, message=f"in {each.setting}: {each.message}")
            if each.setting and (each.index is None or each.index < own)
            else each
            for each in named
        ]
        has_place = listing.name or listing.place != _TRIED
        return [listing.located(problem) for problem in told] if has_place else told

    @cached_property
    def is_askable(self) -> bool:
        """Say whether nothing is wrong with it."""
        try:
            return bool(self.plan)
        except QuestionError:
            return False

    # What can be asked of it; each raises QuestionError

    def answer(self, page: int | str = 1, *, in_public: bool = False) -> Answer:
        """Return one page of its answer; with what can be chosen, where that stands in the place of rows.

        ``in_public`` keeps what is said beside the rows to what anybody may know. Raises NoSuchPage.
        """
        found = self.site.executor.run(
            self.plan, self.listing.text, page, without=self.left_out, in_public=in_public
        )
        return self.finished(found)

    def finished(self, found: Answer) -> Answer:
        """Return an answer of an executor with what the site and the listing add to it."""
        found = replace(found, formulas=self.site.definition.formulas)
        rule = absent_choice(self.listing, self.given)
        return replace(found, choices=self.choices(rule)) if rule else found

    def whole(self, *, in_public: bool = False, groups_alone: bool = False) -> Answer:
        """Return its answer with all rows on one page; of its groups all but the rows if ``groups_alone``."""
        plan = replace(self.plan, per_page=None, per_group=0 if groups_alone else self.plan.per_group)
        found = self.site.executor.run(plan, self.listing.text, without=self.left_out, in_public=in_public)
        return replace(found, formulas=self.site.definition.formulas)

    def ids(self) -> list[str]:
        """Return the ids of its rows, on all pages."""
        return self.site.executor.ids(self.plan, without=self.left_out)

    def count(self) -> int:
        """Return the number of its rows."""
        return self.site.executor.count(self.plan, without=self.left_out)

    def repeated(self) -> list[str]:
        """Return the ids of the rows that it would have, were they not left out."""
        return self.site.executor.repeated(self.plan, self.left_out)

    def explanation(self) -> Explanation:
        """Return why its answer is as it is: what each step leaves and removes."""
        return self.site.executor.explain(self.plan, self.listing.text, without=self.left_out)

    def verdict(self, name: str) -> Verdict:
        """Return what becomes of an entry, or of a term where its rows are terms. Raises NoSuchName."""
        row = row_named(self.site.dataset, self.plan.subject, name)
        found = self.site.executor.judge(self.plan, row, without=self.left_out)
        return found.with_edits(self.site.content.offered)

    # Other values

    def given_also(self, given: _Values) -> Query:
        """Return the query with other values for some of its parameters."""
        return replace(self, given={**self.given, **given})

    def choices(self, rule: ParameterRule) -> Choices:
        """Return the choices of a parameter, each with the rows that it would leave, all others as they are.

        A choice that cannot be asked has no count.
        """
        found, known = [], self.rows_of_values(rule)
        for value, label, depth in possible(self.site, rule):
            if value in known:
                count: int | None = len(known[value])
            else:
                chosen = self.given_also({rule.name: [value]})
                count = chosen.count() if chosen.is_askable else None
            found.append(Choice(value, label, depth, count))
        return Choices(rule.name, rule.label or rule.name, rule.many, tuple(found))

    def rows_of_values(self, rule: ParameterRule) -> dict[str, list[str]]:
        """Return the ids of the rows that each value of a parameter leaves, all told by one question.

        That can be where the parameter is compared in a condition of its own: the rows of a value are then
        those of all other conditions that meet this one, too. Empty where it cannot be.
        """
        node = compared_alone(self.listing, rule.name)
        values = [value for value, _, _ in possible(self.site, rule)]
        if node is None or rule.type is None or rule.words or not values:
            return {}
        first = self.given_also({rule.name: [values[0]]})
        if not first.is_askable:
            return {}
        others = parts(first.plan.condition)
        own = [each for each in others if isinstance(each, Test) and each.span == node.span]
        if len(own) != 1 or not same_values(own[0].field.type, rule.type):
            return {}
        test = own[0]
        others = [each for each in others if each is not test]
        if any(each.field == test.field for part in others for each in tests_in(part)):
            return {}  # together they may be what nothing can meet, which is to be told
        resolver = Resolver(self.site.dataset, self.site.clock)
        named = resolver.values(test.field, values)
        plan = replace(first.plan, condition=AllOf(tuple(others)) if others else None)
        tests = [replace(test, values=(value,)) for value in named]
        found = self.site.executor.parted(plan, tests, without=first.left_out)
        return dict(zip(values, found, strict=True))


def as_lists(given: Mapping[str, str | Sequence[str]]) -> dict[str, Sequence[str]]:
    """Return given values as lists: people give one text, or several."""
    return {name: [value] if isinstance(value, str) else value for name, value in given.items()}


def resolved(
    site: Site, text: str, changes: str = "", *, comments: bool = False, place: Place = _TRIED
) -> Listing:
    """Return the listing that a text names, or the question that it is, with changes from a place.

    ``comments`` lets the question have comments, as in files. Raises NoSuchName, and QuestionError where
    the changes cannot be read.
    """
    key = text, changes, comments, place
    return site.questions.get(key, lambda: _resolved(site, text, changes, comments=comments, place=place))


def _resolved(site: Site, text: str, changes: str, *, comments: bool, place: Place) -> Listing:
    """Return the listing that a text names, or the question that it is, with its changes."""
    word = text.strip()
    is_name = len(word) <= _LONGEST_NAME and can_be_called(word)
    is_name = is_name and (not is_keyword(word) or word in site.library.names)
    found = listing_named(site, word) if is_name else _written(text, comments=comments, place=place)
    if not changes:
        return found
    wrong = read_changes(changes)[1]
    if wrong:
        located = [replace(each, place=each.place or place) for each in wrong]
        raise QuestionError(changes, located if place != _TRIED else wrong)
    rule = ListingRule(found.name, place, ask=changes, lines={"ask": place})
    return changed_by(found, rule)


def listing_named(site: Site, name: str) -> Listing:
    """Return a listing by its name. Raises NoSuchName."""
    if name in site.library.names:
        return site.library.get(name)
    near = nearest(name, site.library.names)
    known = f"Listings: {', '.join(site.library.names)}." if site.library.names else "The site has none."
    hint = f"{known} A question begins with from or where."
    if not near and (entries := site.dataset.entries_near(name, (), site.clock.now)):
        hint = f"To explain the entry {entries[0]}, name a listing first: elenchus why LISTING {entries[0]}."
    raise NoSuchName([Problem("unknown-listing", f"there is no listing {quoted(name)}", hint, near=near)])


def _written(text: str, *, comments: bool, place: Place) -> Listing:
    """Return a question without a name."""
    question, problems = read(text, comments=comments)
    return Listing("", place, text, question, problems=tuple(problems))
