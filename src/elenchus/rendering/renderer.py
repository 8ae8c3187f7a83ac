"""Whole pages: what a page's template is given, and the HTML that it makes."""

from __future__ import annotations

import threading
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING

from markupsafe import Markup

from elenchus.asking.here import HERE, names_of_here
from elenchus.asking.query import Query, as_lists, resolved
from elenchus.errors import Problem, SiteError
from elenchus.files import is_file, read_whole
from elenchus.forms import form
from elenchus.frozen import replace
from elenchus.pages.book import Book
from elenchus.pages.paths import INDEX, address_of, file_beside, file_of, later_page
from elenchus.rendering.addresses import Root
from elenchus.rendering.controls import form_of, query_text
from elenchus.rendering.pager import pager
from elenchus.rendering.rows import Desk
from elenchus.rendering.sections import label_of, section_view
from elenchus.rendering.templates import Templates
from elenchus.rendering.trace import Trace
from elenchus.rendering.views import Link, PageView, SectionView, ShownField, SiteView, Visit
from elenchus.schema.types import CORE_FIELDS
from elenchus.site.words import WORDS
from elenchus.values.addresses import Href
from elenchus.values.filepaths import is_inside
from elenchus.values.kept import cached_property
from elenchus.values.placeholders import filled
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping, Sequence

    from elenchus.pages.book import Page
    from elenchus.pages.section import Section
    from elenchus.pages.sections import Placed
    from elenchus.plan.answer import Answer
    from elenchus.rendering.rows import RowView
    from elenchus.site.site import Site

__all__ = ["ASSETS", "Renderer", "asset_file", "paths_of", "woven_style"]

ASSETS = "assets"
_ASSET_FILES = ("elenchus.css", "elenchus.js")
_WORDS_OF_DESCRIPTION = 30
_OF_ROWS = ("layouts/row.html", "layouts/meta.html")  # what a row of a list is drawn by


