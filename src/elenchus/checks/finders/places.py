"""Checks of pages: addresses, sections that are empty or short, entries and headings that stand twice."""

from __future__ import annotations

from collections import defaultdict
from typing import TYPE_CHECKING

from elenchus.checks.addresses import page_problems
from elenchus.errors import Problem
from elenchus.schema.subject import ENTRIES, Subject
from elenchus.schema.types import Type
from elenchus.site.keys import SITE_FILE
from elenchus.site.toml import open_toml
from elenchus.values.texts import either, fold, quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.pages.section import Section
    from elenchus.pages.sections import Placed
    from elenchus.pages.survey import Survey

__all__ = ["find"]

_FEW = 4


def find(survey: Survey) -> Iterator[Problem]:
    """Yield what is wrong with the pages of a site, or odd about them."""
    yield from page_problems(survey.book, {each.page.path: each.pages for each in survey.placed})
    for page in survey.placed:
        yield from page.problems
    by_rule: dict[str, list[Placed]] = defaultdict(list)
    for page in survey.placed:
        by_rule[page.page.rule.name].append(page)
    for pages in by_rule.values():
        yield from _settings(pages[0])
        yield from _repeated(pages)
        yield from _same_headings(pages[0])
        for number in range(len(pages[0].sections)):
            yield from _sizes(pages, [page.sections[number] for page in pages])
        yield from _totals(pages)
    yield from _archives(survey)
    yield from _groups_without_pages(survey)
    yield from _kinds_without_pages(survey)


def _settings(page: Placed) -> Iterator[Problem]:
    """Yield settings of sections that have no effect."""
    paged = any(each.has_pages for each in page.sections)
    for section in page.sections:
        if section.rule.pages_at and section.plan and not section.has_pages:
            message = f"pages_at means nothing for {section.label}: it has no “per page”"
            yield Problem("idle-setting", message, "Leave it out.", place=section.rule.place)
        if section.rule.on_every_page and (not paged or section.has_pages):
            message = (
                f"on_every_page means nothing for {section.label}: the page has no later pages without it"
            )
            yield Problem("idle-setting", message, "Leave it out.", place=section.rule.place)


def _repeated(pages: Sequence[Placed]) -> Iterator[Problem]:
    """Yield entries that stand twice on a page."""
    for page in pages:
        sections = [each for each in page.sections if each.takes_part]
        found: dict[str, list[Section]] = defaultdict(list)
        for section in sections:
            for name in section.ids:
                found[name].append(section)
        several = {name: where for name, where in found.items() if len(where) > 1}
        if several:
            name, where = next(iter(several.items()))
            labels = either(section.label for section in where).replace(" or ", " and ")
            more = f", and {len(several) - 1} more stand twice" if len(several) > 1 else ""
            message = f"{name} stands in {labels} of {_named(page, pages)}{more}"
            hint = "Write no_repeats = true, and the sections below are refilled."
            yield Problem("repeated-entry", message, hint, place=page.page.rule.place)
            return


def _named(page: Placed, pages: Sequence[Placed]) -> str:
    """Return what messages call a page: by its address where it is one of several."""
    return page.page.rule.name if len(pages) == 1 else f"/{page.page.address}"


def _same_headings(page: Placed) -> Iterator[Problem]:
    """Yield sections of a page that have the same heading over different questions."""
    found: dict[str, Section] = {}
    for section in page.sections:
        if not section.title or not section.listing:
            continue
        first = found.setdefault(fold(section.title), section)
        if first is not section and first.listing and first.listing.question != section.listing.question:
            message = f"{first.label} and {section.label} both stand under {quoted(section.title)}"
            hint = "Give one of the sections a title of its own."
            yield Problem("same-heading", message, hint, place=section.rule.place)


def _sizes(pages: Sequence[Placed], sections: Sequence[Section]) -> Iterator[Problem]:
    """Yield what is remarkable in the size of one section over all pages of its rule."""
    answered = [
        (page, each) for page, each in zip(pages, sections, strict=True) if each.answer and each.listing
    ]
    empty = [page for page, each in answered if _is_empty(each)]
    if empty:
        yield _emptiness(sections[0], empty, pages)
    for page, section in answered:
        if len(pages) == 1 and not _is_empty(section):
            yield from _shortage(section)
        yield from _at_the_edge(page, section, pages)


def _is_empty(section: Section) -> bool:
    """Say whether a section has no rows at all."""
    answer = section.answer
    return bool(answer and not answer.total and not answer.groups and not answer.choices)


def _emptiness(section: Section, empty: Sequence[Placed], pages: Sequence[Placed]) -> Problem:
    """Return the problem of a section that is empty on some pages."""
    listing = section.listing
    rule = listing.setting("if_empty") if listing else ""
    code = {"hide": "hidden-section", "message": "hidden-section", "fail": "forbidden-empty"}.get(
        rule, "empty-section"
    )
    if len(pages) == 1:
        message = f"{section.label} is empty on {pages[0].page.rule.name}"
    else:
        names = ", ".join(f"/{page.page.address}" for page in empty[:_FEW])
        more = f" and {len(empty) - _FEW} more" if len(empty) > _FEW else ""
        message = f"{section.label} is empty on {len(empty)} of {len(pages)} pages: {names}{more}"
    done = {"hide": "; it is hidden there", "message": "; its message stands there"}.get(rule, "")
    hint = "Say what is to be done: if_empty = hide, message or fail."
    if rule or not (listing and listing.name):
        hint = "" if rule else "A listing of its own could say what is to be done: if_empty."
    return Problem(code, message + done, hint, place=section.rule.place)


