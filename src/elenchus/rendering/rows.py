"""Rows as pages show them: any field of an entry or a term, with its links, by its name."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import unquote

from markupsafe import Markup

from elenchus.engine.decode import decoder
from elenchus.files import is_file
from elenchus.frozen import Working, member
from elenchus.pages.labels import date_label, group_label
from elenchus.plan.nodes import FieldRef, Part
from elenchus.rendering.bodies import NAMED, body_of, excerpt
from elenchus.rendering.trace import Trace
from elenchus.rendering.values import NOTHING, Image, Item, Value
from elenchus.schema.subject import ENTRIES, Subject, terms_of
from elenchus.schema.types import Type
from elenchus.values.addresses import NOWHERE, Href, given_href, origin_of, split_address
from elenchus.values.dates import stamp
from elenchus.values.kept import cached_property
from elenchus.values.slugs import slugify
from elenchus.values.texts import fold
from elenchus.values.wording import spoken

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

    from elenchus.engine.view import View
    from elenchus.pages.book import Book
    from elenchus.rendering.addresses import Root
    from elenchus.schema.types import FieldType
    from elenchus.site.site import Site

__all__ = ["Desk", "RowView", "normal", "time_item"]

_BODIES = ("body", "body_elsewhere")  # the text of an entry as pages and as feeds show it
_WORDS_OF_SUMMARY = 30
_ALT = "image_alt"
# What links leave out of the path of a file.
_ENDINGS = (".md", ".markdown", ".html", "/index.md", "/README.md", "/index.html", "/_index.md")


class _Found(NamedTuple):
    """A field's type and a function from a row to its value."""

    type: FieldType
    value: Callable[[int], Any]