class Renderer:
    """The pages of a site as HTML.

    Raises SiteError for problems in templates, QuestionError and NoSuchName for those in their questions.
    """

    def __init__(self, site: Site, book: Book | None = None, *, root: Root | None = None) -> None:
        self.site = site
        self.book = book or Book(site)
        self.root = root or Root.of(site.definition.address)
        self.trace = Trace()
        self.desks = {
            open_: Desk(site, self.book, self.root, open_, trace=self.trace) for open_ in (False, True)
        }
        self.desk = self.desks[False]
        self.words = {**WORDS, **site.definition.words}
        self.templates = Templates(
            site.definition.folder,
            {
                "ask": self.asked,
                "listing": self.asked,
                "number": self.counted,
                "word": self.word,
                "asset": self.asset,
                "site": self.site_view,
                "before_end": self.before_end,
                "keeps_rows": self.keeps_rows,
                "kept_row": self.kept_row,
            },
            self.trace.templates,
        )
        self.trails: dict[str, tuple[Link, ...]] = {}
        self.drawing = threading.local()  # the row of the page that a thread draws

    # what templates call

    def asked(self, text: str, **given: str | Sequence[str]) -> SectionView:
        """Return a listing by its name, or a question, with its rows. Raises QuestionError, NoSuchName."""
        return self.shown(self.query_of_template(text, given))

    def query_of_template(
        self, text: str, given: Mapping[str, str | Sequence[str]], *, counted: bool = False
    ) -> Query:
        """Return what a template asks, and note that it does."""
        values = as_lists(given)
        here = getattr(self.drawing, "here", "")
        if here and HERE not in values and HERE in names_of_here(self.site, resolved(self.site, text)):
            values = {**values, HERE: [here]}
        noted = tuple((name, tuple(map(str, texts))) for name, texts in values.items())
        self.trace.asked[str(text), noted, counted] = None
        return self.query(text, values)

    def query(self, text: str, given: Mapping[str, Sequence[str]]) -> Query:
        """Return what a listing or a question asks, whose answer anybody may read.

        Raises QuestionError, NoSuchName, and SiteError where it includes what is not published.
        """
        query = Query(self.site, resolved(self.site, text), given)
        if query.plan.unpublished:
            hint = "Only a section of a private page may list it: take “including unpublished” away."
            message = f"{quoted(query.listing.name or text)} includes what is not published"
            raise SiteError([Problem("unpublished-on-page", message, hint)])
        return query

    def shown(self, query: Query) -> SectionView:
        """Return an answer as templates see it."""
        return section_view(self.desk, query, query.answer(), draw=self.drawn_section)

    def counted(self, text: str, **given: str | Sequence[str]) -> int:
        """Return how many rows a listing or a question has."""
        return self.query_of_template(text, given, counted=True).count()

    def word(self, name: str, /, **values: object) -> str:
        """Return a word of pages, its braces filled; of two forms the one for a count."""
        if values.get("count") == 1 and name == "entries":
            name = "entry"
        text = self.words[name]
        return filled(text, {key: str(value) for key, value in values.items()}) if "{" in text else text

    def change_link(self, _page: Page, _section: Section) -> str:
        """Return the address at which a section is changed; nothing where the page is published."""
        return ""

    def why_link(self, _page: Page, _section: Section, _visit: Visit) -> str:
        """Return the address that tells why a section shows what it shows: none where it is published."""
        return ""

    def before_end(self, _page: PageView) -> str:
        """Return what is added before the end of each page: nothing where it is published."""
        return ""

    def keeps_rows(self) -> bool:
        """Say whether a row looks the same wherever it stands: a template of the site may look around."""
        if self.has_own_rows:
            return False
        self.trace.templates.update((name, self.templates.digest(name)) for name in _OF_ROWS)
        return True

    @cached_property
    def has_own_rows(self) -> bool:
        """Say whether the site has a template by which rows of lists are drawn."""
        return any(self.templates.is_own(name) for name in _OF_ROWS)

    @cached_property
    def row_drawn(self) -> Callable[[SectionView, RowView, int], Markup]:
        """What draws a row of a list by the built-in templates."""
        return self.templates.function(_OF_ROWS[0], ("part", "row", "level"), _OF_ROWS[1:])

    def kept_row(self, part: SectionView, row: RowView, level: int) -> Markup:
        """Return a row of a list as HTML, drawn once for all pages that show the same of it."""

        def draw() -> Markup:
            return Markup(self.row_drawn(part, row, level).rstrip("\n"))  # noqa: S704 - drawn by a template

        if part.why or row.besides or not part.look:
            return draw()
        key = part.look, level
        if key not in row.made:
            row.made[key] = draw()
        found: Markup = row.made[key]
        return found

    def asset(self, name: str) -> str:
        """Return the link to a file of ours, which changes when the file does."""
        return f"{self.root.file(f'{ASSETS}/{name}')}?v={self.digests[name]}"

    @cached_property
    def digests(self) -> dict[str, str]:
        """The beginnings of the digests of our own files."""
        return {name: sha256(content).hexdigest()[:10] for name, content in self.assets().items()}

    def assets(self) -> dict[str, bytes]:
        """Return the files that all pages need, the site's own before ours."""
        return {name: asset_file(self.templates.folder, name) or b"" for name in _ASSET_FILES}

    @cached_property
    def site_view(self) -> SiteView:
        """The site as templates see it."""
        definition = self.site.definition
        pages = [page for page in self.book.pages if page.rule.menu and not page.rule.private]
        menu = tuple(Link(page.title, self.root.link(page.address)) for page in pages if page.address)
        return SiteView(definition.title, definition.language, self.root.address, self.root.path, menu)

    # pages

    def page(self, found: Placed, visit: Visit | None = None) -> str:
        """Return a page as HTML."""
        view = self.view(found, visit or Visit())
        template = found.page.rule.template or "sheet.html"
        here = found.page.here
        self.drawing.here = here.name if here and here.subject else ""
        try:
            return str(self.templates.drawn(template, sheet=view))
        finally:
            self.drawing.here = ""

    def view(self, found: Placed, visit: Visit) -> PageView:
        """Return what the template of a page is given."""
        page = found.page
        desk = self.desks[page.rule.private]
        sections = tuple(self.sections(desk, found, visit))
        row = self.row_of(desk, page)
        paged = next((each.pager for each in sections if each.pager), None)
        before, after = self.book.neighbours(page) if page.here else (None, None)
        title = page.title
        if visit.number > 1:
            title = f"{title} – {self.word('page', number=visit.number).lower()}"
        about = page.about
        href = self.root.link(address_of(later_page(page.path, visit.number, visit.folder)))
        return PageView(
            name=page.rule.name,
            title=title,
            heading=page.title,
            about=about,
            description=about or _summary_of(row),
            href=href,
            canonical=self.root.whole(href) if self.root.address else "",
            number=visit.number,
            pages=paged.pages if paged else 1,
            sections=sections,
            row=row,
            subject=_subject_of(page),
            count=page.count,
            trail=self.trail(page),
            facts=self.facts(row),
            terms=self.filed(row),
            previous=self.link_to(before),
            next=self.link_to(after),
            earlier=paged.previous if paged else "",
            later=paged.next if paged else "",
            alternates=tuple(link for each in sections for link in each.beside),
            is_private=page.rule.private,
            needs_script=any(each.form and each.form.keys for each in sections),
            notices=visit.notices,
            problems=tuple(str(each) for each in found.problems),
        )

    def link_to(self, page: Page | None) -> Link | None:
        """Return the link to a page."""
        return Link(page.title, self.root.link(page.address)) if page else None

    def row_of(self, desk: Desk, page: Page) -> RowView | None:
        """Return the entry or the term that a page is about."""
        if page.here is None or page.here.subject is None:
            return None
        return desk.row(page.here.subject, page.here.name, page.here.number)

    def trail(self, page: Page) -> tuple[Link, ...]:
        """Return the pages above one, by its address: the same for all pages of a folder."""
        if page.address in ("", INDEX):
            return ()
        folder = page.address.rstrip("/").rpartition("/")[0]
        if folder not in self.trails:
            self.trails[folder] = tuple(self.trail_to(folder))
        return self.trails[folder]

    def trail_to(self, folder: str) -> Iterable[Link]:
        """Yield the pages that stand at a folder and above it."""
        yield Link(self.word("home"), Href(self.root.path))
        steps = folder.split("/") if folder else []
        for length in range(1, len(steps) + 1):
            above = self.book.at_address("/".join(steps[:length]) + "/")
            if above and not above.rule.private:
                yield Link(above.title, self.root.link(above.address))

    def facts(self, row: RowView | None) -> tuple[ShownField, ...]:
        """Return the declared fields of an entry, or the columns of a term, that are shown as they are."""
        if row is None:
            return ()
        data = self.site.dataset
        if row.subject.is_terms:
            fixed = data.schema.taxonomies[row.taxonomy]
            names = dict.fromkeys(name for term in data.taxonomies[fixed.name].terms for name in term.columns)
        else:
            kind = data.schema.kinds[row.kind].fields
            names = dict.fromkeys(
                name for name, each in kind.items() if each.declared and name not in CORE_FIELDS
            )
        return tuple(ShownField(name, label_of(name)) for name in names if row[name])

    def filed(self, row: RowView | None) -> tuple[ShownField, ...]:
        """Return the taxonomies under whose terms an entry is."""
        if row is None or row.subject.is_terms:
            return ()
        names = self.site.dataset.schema.taxonomies
        return tuple(ShownField(name, label_of(name)) for name in names if row[name])

    # sections

    def sections(self, desk: Desk, found: Placed, visit: Visit) -> Iterable[SectionView]:
        """Yield the sections that stand on one of the pages of a page."""
        for section in found.sections:
            if self.stands_on(section, visit):
                yield self.section(desk, found, section, visit)

    def stands_on(self, section: Section, visit: Visit) -> bool:
        """Say whether a section stands on one of the pages of its page."""
        on_it = visit.number == 1 or section.rule.on_every_page or self.goes_on(section, visit)
        return on_it and section.answer is not None

    def goes_on(self, section: Section, visit: Visit) -> bool:
        """Say whether it is the section whose later page this is."""
        return section.has_pages and section.rule.pages_at == visit.folder

    def section(self, desk: Desk, found: Placed, section: Section, visit: Visit) -> SectionView:
        """Return one section."""
        query, page = section.asked, found.page
        number = visit.number if self.goes_on(section, visit) else 1
        answer = section.answer if section.answer and number == 1 else query.answer(number)
        view = section_view(
            desk,
            query,
            answer,
            id=section.slug,
            title=section.title,
            level=2 if section.title else 1,
            pager=pager(number, answer.pages, lambda each: self.page_link(page, section, each, visit)),
            form=form_of(desk, found, section, visit),
            beside=tuple(self.beside(page, section)),
            why=self.why_link(page, section, visit),
            change=self.change_link(page, section),
            draw=self.drawn_section,
        )
        return self.marked(view, section, answer)

    def marked(self, view: SectionView, section: Section, answer: Answer) -> SectionView:
        """Return a section whose first group is marked when it began on the page before."""
        if answer.page == 1 or not view.groups or not answer.groups:
            return view
        before = section.asked.answer(answer.page - 1).groups
        if not before or before[-1].keys != answer.groups[0].keys:
            return view
        return replace(view, groups=(replace(view.groups[0], continued=True), *view.groups[1:]))

    def page_link(self, page: Page, section: Section, number: int, visit: Visit) -> str:
        """Return the link to one of the pages of a section."""
        if visit.query:
            return f"{self.root.link(page.address)}?{query_text(visit.query, number)}"
        return self.root.link(address_of(later_page(page.path, number, section.rule.pages_at)))

    def beside(self, page: Page, section: Section) -> Iterable[Link]:
        """Yield the links to the files that hold the same rows."""
        for name in section.rule.beside:
            path, known = file_beside(page.path, section.slug, name), form(name)
            yield Link(known.label, self.root.file(path), known.media_type)

    def drawn_section(self, view: SectionView) -> Markup:
        """Return a section as HTML: its rows in their layout, without its heading."""
        return self.templates.drawn("rows.html", part=view)


