"""All pages of a site: those that stand alone, and one for each row or group of the page sets."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

from elenchus.asking.here import HERE, names_of_here, texts_of
from elenchus.asking.query import Query, resolved
from elenchus.errors import ElenchusError, Problem
from elenchus.frozen import Frozen, Working, member, replace
from elenchus.pages.labels import group_label
from elenchus.pages.paths import address_of, file_of
from elenchus.values.addresses import NOWHERE
from elenchus.values.kept import Kept, MadeOf, cached_property
from elenchus.values.placeholders import filled, filler, names_in
from elenchus.values.slugs import slugify
from elenchus.values.texts import either, nearest, quoted
from elenchus.values.wording import spoken

if TYPE_CHECKING:
    from collections.abc import Iterable

    from elenchus.pages.section import Section
    from elenchus.plan.answer import Answer, Group
    from elenchus.schema.subject import Subject
    from elenchus.site.inheritance import Listing
    from elenchus.site.pages import PageRule, SectionRule
    from elenchus.site.site import Site
    from elenchus.values.addresses import Href

__all__ = ["Book", "Here", "Page", "here_names", "no_pages_at_all", "section_listing"]

# Placeholders that stand in a path as they are; all others are made into slugs first.
_AS_WRITTEN = ("slug", "path", "id", "address", "key", "year", "month", "day", "week", "kind")
_MOST_SECTIONS = 2**12
_DATE_KEY = re.compile(r"(?P<year>\d{4})(?:-(?P<month>\d{2})(?:-(?P<day>\d{2}))?|-W(?P<week>\d{2}))?")


class Here(Frozen):
    """The row of a page: an entry or a term by its name, or the key of a group.

    ``values`` are what ``:here.FIELD`` stands for; ``subject`` is what it is, None for a group; ``number``
    is its place in its table, -1 for a group.
    """

    name: str
    subject: Subject | None
    values: Mapping[str, Sequence[str]]
    number: int = member(default=-1, compare=False)

    def given(self) -> Mapping[str, Sequence[str]]:
        """Return what the page gives to the questions on it, looked up as it is asked for."""
        return _Given(self)


class _Given(Mapping[str, Sequence[str]]):
    """What a page gives to the questions on it: ``here``, and ``here.FIELD`` for each value of its row."""

    __slots__ = ("here",)

    def __init__(self, here: Here) -> None:
        self.here = here

    def __getitem__(self, name: str) -> Sequence[str]:
        return [self.here.name] if name == HERE else self.here.values[name.removeprefix(f"{HERE}.")]

    def __contains__(self, name: object) -> bool:
        first, _, field = str(name).partition(".")
        return first == HERE and (name == HERE or field in self.here.values)

    def __iter__(self) -> Iterator[str]:
        yield HERE
        yield from (f"{HERE}.{name}" for name in self.here.values)

    def __len__(self) -> int:
        return 1 + len(self.here.values)


class Page(Working):
    """One page: where it stands, what it is called, and the row that it is about.

    ``count`` is the number of rows of a group, None elsewhere. ``place`` counts from 0 within its set.
    """

    rule: PageRule
    path: str
    title: str
    here: Here | None = None
    count: int | None = None
    place: int = 0
    about: str = ""

    @cached_property
    def address(self) -> Href:
        """The address relative to the site's root."""
        return address_of(self.path)


