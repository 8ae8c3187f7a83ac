"""Checks of what publishing needs: templates, files beside pages, forms, the pages before and after."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.asking.alone import independent
from elenchus.asking.query import Query
from elenchus.errors import ElenchusError, Problem
from elenchus.forms import Need, beside_names, form
from elenchus.pages.paths import file_of
from elenchus.pages.sections import free_parameters
from elenchus.publishing.outputs import published_file
from elenchus.rendering.controls import MOST_ROWS
from elenchus.rendering.templates import Templates
from elenchus.site.keys import SITE_FILE
from elenchus.site.toml import open_toml
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.pages.section import Section
    from elenchus.pages.sections import Placed
    from elenchus.pages.survey import Survey

__all__ = ["find"]


def find(survey: Survey) -> Iterator[Problem]:
    """Yield what would keep a site from being published, or be missing on its pages."""
    templates = Templates(survey.site.definition.folder, {})
    yield from templates.problems()
    for listing in survey.listings:
        layout = str(listing.setting("layout"))
        if "." in layout and not templates.has(layout):
            yield templates.missing(layout, listing.settings["layout"][1].place)
    for rule in survey.book.rules.values():
        if rule.template and not templates.has(rule.template):
            yield templates.missing(rule.template, rule.at("template"))
        yield from _around(survey, rule.name)
    yield from _moves(survey)
    told: set[str] = set()
    for page in survey.placed:
        if page.page.rule.name not in told:
            told.add(page.page.rule.name)
            yield from _beside(survey, page)
            for section in page.sections:
                yield from _forms(section)


def _around(survey: Survey, name: str) -> Iterator[Problem]:
    """Yield why the listing in whose order pages stand cannot be asked."""
    rule = survey.book.rules[name]
    if not rule.within:
        return
    try:
        _ = Query(survey.site, survey.site.library.get(rule.within)).plan
    except ElenchusError as error:
        for problem in error.problems:
            message = f"{rule.within} cannot be asked for the order of pages: {problem.message}"
            yield Problem(
                "unordered-pages", message, problem.advice, place=rule.at("within"), near=problem.near
            )


def _moves(survey: Survey) -> Iterator[Problem]:
    """Yield old addresses of the site file that lead round in a circle, or to no page."""
    definition = survey.site.definition
    if not definition.moved:
        return
    targets = {file_of(old.lstrip("/")): file_of(new.lstrip("/")) for old, new in definition.moved.items()}
    known = {file_of(page.path) for page in survey.book.pages if not page.rule.private}
    toml = open_toml(definition.folder / SITE_FILE, SITE_FILE)
    for old, new in definition.moved.items():
        seen = [file_of(old.lstrip("/"))]
        while seen[-1] in targets and targets[seen[-1]] not in seen:
            seen.append(targets[seen[-1]])
        place = toml.place(("publish", "moved", old))
        if seen[-1] in targets:
            message = f"{quoted(old)} leads to {quoted(new)}, and from there back again"
            yield Problem("moved-in-a-circle", message, "Name the page where it ends.", place=place)
        elif seen[-1] not in known and not published_file(survey.site, seen[-1], ()):
            near = nearest(new, [f"/{page.address}" for page in survey.book.pages if page.address])
            message = f"{quoted(old)} leads to {quoted(new)}, where no page stands"
            yield Problem("moved-nowhere", message, "Name a page that is published.", place=place, near=near)


def _beside(survey: Survey, page: Placed) -> Iterator[Problem]:
    """Yield files beside a page that cannot be made."""
    for section in page.sections:
        place = section.rule.place
        of_entries = [name for name in section.rule.beside if Need.ENTRIES in form(name).needs]
        if of_entries and section.plan and section.plan.subject.is_terms:
            message = f"{section.label} has terms, and no {either(of_entries)} can be made of them"
            others = [name for name in beside_names() if Need.ENTRIES not in form(name).needs]
            yield Problem("no-feed", message, f"Terms can be {either(others)}.", place=place)
        placed = [name for name in section.rule.beside if Need.ADDRESS in form(name).needs]
        if placed and not survey.site.definition.address:
            message = f"{section.label} has no {either(placed)}: the site has no address, and a feed needs it"
            yield Problem("no-address", message, 'Write address = "https://…/" below [site].', place=place)


def _forms(section: Section) -> Iterator[Problem]:
    """Yield sections whose choices visitors have on the preview, but not on published pages."""
    if section.answer is None or section.listing is None:
        return
    names = free_parameters(section.listing, section.rule)
    if not names:
        return
    reason = ""
    if not independent(section.listing, names):
        reason = f"one of {either(':' + name for name in names)} does more than choose rows by itself"
    elif section.answer.total > MOST_ROWS:
        reason = f"it has {section.answer.total} rows, and {MOST_ROWS} are the most that a page holds for it"
    if reason:
        message = f"visitors of published pages cannot choose in {section.label}: {reason}"
        hint = "There each parameter stands in a condition of its own, joined by and, with ? and no default."
        yield Problem("choices-on-preview-only", message, hint, place=section.rule.place)
