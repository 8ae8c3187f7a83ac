"""What templates are given: the site, a page, its sections, their rows' columns, groups and forms."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal, Protocol, TypeVar
from urllib.parse import quote

from markupsafe import Markup, escape

from elenchus.frozen import Frozen, member
from elenchus.rendering.values import Item, Presented
from elenchus.values.addresses import Href  # noqa: TC001 - what views are made of

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence

    from elenchus.rendering.pager import Pager
    from elenchus.rendering.rows import RowView
    from elenchus.rendering.values import Value

__all__ = [
    "NAMES",
    "WORDS_OF_SUMMARY",
    "Control",
    "FormView",
    "GroupView",
    "Link",
    "MeasureView",
    "Option",
    "PageView",
    "SectionView",
    "ShownField",
    "SiteView",
    "Visit",
]  # fmt: skip

WORDS_OF_SUMMARY = 30
NAMES = ("title", "name")


class Link(Presented):
    """A link with its text; ``type`` is the media type of what it leads to, if that is no page.

    ``depth`` counts what stands above it in a tree.
    """

    text: str
    href: Href
    type: str = ""
    depth: int = 0

    def __str__(self) -> str:
        return self.text

    def __html__(self) -> str:
        return _linked(self.text, self.href)


def _linked(text: str, href: str) -> str:
    """Return a text as HTML, as a link where it leads somewhere."""
    return Markup('<a href="{}">{}</a>').format(href, text) if href else escape(text)


class _Deep(Protocol):
    """What stands somewhere in a tree."""

    @property
    def depth(self) -> int:
        """How much stands above it."""


_Node = TypeVar("_Node", bound=_Deep)


def _branches(nodes: Sequence[_Node]) -> list[list[_Node]]:
    """Return the nodes of a tree, which follow depth first, in a list for each root."""
    found: list[list[_Node]] = []
    for node in nodes:
        if node.depth and found:
            found[-1].append(node)
        else:
            found.append([node])
    return found


class ShownField(Presented):
    """A field that a section shows, and what it is called."""

    name: str
    label: str
    is_number: bool = False

    def __str__(self) -> str:
        return self.label

    @property
    def is_title(self) -> bool:
        """Say whether it is what links to the row's page."""
        return self.name in NAMES


class MeasureView(Presented):
    """A measure of a group, or of all rows: what it is called, its value, and that as people read it."""

    label: str
    value: Any
    shown: Item

    def __str__(self) -> str:
        return str(self.shown)

    def __html__(self) -> Markup | str:
        return self.shown.__html__()


class GroupView(Presented):
    """A group: its label, the page about it, how many rows it has, those that stand here.

    ``continued`` says that its first rows stand on the page before, ``measures`` are those of its rows.
    """

    label: str
    href: Href
    count: int
    rows: tuple[RowView, ...]
    continued: bool = False
    id: str = ""
    measures: tuple[MeasureView, ...] = ()

    def __str__(self) -> str:
        return self.label

    def __html__(self) -> str:
        return _linked(self.label, self.href)


class Option(Presented):
    """One choice: what is sent, what people read, how deep it stands in a tree, how many rows it leaves."""

    value: str
    label: str
    depth: int = 0
    count: int | None = None
    is_chosen: bool = False

    def __str__(self) -> str:
        return self.label


class Control(Presented):
    """One parameter of a form: ``shape`` is many or one of its options, or a text."""

    name: str
    label: str
    shape: Literal["many", "one", "text"]
    options: tuple[Option, ...] = ()
    text: str = ""
    is_order: bool = False

    def __str__(self) -> str:
        return self.label

    @property
    def branches(self) -> list[list[Option]]:
        """The options of a tree root by root, each with all below it, so that nothing tears them apart."""
        return _branches(self.options)


class FormView(Presented):
    """The form of a section.

    ``keys`` is what the script chooses by, as JSON: the rows that each choice leaves and the rows in each
    order, by their numbers; empty where an answer is asked for by address. ``rest`` are the rows that
    stand on later pages.
    """

    action: str
    controls: tuple[Control, ...]
    total: int
    keys: str = ""
    rest: tuple[RowView, ...] = ()
    rows: Mapping[str, int] = member(default_factory=dict)


