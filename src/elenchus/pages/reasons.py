"""Why a section shows what it shows on its page, with all that stands there already left out."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.asking.names import row_of
from elenchus.engine.explain import explain
from elenchus.engine.verdict import judge
from elenchus.errors import NoSuchName, Problem, SiteError
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from elenchus.engine.explain import Explanation
    from elenchus.engine.verdict import Verdict
    from elenchus.pages.sections import Placed, Section
    from elenchus.site.site import Site

__all__ = ["section_named", "why_entry_here", "why_section"]


def section_named(found: Placed, name: str) -> Section:
    """Return the section of a page by its listing, its title or its number. Raises NoSuchName, SiteError."""
    names = {section.slug: section for section in found.sections}
    names |= {section.name: section for section in found.sections}
    if name not in names:
        near = nearest(name, names)
        hint = f"Did you mean {either(near)}?" if near else f"Its sections: {', '.join(names)}."
        message = f"the page {found.page.rule.name} has no section {quoted(name)}"
        raise NoSuchName([Problem("unknown-page", message, hint)])
    section = names[name]
    if section.answer is None:
        raise SiteError(section.problems)
    return section


def why_section(site: Site, section: Section) -> Explanation:
    """Return why a section of a page shows what it shows."""
    listing, plan, _ = section.parts
    return explain(plan, site.dataset, site.clock, listing.text, without=section.without)


def why_entry_here(site: Site, section: Section, name: str) -> Verdict:
    """Return what becomes of an entry (or a term) in a section of a page. Raises NoSuchName."""
    _, plan, _ = section.parts
    row = row_of(site.dataset, plan.taxonomy, name)
    return judge(plan, site.dataset, site.clock, row, without=section.without)