class Book(Working):
    """The pages of a site, made when they are first asked for.

    ``in_bulk`` says that all of them will be, so that pages of a set are asked for together; ``only`` has the
    paths of those that will be, where it is not all.
    """

    site: Site
    in_bulk: bool = False
    only: frozenset[str] | None = None
    sets: dict[str, _PageSet] = member(default_factory=dict)
    orders: dict[str, dict[str, tuple[Page | None, Page | None]]] = member(default_factory=dict)

    def narrowed(self, paths: frozenset[str]) -> Book:
        """Return the same, of which only the pages of some paths will be asked for."""
        found = Book(self.site, self.in_bulk, paths, self.sets, self.orders)
        found.__dict__.update(self.__dict__)
        return found

    @cached_property
    def tried(self) -> set[tuple[Any, ...]]:
        """The sections that were asked for together with others, or could not be."""
        return set()

    @cached_property
    def sections(self) -> Kept[Section]:
        """The sections of the last pages with their answers.

        Many pages of a set ask the same, as they take the same values from their rows.
        """
        return Kept(_MOST_SECTIONS)

    @cached_property
    def above(self) -> Kept[dict[str, int]]:
        """What the first sections of the last pages show: rows by their ids, with the numbers of sections."""
        return Kept(_MOST_SECTIONS)

    @cached_property
    def rules(self) -> Mapping[str, PageRule]:
        """The pages as their files have them."""
        return self.site.pages.pages

    @cached_property
    def pages(self) -> list[Page]:
        """All pages that can be made, in the order of their files."""
        return [page for name in self.rules for page in self.of(name).pages]

    def of(self, name: str) -> _PageSet:
        """Return the pages of one rule, and the problems in making them."""
        if name not in self.sets:
            self.sets[name] = _page_set(self.site, self.rules[name])
        return self.sets[name]

    @cached_property
    def by_file(self) -> dict[str, Page]:
        """The pages by their files; the first of those that claim one."""
        found: dict[str, Page] = {}
        for page in self.pages:
            found.setdefault(file_of(page.path), page)
        return found

    def at_address(self, address: str) -> Page | None:
        """Return the page at an address relative to the root."""
        return self.by_file.get(file_of(unquote(address)))

    @cached_property
    def by_row(self) -> dict[tuple[Subject, str], list[Page]]:
        """The pages about each row: by what it is and its name."""
        found: dict[tuple[Subject, str], list[Page]] = defaultdict(list)
        for page in self.pages:
            if page.here and page.here.subject:
                found[page.here.subject, page.here.name].append(page)
        return found

    @cached_property
    def by_group(self) -> dict[tuple[tuple[str, ...], tuple[str, ...]], list[Page]]:
        """The pages about each group: by the fields that group and the keys."""
        found: dict[tuple[tuple[str, ...], tuple[str, ...]], list[Page]] = defaultdict(list)
        for name in self.rules:
            made = self.of(name)
            for page in made.pages:
                if page.here and page.here.subject is None:
                    keys = tuple(page.here.values[each][0] for each in made.grouped_by)
                    found[made.grouped_by, keys].append(page)
        return found

    def address_of_group(self, answer: Answer, group: Group) -> Href:
        """Return the address of the page about the same group; nothing where there is none."""
        pages = self.pages_of_group(answer, group)
        return pages[0].address if pages else NOWHERE

    def pages_of_group(self, answer: Answer, group: Group) -> Sequence[Page]:
        """Return the pages about the same group."""
        keys = tuple(spoken(key) for key in group.keys)
        return self.by_group.get((answer.grouped_by, keys), ())

    def neighbours(self, page: Page) -> tuple[Page | None, Page | None]:
        """Return the pages before and after one: in the listing that its rule names, or in its set.

        Of pages of dates in a set, the one before is the earlier one.
        """
        if page.rule.within:
            return self.within(page)
        pages = self.of(page.rule.name).pages
        before = pages[page.place - 1] if page.place else None
        after = pages[page.place + 1] if page.place + 1 < len(pages) else None
        first, last = pages[0].here, pages[-1].here
        is_dated = bool(first and last and first.subject is None and _DATE_KEY.fullmatch(first.name))
        return (after, before) if is_dated and first and last and first.name > last.name else (before, after)

    def within(self, page: Page) -> tuple[Page | None, Page | None]:
        """Return the pages of the rows before and after that of a page, in the order of its listing."""
        if page.rule.within not in self.orders:
            self.orders[page.rule.within] = self.order_of(page.rule.within)
        return self.orders[page.rule.within].get(page.path, (None, None))

    def order_of(self, listing: str) -> dict[str, tuple[Page | None, Page | None]]:
        """Return the pages before and after each page of the rows of a listing, by its path."""
        query = Query(self.site, self.site.library.get(listing))
        found = (self.by_row.get((query.plan.subject, name), ()) for name in query.ids())
        pages = [page for each in found for page in each[:1] if not page.rule.private]
        return {
            page.path: (before, after)
            for page, before, after in zip(pages, [None, *pages], [*pages[1:], None], strict=False)
        }

    def label(self, answer: Answer, group: Group) -> str:
        """Return what people call a group, in the site's language."""
        language = self.site.definition.language
        if len(group.keys) == 1:
            return group_label(answer.grouped_by[0], group.keys[0], group.label, language)
        labels = (
            group_label(name, key, spoken(key) or f"no {name}", language)
            for name, key in zip(answer.grouped_by, group.keys, strict=True)
        )
        return " · ".join(labels)

    def find(self, name: str) -> list[Page]:
        """Return the pages that a name means: those of a rule, or the one at a path or address."""
        if name in self.rules:
            return self.of(name).pages
        wanted = address_of(name.removeprefix("/"))
        return [page for page in self.pages if page.address == wanted]


