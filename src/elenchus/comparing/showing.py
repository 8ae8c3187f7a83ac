"""What a site shows at one moment: the rows of each listing and section, the addresses of its pages."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from elenchus.asking.here import HERE
from elenchus.asking.query import Query
from elenchus.errors import ElenchusError
from elenchus.frozen import Working
from elenchus.pages.paths import address_of, later_page
from elenchus.pages.survey import Survey
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

    from elenchus.pages.book import Page
    from elenchus.pages.section import Section
    from elenchus.pages.sections import Placed
    from elenchus.site.inheritance import Listing
    from elenchus.site.site import Site

__all__ = ["Showing", "name_with", "sample_for", "sections_of"]


def sections_of(pages: Iterable[Placed]) -> Iterator[tuple[str, Page, Section]]:
    """Yield the sections that list something on pages that visitors can see.

    Each is called by the address of its page and its name, a second one of one name on a page by a number.
    """
    times: Counter[str] = Counter()
    for page in pages:
        for section in page.sections if not page.page.rule.private else ():
            if section.answer and section.takes_part:
                name = f"/{page.page.address} {section.rule.listing or section.rule.title or section.name}"
                times[name] += 1
                yield name + (f" ({times[name]})" if times[name] > 1 else ""), page.page, section


def sample_for(survey: Survey, listing: Listing) -> Mapping[str, Sequence[str]] | None:
    """Return values with which a listing can be asked; None for one that asks about the row of a page."""
    given = {name: texts for name, texts in survey.sample(listing).items() if name in listing.parameter_names}
    return None if any(name.split(".")[0] == HERE for name in listing.parameter_names) else given


def name_with(listing: Listing, given: Mapping[str, Sequence[str]]) -> str:
    """Return what a listing is called with some values: ``by-habitat with habitat=shore``."""
    told = ", ".join(f"{name}={text}" for name, texts in given.items() for text in texts)
    return f"{listing.name} with {told}" if told else listing.name


class Showing(Working):
    """What a site shows. Each part is worked out when it is asked for.

    ``tick`` is called for each page that is made.
    """

    site: Site
    tick: Callable[[], None] = lambda: None
    like: Showing | None = None  # the other side of a comparison, whose values listings are asked with

    def beside(self, site: Site) -> Showing:
        """Return another state that is compared with this one: listings are asked with the same values."""
        return Showing(site, self.tick, self)

    def narrowed(self, paths: frozenset[str], like: Showing | None = None) -> Showing:
        """Return the same with the pages of some paths only."""
        found = Showing(self.site, self.tick, like)
        found.__dict__["survey"] = self.survey.narrowed(paths)
        return found

    @cached_property
    def survey(self) -> Survey:
        """The pages of the site, and its listings with values that let them be asked."""
        return Survey(self.site, self.tick)

    @cached_property
    def listings(self) -> dict[str, Sequence[str]]:
        """The ids of the rows of each listing, by its name; those that cannot be asked are left out."""
        found: dict[str, Sequence[str]] = {}
        for listing in self.survey.listings:
            given = self.given_to(listing)
            if given is None:
                continue
            try:
                found[name_with(listing, given)] = Query(self.site, listing, given).ids()
            except ElenchusError:  # which check tells
                continue
        return found

    def given_to(self, listing: Listing) -> Mapping[str, Sequence[str]] | None:
        """Return the values that a listing is asked with; None for one that asks about the row of a page.

        That has no answer of its own: what sections show on pages is told with these.
        """
        if self.like and listing.name in self.like.samples:
            return self.like.samples[listing.name]
        return self.samples.get(listing.name)

    @cached_property
    def samples(self) -> dict[str, Mapping[str, Sequence[str]] | None]:
        """The values with which each listing can be asked."""
        return {listing.name: sample_for(self.survey, listing) for listing in self.survey.listings}

    @cached_property
    def sections(self) -> dict[str, Sequence[str]]:
        """The ids of the rows of each section, by the address of its page and its name."""
        return {name: section.all_ids for name, _, section in sections_of(self.survey.placed)}

    @cached_property
    def addresses(self) -> dict[str, str]:
        """The title of each page that visitors can see, by its address, its later pages among them."""
        found: dict[str, str] = {}
        for each in self.survey.placed:
            if each.page.rule.private:
                continue
            found[f"/{each.page.address}"] = each.page.title
            for section in each.sections:
                pages = section.answer.pages if section.answer and section.has_pages else 1
                for number in range(2, pages + 1):
                    path = later_page(each.page.path, number, section.rule.pages_at)
                    found[f"/{address_of(path)}"] = f"{each.page.title} ({number})"
        return found

    def titles(self, names: Iterable[str]) -> dict[str, str]:
        """Return the titles of entries, as far as they are here."""
        rows = {name: self.site.dataset.row_of_id(name) for name in names}
        titles = self.site.engine.view().titles
        return {name: titles.item(row) or name for name, row in rows.items() if row >= 0}