def _summary_of(row: RowView | None) -> str:
    """Return the first words of the entry that a page is about."""
    return row.summary(_WORDS_OF_DESCRIPTION) if row and row.subject.is_entries else ""


def _subject_of(page: Page) -> str:
    """Return what a page is about, as templates have it: entry, term, group, or nothing."""
    if page.here is None:
        return ""
    if page.here.subject is None:
        return "group"
    return "term" if page.here.subject.is_terms else "entry"


def asset_file(templates: Path, name: str) -> bytes | None:
    """Return a file that all pages need: the site's own, below its folder of templates, or ours.

    None if there is no such file. Raises OSError.
    """
    folders = (templates / ASSETS, Path(__file__).with_name(ASSETS))
    known = (folder for folder in folders if name in _ASSET_FILES and is_inside(folder, name))
    return next((read_whole(folder / name) for folder in known if is_file(folder / name)), None)


def woven_style() -> str:
    """Return the stylesheet for rows that are woven into pages of others."""
    return (Path(__file__).with_name(ASSETS) / "woven.css").read_text(encoding="utf-8")


def paths_of(found: Placed) -> Iterable[tuple[str, Visit]]:
    """Yield the files of a page with what each of them shows: its own, later pages, those of sections."""
    page = found.page
    yield file_of(page.path), Visit()
    for number in range(2, found.pages + 1):
        yield file_of(later_page(page.path, number)), Visit(number)
    for section in found.sections:
        below = section.rule.pages_at
        if below and section.has_pages and section.answer:
            for number in range(2, section.answer.pages + 1):
                yield file_of(later_page(page.path, number, below)), Visit(number, below)