class _PageSet(Frozen):
    """The pages of one rule; ``grouped_by`` are the fields whose groups they are about.

    ``query`` is its question; None for a page that stands alone.
    """

    rule: PageRule
    pages: list[Page]
    grouped_by: tuple[str, ...] = ()
    problems: tuple[Problem, ...] = ()
    query: Query | None = None


def _page_set(site: Site, rule: PageRule) -> _PageSet:
    """Return the pages of a rule: one, or one for each row or group of its question."""
    if not rule.each:
        title = rule.title or rule.name.replace("-", " ").capitalize()
        names = _named_in(rule)
        problems = [_unknown(rule, name, ()) for name in names]
        page = Page(rule, rule.path, title, about=rule.about)
        return _PageSet(rule, [] if names else [page], problems=tuple(problems))
    try:
        listing = resolved(site, rule.each, comments=True, place=rule.at("each"))
    except ElenchusError as error:
        return _PageSet(rule, [], problems=tuple(_in_each(rule, problem) for problem in error.problems))
    own = len(listing.setting("show"))
    try:
        is_grouped = bool(listing.question.group)
        query = Query(site, listing, show=() if is_grouped else _row_fields(site, rule))
        answer = query.whole(groups_alone=is_grouped)
    except ElenchusError as error:
        return _PageSet(rule, [], problems=tuple(_in_each(rule, problem, own) for problem in error.problems))
    found = _rows_set(site, rule, answer) if answer.groups is None else _groups_set(site, rule, answer)
    return replace(found, query=query)


def _named_in(rule: PageRule) -> list[str]:
    """Return what the path, the title and the about of a page name in braces."""
    return [name for text in (rule.path, rule.title, rule.about) for name in names_in(text)]


def _in_each(rule: PageRule, problem: Problem, own: int = 0) -> Problem:
    """Return a problem of the question of a page set, at its line.

    Fields that are shown besides its ``own`` are those that the placeholders of the rule name.
    """
    if problem.setting == "show" and (problem.index or 0) >= own:
        return replace(problem, code="unknown-placeholder", place=rule.at("address"))
    place = problem.place or rule.at("each")
    return replace(problem, message=f"in each: {problem.message}", span=None, place=place)


def _row_fields(site: Site, rule: PageRule) -> tuple[str, ...]:
    """Return the fields of its row that a page set needs, beside those that every answer has."""
    names = _named_in(rule)
    for section in rule.sections:
        names += [name.partition(".")[2] for name in here_names(site, section)]
    return tuple(dict.fromkeys(name for name in names if name not in ("", "count_of_rows")))


def here_names(site: Site, section: SectionRule) -> Iterable[str]:
    """Yield the values of the page's row that a section asks for, such as ``here.station``."""
    for texts in section.given.values():
        for text in texts:
            if text == f":{HERE}" or text.startswith(f":{HERE}."):
                yield text[1:].rstrip("?")
    with suppress(ElenchusError):  # it is told where the section is asked
        yield from sorted(names_of_here(site, section_listing(site, section)))


def section_listing(site: Site, section: SectionRule) -> Listing:
    """Return what a section asks. Raises NoSuchName, QuestionError."""
    if not section.listing:
        return resolved(site, section.ask, comments=True, place=section.place)
    return resolved(site, section.listing, section.ask, place=section.place)


def _place_of(site: Site, subject: Subject, name: str) -> int:
    """Return the place of a row in its table, for executors that know none."""
    data = site.dataset
    return data.taxonomies[subject.taxonomy].ids.index(name) if subject.is_terms else data.row_of_id(name)