@dataclass
class Desk:
    """A site as it is read while its pages are made: rows by sort and name, fields by row.

    ``unpublished`` lets rows refer to drafts, as on private pages. ``marks`` tells what is to be said of an
    entry wherever its title leads to it.
    """

    site: Site
    book: Book
    root: Root
    unpublished: bool = False
    marks: Callable[[str], str] | None = None
    trace: Trace = field(default_factory=Trace)
    fields: dict[tuple[Subject, str, str], _Found | None] = field(default_factory=dict)
    rows: dict[tuple[Subject, str], RowView] = field(default_factory=dict)
    numbers: dict[str, dict[str, int]] = field(default_factory=dict)  # of terms, for each taxonomy
    looked: dict[str, bool] = field(default_factory=dict)  # which files of the site are there

    @cached_property
    def view(self) -> View:
        """What may be seen."""
        return self.site.engine.view(unpublished=self.unpublished)

    def row(self, subject: Subject, name: str, number: int = -1) -> RowView:
        """Return a row: an entry by its id, a term by its id or label; ``number`` is its place, if known."""
        if (subject, name) not in self.rows:
            number = self.number(subject, name) if number < 0 else number
            own = self.view.ids(subject)[number]
            self.rows[subject, name] = RowView(self, subject, own, number)
        return self.rows[subject, name]

    def number(self, subject: Subject, name: str) -> int:
        """Return the place of a row among all."""
        if subject.is_entries:
            return self.site.dataset.row_of_id(name)
        return self.term_numbers(subject.taxonomy)[name]

    def term_numbers(self, taxonomy: str) -> Mapping[str, int]:
        """Return the places of a taxonomy's terms by their labels, which values have, and by their ids."""
        if taxonomy not in self.numbers:
            terms = self.site.dataset.taxonomies[taxonomy]
            self.numbers[taxonomy] = {
                name: number for names in (terms.labels, terms.ids) for number, name in enumerate(names)
            }
        return self.numbers[taxonomy]

    def found(self, subject: Subject, kind: str, name: str) -> _Found | None:
        """Return a field of a kind of entries, or of the terms of a taxonomy; None where there is none."""
        key = (subject, kind, name)
        if key not in self.fields:
            self.fields[key] = self.looked_up(subject, kind, name)
        return self.fields[key]

    def looked_up(self, subject: Subject, kind: str, name: str) -> _Found | None:
        """Return a field that has not been asked for before."""
        data = self.site.dataset
        fields = data.term_fields(subject.taxonomy) if subject.is_terms else data.schema.fields_of(kind)
        declared = fields.get(name)
        if declared is None or (subject.is_entries and (name, declared.type) not in data.entries.columns):
            return None
        ref = FieldRef(name, declared.type)
        return _Found(declared.type, decoder(self.view, ref, subject))

    def address(self, subject: Subject, name: str) -> Href:
        """Return the link to the page of a row; nothing where it has none."""
        pages = [
            page for page in self.book.by_row.get((subject, name), ()) if self.may_show(page.rule.private)
        ]
        if pages:
            return self.root.link(pages[0].address)
        row = self.row(subject, name)
        is_hidden = subject.is_entries and not self.view.visible[row.number]
        if is_hidden or row.kind in self.paged:  # rows of its sort have pages here, and this one has none
            return NOWHERE
        own = row.raw("address")
        return self.root.link(Href(str(own))) if own else NOWHERE  # made by the table, and so a link

    def may_show(self, private: bool) -> bool:  # noqa: FBT001 - it is what a page says
        """Say whether a page is linked from here."""
        return self.unpublished or not private

    @cached_property
    def paged(self) -> frozenset[str]:
        """The kinds and taxonomies of whose rows there are pages."""
        data, heres = self.site.dataset, [pages[0].here for pages in self.book.by_row.values()]
        entries = [here.number for here in heres if here and here.subject == ENTRIES]
        kinds = {data.kind_names[number] for number in set(data.entries.kinds[entries].tolist())}
        return frozenset(kinds | {here.subject.taxonomy for here in heres if here and here.subject} - {""})

    def source_of(self, name: str) -> Href:
        """Return the link to an image of the site or of another; nothing for one that could run something."""
        parts = split_address(name)
        if parts and (parts.scheme or name.startswith("/")):
            return given_href(name)
        return self.root.file(name)

    def picture(self, name: str) -> Href:
        """Return the link to an image that pages may load: see ``remote`` of the site."""
        definition = self.site.definition
        found = self.source_of(name)
        return NOWHERE if not definition.remote and origin_of(found, definition.address) else found

    def rewritten(self, address: str, beside: str) -> Href:
        """Return an address in the text of a file as pages link it.

        A file of content is the page of its entry; any other path is a file of the site, told from the
        folder of the content file or from the site's. Of an entry without a page, nothing is returned.
        """
        if address.startswith(NAMED):
            return self.named(unquote(address.removeprefix(NAMED)))
        parts = split_address(address)
        if parts is None or parts.scheme or address.startswith(("/", "#", "?")) or not parts.path:
            return given_href(address)
        path = unquote(parts.path)
        for folder in (PurePosixPath(beside).parent, PurePosixPath()):
            steps = normal(folder / path)
            for name in (steps, *(f"{steps}{ending}".lstrip("/") for ending in _ENDINGS)):
                if name in self.by_file:
                    link = self.address(ENTRIES, self.by_file[name])
                    return Href(f"{link}#{parts.fragment}") if link and parts.fragment else link
            if steps and self.is_there(steps):
                return self.root.file(steps)
        return self.root.link(given_href(address))

    def named(self, name: str) -> Href:
        """Return the address of the entry with a name in double brackets: of its file, or its title."""
        wanted, hash_sign, fragment = name.partition("#")
        found = self.by_name.get(fold(wanted.rpartition("/")[2])) or self.by_name.get(slugify(wanted))
        link = self.address(ENTRIES, found) if found else NOWHERE
        return Href(f"{link}#{slugify(fragment)}") if link and hash_sign and fragment else link

    @cached_property
    def by_name(self) -> dict[str, str]:
        """The ids of entries by what they are called: their files, their titles, their slugs."""
        found: dict[str, str] = {}
        for name in self.site.dataset.entries.ids:
            row = self.row(ENTRIES, name)
            stem = PurePosixPath(str(row.raw("source") or "")).stem
            for word in (fold(stem), fold(str(row.raw("title") or "")), str(row.raw("slug") or "")):
                found.setdefault(word, name)
        return found

    @cached_property
    def has_names(self) -> bool:
        """Say whether texts have links by names in double brackets."""
        return any(spec.name_links for spec in self.site.definition.sources)

    def is_there(self, path: str) -> bool:
        """Say whether a file of the site is there, by its path below the site; looked at once."""
        if path not in self.looked:
            self.looked[path] = is_file(self.site.definition.folder / path)
        return self.looked[path]

    @cached_property
    def by_file(self) -> dict[str, str]:
        """The ids of entries by the files that they stand in."""
        found = {}
        for name in self.site.dataset.entries.ids:
            source = self.row(ENTRIES, name).raw("source")
            if source:
                found[str(source)] = name
        return found


