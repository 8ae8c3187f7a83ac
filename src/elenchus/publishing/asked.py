"""What a section asks on the pages of a set: what is the same on all of them, and what each page decides."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from elenchus.asking.alone import compared_with
from elenchus.asking.here import names_of_here
from elenchus.asking.query import Query
from elenchus.language.nodes import Compare, Related
from elenchus.language.tree import walk as walk_tree
from elenchus.pages.book import section_listing
from elenchus.pages.sections import free_parameters, given_to
from elenchus.plan.nodes import ListedIn, SharesTerms, Test
from elenchus.plan.walking import parts, walk

if TYPE_CHECKING:
    from collections.abc import Collection, Mapping, Sequence

    from elenchus.errors import Span
    from elenchus.pages.book import Page
    from elenchus.plan.nodes import Condition, Plan
    from elenchus.site.inheritance import Listing
    from elenchus.site.pages import SectionRule
    from elenchus.site.site import Site

__all__ = ["SectionAsked", "Slot"]

_WITH_SPAN = (Test, SharesTerms, ListedIn)


class Slot(NamedTuple):
    """A condition that each page gives a value to: by the parameter of a name."""

    condition: Test | SharesTerms
    name: str


class SectionAsked(NamedTuple):
    """What a section asks on the pages of a set: on one of them as a plan, its parts by what they depend on.

    ``fixed`` are the same on all pages. A part that is neither there nor a slot is taken to be met.
    ``is_chosen`` says that visitors give values to it, and are told what each choice leaves.
    """

    rule: SectionRule
    listing: Listing
    plan: Plan
    names: frozenset[str]
    fixed: tuple[Condition, ...]
    slots: tuple[Slot, ...]
    is_chosen: bool

    @classmethod
    def of(cls, site: Site, rule: SectionRule, page: Page) -> SectionAsked:
        """Return what a section asks, seen from one of its pages. Raises QuestionError, NoSuchName."""
        listing = section_listing(site, rule)
        names = names_of_here(site, listing)
        plan = Query(site, listing, given_to(page, rule, None, names)).plan
        free = free_parameters(listing, rule)
        loose = _loose(listing, {*names, *rule.given, *free})
        fixed, slots = _parted(plan, loose) if loose is not None else ((), ())
        return cls(rule, listing, plan, names, fixed, slots, bool(free))

    def given(self, page: Page) -> Mapping[str, Sequence[str]]:
        """Return the values that a page gives."""
        return given_to(page, self.rule, None, self.names)


class _Use(NamedTuple):
    """A parameter that a condition compares with, and the field that it compares, if it is one.

    The name is empty if a page cannot be decided by it: others stand at the same place, or it is declared.
    """

    name: str
    field: str


def _loose(listing: Listing, names: Collection[str]) -> dict[Span, _Use] | None:
    """Return which conditions depend on parameters, by their places.

    None where a parameter stands elsewhere, so that nothing is known to be the same on all pages.
    """
    compared = compared_with(listing.question, names)
    if compared is None:
        return None
    where = [node.span for node in walk_tree(listing.question.where) if isinstance(node, Compare | Related)]
    found: dict[Span, _Use] = {}
    for node, use in compared:
        is_sure = where.count(node.span) == 1 and use.name not in listing.parameters
        field = ".".join(node.path.names) if isinstance(node, Compare) else ""
        found[node.span] = _Use(use.name if is_sure else "", field)
    return found


def _parted(plan: Plan, loose: Mapping[Span, _Use]) -> tuple[tuple[Condition, ...], tuple[Slot, ...]]:
    """Return the parts of a condition that depend on no page, and those that one value of a page decides."""
    fixed: list[Condition] = []
    slots: list[Slot] = []
    spans = [each.span for each in walk(plan.condition) if isinstance(each, _WITH_SPAN)]
    for each in parts(plan.condition):
        inner = {one.span for one in walk(each) if isinstance(one, _WITH_SPAN)}
        if inner.isdisjoint(loose):
            fixed.append(each)
        elif isinstance(each, Test | SharesTerms) and spans.count(each.span) == 1:
            use = loose[each.span]
            if use.name and use.field == (each.field.name if isinstance(each, Test) else ""):
                slots.append(Slot(each, use.name))
    return tuple(fixed), tuple(slots)
