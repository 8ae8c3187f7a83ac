"""What all checks look at: listings with values that let them be asked, and all pages with their sections."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from elenchus.asking.choices import possible
from elenchus.asking.query import Query
from elenchus.errors import About, ElenchusError
from elenchus.pages.book import Book
from elenchus.pages.sections import given_to, placed
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from elenchus.errors import Problem
    from elenchus.pages.book import Page
    from elenchus.pages.sections import Placed
    from elenchus.plan.nodes import Plan
    from elenchus.site.inheritance import Listing
    from elenchus.site.site import Site

__all__ = ["Survey"]


@dataclass
class Survey:
    """A site with its pages, and the plans of its listings as far as they can be made.

    ``tick`` is called for each page that is made.
    """

    site: Site
    tick: Callable[[], None] = lambda: None
    plans: dict[str, tuple[Plan | None, tuple[Problem, ...]]] = field(default_factory=dict)
    known: dict[str, Placed] = field(default_factory=dict)

    @cached_property
    def book(self) -> Book:
        """The pages of the site."""
        return Book(self.site, in_bulk=True)

    @cached_property
    def listings(self) -> list[Listing]:
        """All listings, with what they inherit."""
        return [self.site.library.get(name) for name in self.site.library.names]

    def narrowed(self, paths: frozenset[str]) -> Survey:
        """Return the same with the pages of some paths only; what is known of them stays known."""
        found = Survey(self.site, self.tick, self.plans, self.known)
        found.__dict__["book"] = self.book.narrowed(paths)
        return found

    @cached_property
    def placed(self) -> list[Placed]:
        """The pages that are looked at, with their sections."""
        found = []
        for page in self.book.pages:
            if self.book.only is None or page.path in self.book.only:
                found.append(self.laid_out(page))
            self.tick()
        return found

    def laid_out(self, page: Page) -> Placed:
        """Return a page with its sections, worked out once."""
        if page.path not in self.known or self.known[page.path].page is not page:
            self.known[page.path] = placed(self.book, page)
        return self.known[page.path]

    @cached_property
    def on_pages(self) -> dict[str, dict[str, Sequence[str]]]:
        """What pages give to each listing, the first that does."""
        found: dict[str, dict[str, Sequence[str]]] = {}
        for name, rule in self.book.rules.items():
            for page in self.book.of(name).pages:
                if all(section.listing in found for section in rule.sections if section.listing):
                    break
                for section in self.laid_out(page).sections:
                    listing = section.rule.listing
                    if listing and section.query and listing not in found:
                        found[listing] = given_to(page, section.rule)
        return found

    @property
    def questions(self) -> Iterator[tuple[Listing, Plan]]:
        """The questions that stand in pages: of page sets, and of sections that are no mere listing."""
        for name in self.book.rules:
            made = self.book.of(name)
            if made.query and not made.query.listing.name:
                yield made.query.listing, made.query.plan
        for name in self.book.rules:
            for page in self.book.of(name).pages[:1]:
                for section in self.laid_out(page).sections:
                    if section.rule.ask and section.query:
                        yield section.query.listing, section.query.plan

    def sample(self, listing: Listing) -> dict[str, Sequence[str]]:
        """Return values with which a listing can be asked: those of a page, or the first choices."""
        given = dict(self.on_pages.get(listing.name, {}))
        for name, optional in listing.parameter_names.items():
            rule = listing.parameters[name][0] if name in listing.parameters else None
            if rule is None or rule.default or optional or any(given.get(name, ())):
                continue
            first = next((value for value, _, _ in possible(self.site, rule)), None)
            if first is not None:
                given[name] = [first]
        return given

    def plan(self, listing: Listing) -> Plan | None:
        """Return the plan of a listing; None where something is wrong with it, or it lacks a value."""
        return self.checked(listing)[0]

    def problems(self, listing: Listing) -> tuple[Problem, ...]:
        """Return what is wrong with the question of a listing."""
        return self.checked(listing)[1]

    def checked(self, listing: Listing) -> tuple[Plan | None, tuple[Problem, ...]]:
        """Return the plan of a listing and what is wrong with it."""
        if listing.name not in self.plans:
            try:
                query = Query(self.site, listing, self.sample(listing))
                self.plans[listing.name] = query.plan, ()
            except ElenchusError as error:
                # An absent value is not the listing's fault: nobody knows what it will be given.
                wrong = tuple(each for each in error.problems if each.about is not About.ABSENCE)
                self.plans[listing.name] = None, wrong
        return self.plans[listing.name]
