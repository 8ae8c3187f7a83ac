"""The site that start writes: what is shown of each kind and taxonomy, in which order, at which address."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from elenchus.language.words import is_keyword
from elenchus.schema.types import CORE_FIELDS
from elenchus.starting.guessing import is_event
from elenchus.starting.plurals import plural
from elenchus.values.texts import distinct

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

    from elenchus.starting.guessing import Typed
    from elenchus.starting.sitedraft import SiteDraft, SourceDraft
    from elenchus.starting.values import KeyValues

__all__ = ["MOST_LISTED", "MOST_PAGES", "KindPlan", "SitePlan", "TaxonomyPlan", "site_plan"]

MOST_PAGES = 20_000  # entries of a kind each of which has a page
MOST_LISTED = 500  # entries of a list of a kind that has more than that
_LIMIT = f" limit {MOST_LISTED}"
_MOST_ON_HOME = 6  # kinds
_MOST_FACTS = 5
_MOST_OPTIONS = 60  # terms that a form offers
_MOST_CHOICES = 3
_MOST_TAXONOMIES = 8
_OWN = ("archive", "assets", "page", "index")  # addresses that other pages have
_PAGES = ("home", "archive", "year-page", "month-page", "not-found")
_LONGEST_CELL = 40
_MOST_ORDERS = 6
_PLAIN = ("text", "integer", "number", "yesno", "date", "datetime", "choice")


class KindPlan(NamedTuple):
    """What is shown of a kind: in which order, with which fields, and by what visitors may choose.

    ``starts`` is the field that says when something takes place. ``choices`` are the fields of the form with
    the sign between each and its value.
    """

    name: str
    title: str
    plural: str
    address: str
    page: str
    order: str
    starts: str
    is_table: bool
    shown: Sequence[str]
    shown_short: Sequence[str]
    facts: Sequence[str]
    choices: Mapping[str, str]
    types: Mapping[str, str]
    words: Mapping[str, Sequence[str]]
    orders: Mapping[str, str]
    taxonomies: Sequence[str]
    few: int
    has_pages: bool

    @property
    def limit(self) -> str:
        """What its lists end with, if it has too many entries."""
        return "" if self.has_pages else _LIMIT


class TaxonomyPlan(NamedTuple):
    """What is shown of a taxonomy."""

    name: str
    title: str
    address: str
    page: str
    sign: str


class SitePlan(NamedTuple):
    """What a site shows; ``begin`` is how questions about all that has a date begin."""

    kinds: Sequence[KindPlan]
    taxonomies: Sequence[TaxonomyPlan]
    dated: Sequence[str]
    begin: str
    order: str
    addresses: Mapping[str, str]
    home: Sequence[str]

    @property
    def limit(self) -> str:
        """What lists of several kinds end with, where one has too many entries."""
        return _LIMIT if self.pageless else ""

    @property
    def pageless(self) -> list[str]:
        """The kinds with too many entries for a page of each."""
        return [kind.name for kind in self.kinds if not kind.has_pages]


def site_plan(draft: SiteDraft, counts: Mapping[str, int], dated: Sequence[str]) -> SitePlan:
    """Return what a site shows; ``counts`` are the entries of each kind, ``dated`` the kinds with dates."""
    kinds = sorted(draft.kinds, key=lambda kind: -counts.get(kind, 0))
    trees = {name: tree for name, tree in draft.taxonomies.items() if not is_keyword(name)}
    several = _several(draft)
    names = [*_OWN, *map(several, kinds), *map(several, draft.taxonomies)]
    found = distinct(names)[len(_OWN) :]
    addresses = dict(zip([*kinds, *(f"of {name}" for name in draft.taxonomies)], found, strict=True))
    usual = sorted(trees, key=lambda name: -_entries_with(draft, name))[:_MOST_TAXONOMIES]
    # A page that is no set has no name that a listing, or another page, has.
    taken = [*(f"{name}-page" for name in (*kinds, *usual)), *_PAGES]
    pages = distinct([*taken, *map(several, kinds), *map(several, usual)])[len(taken) :]
    plans = [
        _kind_plan(draft, kind, pages[at], addresses[kind], counts.get(kind, 0), is_dated=kind in dated)
        for at, kind in enumerate(kinds)
    ]
    taxonomies = [
        TaxonomyPlan(
            name,
            _title(several(name)),
            addresses[f"of {name}"],
            pages[len(kinds) + at],
            "under" if trees[name] else "=",
        )
        for at, name in enumerate(usual)
    ]
    begin = f"from {', '.join(dated)}" if dated else ""
    home = [f"{plan.name}-to-come" for plan in plans if plan.starts]
    home += [f"newest-{plan.name}" for plan in plans[:_MOST_ON_HOME]]
    home += ["months"] if dated else []
    order = "newest" if dated else _by_title(draft.sources)
    return SitePlan(plans, taxonomies, dated, begin, order, addresses, home)


def _entries_with(draft: SiteDraft, name: str) -> int:
    """Return how many entries that were looked at have terms of a taxonomy."""
    return sum(source.values[name].having for source in draft.sources if name in source.values)


def _title(words: str) -> str:
    """Return a name as a title."""
    text = words.replace("-", " ").replace("_", " ")
    return text[:1].upper() + text[1:]


def _kind_plan(
    draft: SiteDraft, kind: str, page: str, address: str, count: int, *, is_dated: bool
) -> KindPlan:
    """Return what is shown of a kind."""
    sources = [source for source in draft.sources if kind in source.kinds]
    fields = {name: told for name, told in draft.fields(kind).items() if not is_keyword(name)}
    given = {name for source in sources for name in source.values}
    used = dict.fromkeys(name for source in sources for name in source.taxonomies)
    terms = [name for name in draft.taxonomies if name in used and not is_keyword(name)]
    dates = [name for name, told in fields.items() if told.type in ("date", "datetime")]
    starts = next(filter(is_event, dates), "")
    few = 5 if len(draft.kinds) > 1 or starts else 10
    order = "newest" if is_dated else starts or _by_title(sources)
    facts = [
        name for name, told in fields.items()
        if told.type in _PLAIN and not told.many and (told.type != "text" or _is_short(sources, name))
    ]  # fmt: skip
    is_table = "body" not in given and len(facts) + len(terms) > 1
    extra = ["date"] if is_dated else []
    columns = [*extra, *(name for name in terms if len(terms) <= _MOST_FACTS), *facts][:_MOST_FACTS]
    short = ["title", *extra, *(["summary"] if given & {"summary", "body"} else columns[:2])]
    choices: dict[str, str] = {}
    types: dict[str, str] = {}
    words: dict[str, Sequence[str]] = {}
    for name in terms:
        if _terms_of(sources, name) <= _MOST_OPTIONS and len(choices) < _MOST_CHOICES:
            choices[name], types[name] = "under" if draft.taxonomies[name] else "=", name
    for name, told in fields.items():
        if told.type in ("choice", "yesno") and len(choices) < _MOST_CHOICES and name not in CORE_FIELDS:
            choices[name], types[name], words[name] = "=", told.type, told.choices
    return KindPlan(
        kind,
        _title(_several(draft)(kind)),
        _several(draft)(kind).replace("-", " "),
        address,
        page,
        order,
        starts,
        is_table,
        ["title", *columns] if is_table else short,
        list(dict.fromkeys(short)),
        facts,
        choices,
        types,
        words,
        _orders(fields, order, _by_title(sources), is_dated=is_dated),
        [name for name in terms if any(_are_shared(source.values.get(name)) for source in sources)],
        few if count >= 2 * few else 0,
        count <= MOST_PAGES,
    )


def _several(draft: SiteDraft) -> Callable[[str], str]:
    """Return what gives the word for several: that of English, else the word as it is."""
    return plural if draft.language.partition("-")[0] == "en" else str


def _by_title(sources: Sequence[SourceDraft]) -> str:
    """Return the order by title, in which numbers inside titles count as numbers where there are such."""
    titles = [source.values["title"] for source in sources if "title" in source.values]
    has_numbers = any(char.isdecimal() for each in titles for text in each.texts for char in text)
    return "title natural" if has_numbers or any(source.spec.title for source in sources) else "title"


def _are_shared(values: KeyValues | None) -> bool:
    """Say whether some entries have the same."""
    return values is not None and any(count > 1 for count in values.texts.values())


def _terms_of(sources: Sequence[SourceDraft], name: str) -> int:
    """Return how many terms of a taxonomy the entries of sources have."""
    return sum(len(source.values[name].texts) for source in sources if name in source.values)


def _is_short(sources: Sequence[SourceDraft], name: str) -> bool:
    """Say whether all texts of a key are so short that they fit a cell of a table."""
    values = [source.values[name] for source in sources if name in source.values]
    return all(len(text) <= _LONGEST_CELL for each in values for text in each.texts)


def _orders(fields: Mapping[str, Typed], order: str, by_title: str, *, is_dated: bool) -> dict[str, str]:
    """Return the orders among which visitors choose, the first of which holds if they do not."""
    found = {"newest": "newest", "oldest": "oldest"} if is_dated else {}
    found["A to Z"] = by_title
    if order not in found.values():
        found = {_title(order): order, **found}
    for name, told in fields.items():
        if told.type in ("integer", "number") and not told.many and len(found) < _MOST_ORDERS:
            found[f"{_title(name)}, high to low"] = f"{name} desc"
    return found