def normal(path: PurePosixPath) -> str:
    """Return a path without steps up; nothing where it leads out of the site."""
    steps: list[str] = []
    for step in path.parts:
        if step == "..":
            if not steps:
                return ""
            steps.pop()
        elif step != ".":
            steps.append(step)
    return "/".join(steps)


class RowView(Working):
    """One row of a listing, or the row that a page is about.

    In a template, ``row.title`` and any other field by its name is a value that knows its own markup;
    ``besides`` are values that are no fields of the row itself, such as ``station.region``; ``made`` keeps
    what was worked out: values by name, summaries by their number of words.
    """

    desk: Desk
    subject: Subject
    id: str
    number: int
    besides: Mapping[str, Value] = member(default_factory=dict)
    made: dict[Any, Any] = member(default_factory=dict, compare=False)

    def __str__(self) -> str:
        return self.title

    def __repr__(self) -> str:
        return self.title

    def __html__(self) -> str:
        return self.link.__html__()

    @cached_property
    def kind(self) -> str:
        """The kind of an entry; of a term its taxonomy."""
        return self.subject.taxonomy or self.desk.site.dataset.kind_of(self.number)

    @property
    def taxonomy(self) -> str:
        """The taxonomy of a term; nothing for an entry."""
        return self.subject.taxonomy

    def raw(self, name: str) -> Any:
        """Return the decoded value of a field, None where there is none."""
        found = self.desk.found(self.subject, self.kind, name)
        return None if found is None else found.value(self.number)

    @cached_property
    def title(self) -> str:
        """The title of an entry, the name of a term."""
        return str(self.raw("name" if self.subject.is_terms else "title") or self.id)

    @cached_property
    def address(self) -> Href:
        """The link to its page; nothing where it has none."""
        return self.desk.address(self.subject, self.id)

    @cached_property
    def link(self) -> Item:
        """The title, as a link where there is a page."""
        marks = self.desk.marks if self.subject.is_entries else None
        return Item(self.title, self.address, mark=marks(self.id) if marks else "")

    @cached_property
    def image(self) -> Image | None:
        """The picture of an entry."""
        source = self.raw("image")
        address = self.desk.picture(str(source)) if source else NOWHERE
        return Image(address, str(self.raw(_ALT) or "")) if address else None

    def summary(self, words: int = _WORDS_OF_SUMMARY) -> str:
        """Return its own summary, or else the first words of its text."""
        if words not in self.made:
            own = self.raw("summary")
            text = str(self.raw("body") or "")
            self.made[words] = (
                " ".join(str(own).split()) if own else excerpt(text, words, names=self.desk.has_names)
            )
        return str(self.made[words])

    @property
    def body(self) -> Markup:
        """The text as HTML, cleaned unless the site trusts its content."""
        return self.drawn_body("body", lambda address: address)

    @property
    def body_elsewhere(self) -> Markup:
        """The text as HTML that can be read elsewhere: its addresses are whole."""
        return self.drawn_body("body_elsewhere", self.desk.root.whole)

    def drawn_body(self, name: str, shown: Callable[[Href], Href]) -> Markup:
        """Return the text as HTML with addresses as they are shown, drawn once, noting what it links."""
        key = "drawn", name  # which is the name of no field
        if key not in self.made:
            source = str(self.raw("source") or "")
            links: dict[tuple[str, str], str] = {}

            def rewrite(address: str) -> Href:
                found = links[source, address] = self.desk.rewritten(address, source)
                return shown(found)

            definition = self.desk.site.definition
            found = body_of(str(self.raw("body") or ""), names=self.desk.has_names).html(
                trusted=definition.trusted,
                rewrite=rewrite,
                only=None if definition.remote else definition.address,
            )
            self.made[key] = Markup(found), links  # noqa: S704 - cleaned, unless content is trusted
            if not links:  # it is the same wherever it is read
                self.made.update({("drawn", other): self.made[key] for other in _BODIES})
        drawn: Markup = self.made[key][0]
        self.desk.trace.links.update(self.made[key][1])
        return drawn

    def __getitem__(self, name: str) -> Value:
        if name in self.besides:
            return self.besides[name]
        if name not in self.made:
            found = self.desk.found(self.subject, self.kind, name)
            self.made[name] = self.value(found.type, found.value(self.number)) if found else NOTHING
        value: Value = self.made[name]
        return value

    def far_value(self, ref: FieldRef, decoded: Any) -> Value:
        """Return a decoded value that is no field of the row itself; parts of dates are called as groups."""
        if not isinstance(ref.source, Part) or ref.type.type is Type.TERM:
            return self.value(ref.type, decoded)
        values = decoded if isinstance(decoded, tuple) else () if decoded is None else (decoded,)
        language = self.desk.site.definition.language
        return Value(tuple(Item(group_label(ref.name, each, str(each), language)) for each in values))

    def value(self, kind: FieldType, decoded: Any) -> Value:
        """Return a decoded value of a type with its markup."""
        if decoded is None or decoded == ():
            return NOTHING
        values = decoded if isinstance(decoded, tuple) else (decoded,)
        items = tuple(self.item(kind, each) for each in values)
        return Value(items, kind.type in (Type.INTEGER, Type.NUMBER))

    def item(self, kind: FieldType, value: Any) -> Item | Image:
        """Return one value with its markup."""
        words, language = self.desk.site.definition.words, self.desk.site.definition.language
        match kind.type:
            case Type.DATE | Type.DATETIME:
                return time_item(value, language)
            case Type.ENTRY:
                return self.desk.row(ENTRIES, str(value)).link
            case Type.TERM:
                return self.desk.row(terms_of(kind.taxonomy), str(value)).link
            case Type.IMAGE:
                shown = self.desk.picture(str(value))
                return Image(shown) if shown else Item(str(value), self.desk.source_of(str(value)))
            case Type.URL:
                return Item(str(value), self.desk.root.link(given_href(str(value))))
            case Type.YESNO:
                word = "yes" if value else "no"
                return Item(words.get(word, word))
            case _:
                unit = f"\N{NO-BREAK SPACE}{kind.unit}" if kind.unit else ""
                return Item(spoken(value) + unit)

    @property
    def published(self) -> datetime | None:
        """The instant of its date, a day being its first."""
        return self.instant("date")

    @property
    def changed(self) -> datetime | None:
        """The instant at which it was last changed; its date where nothing is said of changes."""
        return self.instant("updated") or self.published

    def instant(self, name: str) -> datetime | None:
        """Return a date of a field as an instant."""
        value = self.raw(name)
        if value is None or isinstance(value, datetime):
            return value
        return datetime(value.year, value.month, value.day, tzinfo=self.desk.site.clock.zone)


def time_item(value: date, language: str) -> Item:
    """Return a day or an instant as a page in a language shows it; machines get RFC 3339, with the offset."""
    time = stamp(value) if isinstance(value, datetime) else value.isoformat()
    return Item(date_label(value, language), time=time)
