"""Finding a section of a page by the names that people type."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.errors import NoSuchName, Problem, SiteError
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from elenchus.pages.section import Section
    from elenchus.pages.sections import Placed

__all__ = ["section_named"]


def section_named(found: Placed, name: str) -> Section:
    """Return the section of a page by its listing, its title or its number. Raises NoSuchName, SiteError."""
    names = {section.slug: section for section in found.sections}
    names |= {section.name: section for section in found.sections}
    if name not in names:
        near = nearest(name, names)
        hint = f"Its sections: {', '.join(names)}."
        message = f"the page {found.page.rule.name} has no section {quoted(name)}"
        raise NoSuchName([Problem("unknown-page", message, hint, near=near)])
    section = names[name]
    if section.answer is None:
        raise SiteError(section.problems)
    return section
