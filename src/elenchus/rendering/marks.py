"""Digests of what pages show: a page whose digest is as it was need not be drawn again.

A digest covers all that a page is made of: what its sections answer, by ids and values shown; the row that it
is about; the pages around it and above it; and, once it has been drawn, what was asked for on the way.
It is read from the answers, and never from a page that was drawn.
"""

from __future__ import annotations

from hashlib import blake2b
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.marks import mixed, row_marks, string_marks, text_marks
from elenchus.errors import ElenchusError
from elenchus.frozen import values_of
from elenchus.pages.sections import free_parameters
from elenchus.plan.nodes import Stored
from elenchus.rendering.controls import form_of
from elenchus.rendering.sections import choice_links, group_views, measure_views
from elenchus.rendering.values import Presented
from elenchus.schema.subject import terms_of
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Iterable

    from elenchus.asking.query import Query
    from elenchus.engine.columns.marks import Marks
    from elenchus.pages.book import Page
    from elenchus.pages.section import Section
    from elenchus.pages.sections import Placed
    from elenchus.plan.answer import Answer, Row
    from elenchus.rendering.renderer import Renderer
    from elenchus.rendering.rows import Desk
    from elenchus.rendering.trace import Trace
    from elenchus.rendering.values import Value
    from elenchus.rendering.views import MeasureView, Visit
    from elenchus.schema.subject import Subject

__all__ = ["PageMarks"]

_SIZE = 16  # bytes of a digest


def _digest(*parts: Any) -> bytes:
    """Return the digest of some parts: bytes as they are, all else as it is written."""
    found = blake2b(digest_size=_SIZE)
    for part in parts:
        told = part if isinstance(part, bytes) else _told(part).encode("utf-8", "surrogatepass")
        found.update(b"%d " % len(told) + told)
    return found.digest()


def _told(part: Any) -> str:
    """Return all that a part holds as a text: written out, a view is its title alone."""
    if isinstance(part, Presented):
        return f"{type(part).__name__}({', '.join(map(_told, values_of(part)))})"
    if isinstance(part, tuple | list):
        return f"[{', '.join(map(_told, part))}]"
    if isinstance(part, dict):
        return f"{{{', '.join(f'{key!r}: {_told(value)}' for key, value in part.items())}}}"
    return repr(part)