class SectionView(Presented):
    """A section of a page, or a listing that a template asks for; written into a template it is its HTML.

    ``look`` is the same where rows of lists look the same; empty where they are never shared.
    """

    id: str
    title: str
    name: str
    layout: str
    rows: tuple[RowView, ...]
    columns: tuple[ShownField, ...]
    total: int
    matched: int
    groups: tuple[GroupView, ...] | None = None
    is_archive: bool = False
    cards_in_row: int = 0
    words: int = WORDS_OF_SUMMARY
    empty_message: str = ""
    is_hidden: bool = False
    pager: Pager | None = None
    form: FormView | None = None
    choices: tuple[Link, ...] = ()
    beside: tuple[Link, ...] = ()
    level: int = 2
    why: str = ""
    change: str = ""
    problems: tuple[str, ...] = ()
    draw: Callable[[SectionView], Markup] | None = member(default=None, compare=False)
    look: str = ""
    measures: tuple[MeasureView, ...] = ()
    grouped_by: str = ""

    @property
    def template(self) -> str:
        """The template of its layout: a built-in one by its word, or a file of the site."""
        return self.layout if "." in self.layout else f"layouts/{self.layout}.html"

    def __iter__(self) -> Iterator[RowView]:
        return iter(self.rows)

    def __len__(self) -> int:
        return len(self.rows)

    def __html__(self) -> str:
        return self.draw(self) if self.draw else ""

    def __str__(self) -> str:
        return str(self.__html__())

    def shows(self, name: str) -> bool:
        """Say whether a field is shown."""
        return any(column.name == name for column in self.columns)

    def why_of(self, row: RowView) -> Markup | str:
        """Return the link to why a row is listed; nothing where the page is published."""
        if not self.why:
            return ""
        address = f"{self.why}&entry={quote(row.id)}"
        return Markup(
            ' <a class="elen-why-link" href="{}">why<span class="elen-unseen"> {}</span></a>'
        ).format(address, row.title)

    def meta(self, row: RowView) -> list[tuple[ShownField, Value]]:
        """Return the date and the fields of a row that have no place of their own in lists and cards."""
        columns = (*(each for each in self.columns if each.name == "date"), *self.others)
        return [(column, value) for column in columns if (value := row[column.name])]

    def key(self, row: RowView) -> Markup | str:
        """Return the attribute by which the script finds a row; nothing where nothing is chosen."""
        number = self.form.rows.get(row.id) if self.form else None
        return "" if number is None else Markup(' data-row="{}"').format(number)

    @property
    def branches(self) -> list[list[Link]]:
        """What can be chosen, root by root, each with all that lies below it."""
        return _branches(self.choices)

    @property
    def others(self) -> tuple[ShownField, ...]:
        """The fields besides those that have a place of their own in lists and cards."""
        return tuple(each for each in self.columns if each.name not in (*NAMES, "image", "date", "summary"))


class Visit(Frozen):
    """One look at a page: which of its pages, in which folder of a section's own, and what was chosen.

    ``query`` are the values that a visitor gave; None where the page is published and nothing can be asked.
    """

    number: int = 1
    folder: str = ""
    query: Mapping[str, Sequence[str]] | None = None
    notices: tuple[str, ...] = ()


class SiteView(Presented):
    """The site as templates see it."""

    title: str
    language: str
    address: str
    home: str
    menu: tuple[Link, ...]

    def __str__(self) -> str:
        return self.title


class PageView(Presented):
    """A page as its template sees it.

    ``row`` is the entry or the term that it is about, ``facts`` its fields that have no place of their
    own, ``terms`` its taxonomies. ``previous`` and ``next`` lead to the pages before and after it;
    ``earlier`` and ``later`` to those of its pager.
    """

    title: str
    heading: str
    href: Href
    name: str = ""
    about: str = ""
    description: str = ""
    canonical: str = ""
    number: int = 1
    pages: int = 1
    sections: tuple[SectionView, ...] = ()
    row: RowView | None = None
    subject: str = ""
    count: int | None = None
    trail: tuple[Link, ...] = ()
    facts: tuple[ShownField, ...] = ()
    terms: tuple[ShownField, ...] = ()
    previous: Link | None = None
    next: Link | None = None
    earlier: str = ""
    later: str = ""
    alternates: tuple[Link, ...] = ()
    is_private: bool = False
    needs_script: bool = False
    notices: tuple[str, ...] = ()
    problems: tuple[str, ...] = ()

    def __str__(self) -> str:
        return self.title

    def __html__(self) -> str:
        return _linked(self.title, self.href)