def _shortage(section: Section) -> Iterator[Problem]:
    """Yield the problem of a section with fewer rows than it has room for."""
    plan, answer = section.plan, section.answer
    if plan is None or answer is None or not section.takes_part:
        return
    if plan.fill and answer.total < plan.fill.at_least:
        message = f"{section.label} has {answer.total} rows, and at least {plan.fill.at_least} are wanted"
        hint = f"{plan.fill.rows.name} has no more to fill it up with."
        yield Problem("short-section", message, hint, place=section.rule.place)
    elif plan.limit is not None and answer.total < plan.limit:
        message = f"{section.label} has {answer.total} rows, and room for {plan.limit}"
        hint = "Widen the question, or fill it up with fill_from and at_least."
        yield Problem("short-section", message, hint, place=section.rule.place)


def _at_the_edge(page: Placed, section: Section, pages: Sequence[Placed]) -> Iterator[Problem]:
    """Yield sections whose last page is exactly full."""
    answer = section.answer
    if answer is None or not answer.per_page or answer.groups is not None:
        return
    if answer.total and answer.total % answer.per_page == 0:
        full = "exactly one page" if answer.pages == 1 else f"exactly {answer.pages} pages"
        message = f"{section.label} fills {full} of {answer.per_page} on {_named(page, pages)}"
        hint = (
            f"The next entry makes page {answer.pages + 1}: elenchus pages {page.page.rule.name} --as-if 1."
        )
        hint = hint if len(pages) == 1 else f"The next entry makes page {answer.pages + 1}."
        yield Problem("page-edge", message, hint, place=section.rule.place)


def _totals(pages: Sequence[Placed]) -> Iterator[Problem]:
    """Yield pages of groups whose first section does not show the rows that the group counts."""
    for page in pages:
        sections = [each for each in page.sections if each.takes_part and each.answer]
        if page.page.count is None or not sections or not sections[0].answer:
            continue
        total = sections[0].answer.total
        if total != page.page.count:
            where = f"{sections[0].label} of /{page.page.address}"
            message = f"{where} has {total} rows, and its group {page.page.count}"
            hint = "Ask the same in each and in the section."
            yield Problem("group-count-differs", message, hint, place=sections[0].rule.place)
            return


def _archives(survey: Survey) -> Iterator[Problem]:
    """Yield groups that count other rows than the page does to which they link."""
    counts = {page.address: page.count for page in survey.book.pages}
    told: set[tuple[str, int]] = set()
    for page in survey.placed:
        for section in page.sections:
            key = (page.page.rule.name, section.number)
            answer = section.answer
            if answer is None or not answer.groups or key in told:
                continue
            for group in answer.groups:
                address = survey.book.address_of_group(answer, group)
                count = counts.get(address)
                if count is not None and count != group.count and page.page.count is None:
                    told.add(key)
                    message = (
                        f"{section.label} counts {group.count} for {group.label}, and /{address} has {count}"
                    )
                    hint = "Ask the same rows in the archive as in the page set."
                    yield Problem("group-count-differs", message, hint, place=section.rule.place)
                    break


def _groups_without_pages(survey: Survey) -> Iterator[Problem]:
    """Yield archives whose counts lead nowhere: no page is about any of their groups."""
    told: set[tuple[str, int]] = set()
    for page in survey.placed:
        for section in page.sections:
            answer, plan = section.answer, section.plan
            key = (page.page.rule.name, section.number)
            if answer is None or plan is None or plan.per_group != 0 or not answer.groups or key in told:
                continue
            told.add(key)
            if _leads_somewhere(survey, section):
                continue
            by = ", ".join(answer.grouped_by)
            message = f"{section.label} counts by {by}, and no page is about any of these groups"
            hint = f'Write a page set: each = "… group by {by}" and an address with {{key}}.'
            yield Problem("group-without-page", message, hint, place=section.rule.place)


def _leads_somewhere(survey: Survey, section: Section) -> bool:
    """Say whether a group of an archive has a page: its own, or that of its term or entry."""
    answer, plan = section.answer, section.plan
    if answer is None or plan is None:
        return True
    if any(survey.book.address_of_group(answer, group) for group in answer.groups or ()):
        return True
    ref = plan.groups[-1].field
    if len(plan.groups) > 1 or ref.type.type not in (Type.TERM, Type.ENTRY):
        return False
    schema = survey.site.definition.schema
    kinds = ref.type.kinds or tuple(schema.kinds)
    patterns = (
        [schema.taxonomies[ref.type.taxonomy].address]
        if ref.type.taxonomy
        else [schema.kinds[name].address for name in kinds]
    )
    subject = Subject(ref.type.taxonomy)
    return any(patterns) or any(found == subject for found, _ in survey.book.by_row)


def _kinds_without_pages(survey: Survey) -> Iterator[Problem]:
    """Yield kinds that have public entries, and neither pages nor an address elsewhere."""
    if not survey.book.rules:
        return
    data, public = survey.site.dataset, survey.site.engine.view().visible
    heres = (page.here for page in survey.book.pages if page.here and page.here.subject)
    paged = {data.kind_of(here.number) for here in heres if here.subject == ENTRIES}
    addresses = data.core("address")
    for number, kind in enumerate(data.kind_names):
        rows = public & (data.entries.kinds == number)
        lacking = int((rows & ~addresses.valid).sum())
        if lacking and kind not in paged:
            entries = "1 entry" if lacking == 1 else f"{lacking} entries"
            message = f"{kind} has {entries} and no page, so nothing links to them"
            hint = f'Write a page set with each = "from {kind}", or the address where their pages are.'
            place = open_toml(survey.site.definition.folder / SITE_FILE, SITE_FILE).place(("kinds", kind))
            yield Problem("kind-without-page", message, hint, place=place)
