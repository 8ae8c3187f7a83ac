"""A section as it stands on a page."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.errors import SiteError
from elenchus.frozen import Frozen
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from elenchus.asking.query import Query
    from elenchus.errors import Problem
    from elenchus.plan.answer import Answer
    from elenchus.plan.nodes import Plan
    from elenchus.site.inheritance import Listing
    from elenchus.site.pages import SectionRule

__all__ = ["Section"]


class Section(Frozen):
    """A section as it stands on a page.

    ``number`` counts from 0 in the written order, ``turn`` in the order of choosing. ``query`` is what it
    asks, leaving out what stands in a section that chose before; ``answer`` is the first page of its rows;
    both are None where a problem keeps it from being asked. ``above`` are the ids of the rows of sections
    that chose before, each with the number of the section where it stands, where the page wants no repeats.
    """

    number: int
    turn: int
    rule: SectionRule
    query: Query | None = None
    answer: Answer | None = None
    takes_part: bool = False
    above: tuple[tuple[str, int], ...] = ()
    problems: tuple[Problem, ...] = ()

    @property
    def asked(self) -> Query:
        """What the section asks. Raises SiteError where it could not be asked."""
        if self.query is None:
            raise SiteError(self.problems)
        return self.query

    @property
    def left_out(self) -> list[tuple[str, int]]:
        """The ids of rows that it would list as well, each with the number of the section where it stands.

        They are asked for now.
        """
        shown = dict(self.above)
        repeated = self.query.repeated() if self.query and self.query.left_out else ()
        return [(name, shown[name]) for name in repeated]

    @property
    def listing(self) -> Listing | None:
        """The listing of the section, with its changes."""
        return self.query.listing if self.query else None

    @property
    def plan(self) -> Plan | None:
        """The plan of its question."""
        return self.query.plan if self.query else None

    @property
    def title(self) -> str:
        """The heading of the section."""
        if self.rule.title:
            return self.rule.title
        return self.listing.title if self.listing and self.listing.name else ""

    @property
    def label(self) -> str:
        """What messages call the section: its listing, or its number."""
        if self.rule.listing:
            return f"the section {self.rule.listing}"
        return f"the section {quoted(self.rule.title)}" if self.rule.title else f"section {self.number + 1}"

    @property
    def name(self) -> str:
        """What tables call the section: its listing, or its number."""
        return self.rule.listing or f"section {self.number + 1}"

    @property
    def slug(self) -> str:
        """What addresses call the section: its listing, its title, or its number."""
        return self.rule.slug(self.number)

    @property
    def ids(self) -> list[str]:
        """The rows that stand on the first page."""
        return [row.id for row in self.answer.rows] if self.answer else []

    @property
    def all_ids(self) -> list[str]:
        """The rows on all its pages."""
        return self.query.ids() if self.query and self.has_pages else self.ids

    @property
    def has_pages(self) -> bool:
        """Say whether its rows are cut into pages of its own."""
        return bool(self.plan and self.plan.per_page)