class _RowMarks:
    """The marks of the rows of a site as a desk shows them."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self.terms: dict[tuple[str, int], bytes] = {}
        self.named: dict[str, Marks] = {}

    @cached_property
    def references(self) -> Marks:
        """What a reference to each entry shows: its title, its link, whether there is a page to link."""
        desk, names = self.desk, self.desk.site.dataset.entries.names
        titles = desk.view.titles
        marks = np.append(string_marks(titles.lexicon.texts), np.uint64(0))[titles.places]
        ids = string_marks(names.id_texts.texts)[names.records]
        seen = desk.view.visible.astype(np.uint64)
        return mixed(mixed(mixed(ids) + marks) + self.links()) + seen

    def links(self) -> Marks:
        """Return what the link to each entry is: that of its page, or its own if its kind has no pages.

        It is what :meth:`Desk.address` gives, for all entries at once.
        """
        desk, data = self.desk, self.desk.site.dataset
        found = np.zeros(len(data.entries), dtype=np.uint64)
        paged = np.array([name in desk.paged for name in data.kind_names])[data.entries.kinds]
        of_own = desk.view.visible & ~paged
        if of_own.any():
            own = data.texts("address")
            found[of_own] = np.append(string_marks(own.lexicon.texts), np.uint64(0))[own.places][of_own]
        at, addresses = [], []
        for pages in desk.book.by_row.values():
            here = pages[0].here
            shown = next((page for page in pages if desk.may_show(page.rule.private)), None)
            if here and here.subject and here.subject.is_entries and shown:
                at.append(here.number)
                addresses.append(shown.address.encode("utf-8", "surrogatepass"))
        found[at] = text_marks(addresses)
        return found

    @cached_property
    def entries(self) -> Marks:
        """What each entry shows, wherever it stands."""
        return row_marks(self.desk.view, self.references, self.of_terms)

    @cached_property
    def numbers(self) -> list[int]:
        """The same as numbers, to be looked up one by one."""
        found: list[int] = self.entries.tolist()
        return found

    def of_terms(self, taxonomy: str) -> Marks:
        """Return what each term shows where it is a value: its name and its link."""
        if taxonomy not in self.named:
            subject = terms_of(taxonomy)
            rows = (self.desk.row(subject, name) for name in self.desk.view.ids(subject))
            told = (f"{row.id} {row.title} {row.address}".encode("utf-8", "surrogatepass") for row in rows)
            self.named[taxonomy] = text_marks(told)
        return self.named[taxonomy]

    def of_term(self, taxonomy: str, number: int) -> bytes:
        """Return what a term shows where it is a row."""
        if (taxonomy, number) not in self.terms:
            subject = terms_of(taxonomy)
            row = self.desk.row(subject, self.desk.view.ids(subject)[number])
            fields = self.desk.site.dataset.term_fields(taxonomy)
            values = [(name, row.raw(name), _words(row[name])) for name in fields]
            self.terms[taxonomy, number] = _digest(row.id, row.title, row.address, values)
        return self.terms[taxonomy, number]

    def of_rows(self, subject: Subject, numbers: Iterable[int]) -> bytes:
        """Return what some rows show, in their order."""
        if subject.is_entries:
            return self.entries[np.fromiter(numbers, dtype=np.intp)].tobytes()
        return b"".join(self.of_term(subject.taxonomy, number) for number in numbers)


def _measures(views: Iterable[MeasureView]) -> list[tuple[str, str, str]]:
    """Return what is shown of measures."""
    return [(view.label, str(view), view.shown.time) for view in views]


def _words(value: Value) -> list[tuple[str, ...]]:
    """Return what a value shows."""
    return [
        (str(each), getattr(each, "href", ""), getattr(each, "time", ""), getattr(each, "alt", ""))
        for each in value
    ]


class PageMarks:
    """The digests of the pages of a renderer."""

    def __init__(self, renderer: Renderer) -> None:
        self.renderer = renderer
        self.rows = {name: _RowMarks(desk) for name, desk in renderer.desks.items()}
        # By the identity of a section, which is kept with it, so that no other has it meanwhile.
        self.sections: dict[tuple[bool, int, int], tuple[Section, bytes, bool]] = {}
        self.rules: dict[str, bytes] = {}
        self.traces: dict[Any, bytes] = {}

    @cached_property
    def everywhere(self) -> bytes:
        """The digest of what all pages show: the site, its menu, its words, what its content means."""
        renderer, site = self.renderer, self.renderer.site
        definition, schema = site.definition, site.dataset.schema
        kinds = [(name, list(kind.fields.items())) for name, kind in schema.kinds.items()]
        columns = {name: list(site.dataset.term_fields(name)) for name in schema.taxonomies}
        return _digest(
            renderer.site_view,
            renderer.words,
            renderer.digests,
            renderer.root,
            definition.trusted,
            definition.remote,
            site.clock.zone.key,
            kinds,
            list(schema.taxonomies.items()),
            columns,
            sorted(renderer.desk.paged),
        )

    def page(self, found: Placed, visit: Visit) -> bytes:
        """Return the digest of a page, without what is asked for while it is drawn."""
        page, renderer = found.page, self.renderer
        rows = self.rows[page.rule.private]
        around = renderer.book.neighbours(page) if page.here else ()
        told = (
            (page.path, page.title, page.about, page.count, visit.number, visit.folder),
            [(other.title, other.address) if other else None for other in around],
            [(link.text, link.href) for link in renderer.trail(page)],
            [str(each) for each in found.problems],
            self.about(rows, page),
        )
        sections = [
            self.section(rows, found, section, visit)
            for section in found.sections
            if renderer.stands_on(section, visit)
        ]
        return _digest(self.everywhere, self.rule(page), told, *sections)

    def about(self, rows: _RowMarks, page: Page) -> str | int | bytes:
        """Return what stands for the row that a page is about."""
        here = page.here
        if here is None or here.subject is None:
            return here.name if here else ""
        if here.subject.is_entries:
            return rows.numbers[here.number]
        return rows.of_term(here.subject.taxonomy, here.number)

    def rule(self, page: Page) -> bytes:
        """Return the digest of what the file of a page says, wherever in it that stands."""
        rule = page.rule
        if rule.name not in self.rules:
            sections = [
                (each.slug(number), each.title, each.pages_at, each.on_every_page, each.beside)
                for number, each in enumerate(rule.sections)
            ]
            self.rules[rule.name] = _digest(rule.name, rule.template, rule.private, sections)
        return self.rules[rule.name]

    def section(self, rows: _RowMarks, found: Placed, section: Section, visit: Visit) -> bytes:
        """Return the digest of a section on one of the pages of a page."""
        number = visit.number if self.renderer.goes_on(section, visit) else 1
        key = rows.desk.unpublished, id(section), number
        if key not in self.sections:
            query = section.asked
            answer = section.answer if section.answer and number == 1 else query.answer(number)
            shown = self.answer(rows, query, answer)
            self.sections[key] = section, shown, bool(free_parameters(query.listing, section.rule))
        _, shown, is_free = self.sections[key]
        form = form_of(rows.desk, found, section, visit) if is_free else None
        if form is None:
            return shown
        rest = rows.of_rows(section.asked.plan.subject, (row.number for row in form.rest))
        return _digest(shown, form.action, form.controls, form.total, form.keys, rest)

    def answer(self, rows: _RowMarks, query: Query, answer: Answer) -> bytes:
        """Return the digest of a page of an answer, with the settings that say how it is shown."""
        listing, plan, desk = query.listing, query.plan, rows.desk
        settings = sorted((name, value) for name, (value, _) in listing.settings.items())
        far = [ref for ref in (*plan.fields, *plan.show) if not isinstance(ref.source, Stored)]
        values = [[_words(view.far_value(ref, row.values[ref.name])) for ref in far]
                  for row in answer.rows if far for view in [desk.row(plan.subject, row.id)]]  # fmt: skip
        groups = None
        if answer.groups is not None:
            groups = [
                (view.label, view.href, view.count, view.id, group.rows, group.keys, _measures(view.measures))
                for view, group in zip(group_views(desk, plan, answer), answer.groups, strict=True)
            ]
        choices = list(choice_links(desk, plan, answer.choices)) if answer.choices else []
        before = []
        if answer.page > 1 and answer.groups:
            before = [group.keys for group in (query.answer(answer.page - 1).groups or ())[-1:]]
        return _digest(
            f"{listing.name}\n{listing.title}\n{plan.per_group}\n{plan.subject.taxonomy}",
            settings,
            [(ref.name, ref.type) for ref in (*plan.fields, *plan.show)],
            f"{answer.total} {answer.matched} {answer.page} {answer.pages} {answer.per_page}",
            rows.of_rows(answer.subject, _numbers(desk, answer.subject, answer.rows)),
            values,
            groups,
            _measures(measure_views(desk, answer, [each.value for each in answer.measures])),
            before,
            [(link.text, link.href, link.depth) for link in choices],
        )

    def feed(self, query: Query, answer: Answer, told: str) -> bytes:
        """Return the digest of a page of a feed; ``told`` is what it says of itself."""
        return _digest("feed", self.everywhere, told, self.answer(self.rows[False], query, answer))

    # what was asked for on the way

    def with_trace(self, mark: bytes, trace: Trace) -> bytes:
        """Return the digest of a page with all that was asked for while it was drawn, as that was then.

        Of an earlier run nobody knows what was found: it is what is found now.
        """
        parts = [mark]
        parts += [self.traced("template", name, then) for name, then in trace.templates.items()]
        parts += [self.traced("asked", asked, None) for asked in trace.asked]
        parts += [self.traced("link", link, then) for link, then in trace.links.items()]
        return _digest(b"".join(parts))

    def is_up_to_date(self, trace: Trace) -> bool:
        """Say whether what was found while a page was drawn is what is found now."""
        seen = [("template", *pair) for pair in trace.templates.items()]
        seen += [("link", *pair) for pair in trace.links.items()]  # type: ignore[misc]
        return all(then is None or then == self._told(what, key) for what, key, then in seen)

    def traced(self, what: str, key: Any, then: str | None) -> bytes:
        """Return the digest of one thing that was asked for, and of what was found then."""
        if (what, key, then) not in self.traces:
            told = self._told(what, key) if then is None else then
            self.traces[what, key, then] = _digest(what, key, told)
        return self.traces[what, key, then]

    def _told(self, what: str, key: Any) -> Any:
        """Return what is said now to something that was asked for."""
        match what:
            case "template":
                return self.renderer.templates.digest(key)
            case "link":
                return self.renderer.desk.rewritten(key[1], key[0])
            case _:
                return self._asked(*key)

    def _asked(self, text: str, given: Iterable[tuple[str, tuple[str, ...]]], counted: bool) -> Any:  # noqa: FBT001
        """Return the digest of what a template asks; of a problem nothing, so that it is drawn again."""
        try:
            query = self.renderer.query(text, dict(given))
            return query.count() if counted else self.answer(self.rows[False], query, query.answer())
        except ElenchusError as error:
            return [str(each) for each in error.problems]


def _numbers(desk: Desk, subject: Subject, rows: Iterable[Row]) -> Iterable[int]:
    """Return the places of rows in their table, looked up where the executor knows none."""
    return (row.number if row.number >= 0 else desk.number(subject, row.id) for row in rows)
