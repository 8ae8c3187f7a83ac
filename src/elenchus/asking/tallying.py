"""How the counts of terms add up: entries that stand under several of them are counted more than once."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.asking.query import Query
from elenchus.frozen import Frozen
from elenchus.language.nodes import Literal, Question
from elenchus.plan.nodes import FieldRef, Test
from elenchus.plan.values import Resolver
from elenchus.site.inheritance import Listing

if TYPE_CHECKING:
    from collections.abc import Mapping

__all__ = ["MOST_TALLIED", "TermTally", "term_tally"]


MOST_TALLIED = 300  # terms of an answer that are counted together without being asked for


class TermTally(Frozen):
    """The entries of the terms that a question finds, those of terms below them left aside.

    ``counts`` are the terms with the entries of each, ``distinct`` how many entries these are together;
    ``several`` are the ids of those under more than one of the terms, with these.
    """

    taxonomy: str
    counts: tuple[tuple[str, int], ...]
    distinct: int
    several: Mapping[str, tuple[str, ...]]

    @property
    def total(self) -> int:
        """The sum of the counts."""
        return sum(count for _, count in self.counts)


def term_tally(query: Query) -> TermTally | None:
    """Return how the counts of the terms of an answer add up, on all its pages; None where it has entries.

    What is not public counts where the question includes it.
    """
    plan, site = query.plan, query.site
    if not plan.subject.is_terms:
        return None
    name = plan.subject.taxonomy
    rules = site.dataset.schema.taxonomies[name]
    question = Question(unpublished=query.listing.question.unpublished)
    entries = Query(site, Listing("", query.listing.place, question=question)).plan
    field = FieldRef(name, rules.field_type)
    resolver = Resolver(site.dataset, site.clock, unpublished=plan.unpublished)
    terms = query.ids()
    tests = [Test(field, "=", (resolver.value(field, Literal(term)),)) for term in terms]
    found = site.executor.parted(entries, tests)
    under: dict[str, list[str]] = {}
    for term, ids in zip(terms, found, strict=True):
        for each in ids:
            under.setdefault(each, []).append(term)
    several = {each: tuple(names) for each, names in sorted(under.items()) if len(names) > 1}
    return TermTally(name, tuple(zip(terms, map(len, found), strict=True)), len(under), several)
