"""The choices of a parameter, each with the number of rows that it would leave."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.asking.parameters import ground, settled
from elenchus.engine.answer import Choice, Choices
from elenchus.engine.stages import select
from elenchus.engine.view import View
from elenchus.plan.check import check
from elenchus.table.schema import Type

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.site.inheritance import Listing
    from elenchus.site.listings import ParameterRule
    from elenchus.site.site import Site

__all__ = ["choices_of", "possible"]


def choices_of(
    site: Site, listing: Listing, rule: ParameterRule, given: Mapping[str, Sequence[str]]
) -> Choices:
    """Return the choices of a parameter with their counts, the other parameters as given.

    A choice that cannot be asked has no count.
    """
    found = tuple(
        Choice(value, label, depth, counted(site, listing, {**given, rule.name: [value]}))
        for value, label, depth in possible(site, rule)
    )
    return Choices(rule.name, rule.label or rule.name, rule.many, found)


def possible(site: Site, rule: ParameterRule) -> Iterator[tuple[str, str, int]]:
    """Yield each value that a parameter can have, with its label and its depth in a tree."""
    data = site.dataset
    if rule.words:
        yield from ((word, word, 0) for word in rule.words)
    elif rule.type and rule.type.type is Type.TERM:
        taxonomy = data.taxonomies[rule.type.taxonomy]
        hidden = data.hidden_terms(taxonomy.name, site.clock.now)
        for number, (term, label) in enumerate(zip(taxonomy.terms, taxonomy.labels, strict=True)):
            if number not in hidden:
                yield label, term.name, len(term.path) - 1
    elif rule.type and rule.type.type is Type.ENTRY:
        view = View(data, site.clock.now)
        for row, name in enumerate(data.entries.ids):
            if view.visible[row] and rule.type.kind in ("", data.kind_of(row)):
                yield name, view.titles.item(row) or name, 0
    elif rule.type and rule.type.type is Type.YESNO:
        yield from (("yes", "yes", 0), ("no", "no", 0))


def counted(site: Site, listing: Listing, given: Mapping[str, Sequence[str]]) -> int | None:
    """Return how many rows a listing has with some values; None where it cannot be asked."""
    asked = settled(site, listing, given)
    plan, problems = check(asked, ground(site))
    return None if problems else len(select(plan, site.dataset, site.clock).rows)