def _rows_set(site: Site, rule: PageRule, answer: Answer) -> _PageSet:
    """Return a page for each row of an answer."""
    pages = []
    path_of, title_of, about_of = filler(rule.path), filler(rule.title), filler(rule.about)
    for number, row in enumerate(answer.rows):
        flat = MadeOf(row.values, _joined)
        path = path_of(_InPath(flat)) if rule.path else unquote(flat["address"])
        place = row.number if row.number >= 0 else _place_of(site, answer.subject, row.id)
        here = Here(row.id, answer.subject, MadeOf(row.values, texts_of), place)
        title = title_of(flat) if rule.title else flat.get("title") or flat.get("name") or row.id
        pages.append(Page(rule, path, title, here, place=number, about=about_of(flat)))
    return _PageSet(rule, pages, problems=() if pages else (_no_pages(rule),))


def _joined(value: Any) -> str:
    """Return a decoded value as a text, several with commas between them."""
    return value if isinstance(value, str) else ", ".join(texts_of(value))


class _InPath(MadeOf[str, str]):
    """Values as they stand in a path."""

    def __init__(self, values: Mapping[str, str]) -> None:
        super().__init__(values, str)

    def __getitem__(self, name: str) -> str:
        """Return a value as it is, or as a slug; the key of a single letter is an initial."""
        text = self.source[name]
        return text if name in _AS_WRITTEN and len(text) > 1 else slugify(text) or text


def _groups_set(site: Site, rule: PageRule, answer: Answer) -> _PageSet:
    """Return a page for each group of an answer; the group of rows without a value makes none."""
    names = _named_in(rule)
    pages: list[Page] = []
    problems: list[Problem] = []
    for group in answer.groups or ():
        if None in group.keys:
            continue
        flat = _words_of(group, answer.grouped_by, site.definition.language)
        problems = [_unknown(rule, name, tuple(flat)) for name in names if name not in flat]
        if problems:
            return _PageSet(rule, [], answer.grouped_by, tuple(problems))
        keys = {name: (flat[name],) for name in answer.grouped_by}
        here = Here(flat["key"], None, keys)
        path, title = filled(rule.path, _InPath(flat)), filled(rule.title or "{label}", flat)
        about = filled(rule.about, flat)
        pages.append(Page(rule, path, title, here, group.count, place=len(pages), about=about))
    return _PageSet(rule, pages, answer.grouped_by, () if pages else (_no_pages(rule),))


def _words_of(group: Group, names: Sequence[str], language: str) -> dict[str, str]:
    """Return what the placeholders of a group stand for: its keys, its label and count, parts of dates."""
    texts = [spoken(key) for key in group.keys]
    own = group.label if len(texts) == 1 else ""
    labels = [
        group_label(name, key, own or text, language)
        for name, key, text in zip(names, group.keys, texts, strict=True)
    ]
    found = dict(zip(names, texts, strict=True))
    found |= {"key": texts[-1], "label": " · ".join(labels), "count": str(group.count)}
    for text in texts:
        if match := _DATE_KEY.fullmatch(text):
            found |= {name: part for name, part in match.groupdict().items() if part}
    return found


def no_pages_at_all() -> Problem:
    """Return the problem of a site whose pages nobody has written."""
    example = "[home] address = 'index.html' and sections = [{ ask = 'order by newest' }]"
    hint = f"Write pages.toml beside the site file, such as: {example}."
    return Problem("no-pages", "the site has no pages, so there is nothing to publish", hint)


def _no_pages(rule: PageRule) -> Problem:
    """Return the problem of a set without pages."""
    message = f"the page set {rule.name} has no pages: its question has no rows"
    return Problem("empty-page-set", message, place=rule.at("each"))


def _unknown(rule: PageRule, name: str, known: Sequence[str]) -> Problem:
    """Return the problem of a placeholder that nothing fills."""
    near = tuple(f"{{{each}}}" for each in nearest(name, known, most=1))
    listed = either("{" + each + "}" for each in known)
    hint = f"Known here: {listed}." if known else "Only a page with each has a row."
    texts = {"address": rule.path, "title": rule.title, "about": rule.about}
    key = next(key for key, text in texts.items() if f"{{{name}}}" in text)
    message = f"nothing fills {quoted('{' + name + '}')}"
    return Problem("unknown-placeholder", message, hint, place=rule.at(key), near=near)
