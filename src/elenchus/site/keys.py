"""The keys of the files that define a site, each declared once.

Reading, checking, suggestions, ``elenchus describe KEY`` and docs/keys.md are made of these declarations.
"""

from __future__ import annotations

import json
from datetime import date, datetime
from typing import TYPE_CHECKING, Any

from elenchus.frozen import Frozen
from elenchus.values.texts import either

if TYPE_CHECKING:
    from collections.abc import Mapping

__all__ = [
    "ACCEPTED",
    "ASKED",
    "EXPECT",
    "EXTRAS_OF_SOURCE",
    "FIELD",
    "KIND",
    "LISTING",
    "NAMES_OF_TYPES",
    "PAGE",
    "PARAMETER",
    "PUBLISH",
    "SECTION",
    "SITE",
    "SITE_FILE",
    "SOURCE",
    "TABLES",
    "TAXONOMY",
    "TERMS_OF_SOURCE",
    "TOP",
    "Key",
    "Table",
    "Types",
    "Written",
]  # fmt: skip

Types = type | tuple[type, ...]
NAMES_OF_TYPES: dict[type, str] = {
    str: "a text",
    bool: "true or false",
    dict: "a table",
    list: "a list",
    int: "a number",
    float: "a number",
    date: "a date",
    datetime: "a date",
}


class Key(Frozen):
    """One key: the types that its value may have, what it is where nothing is written, and what it does.

    ``words`` are all that it can say, where it is one of a few; ``is_open`` lets it be a file name besides.
    """

    name: str
    types: Types
    doc: str
    default: Any = None
    words: tuple[str, ...] = ()
    is_open: bool = False
    since: str = "0.1"

    @property
    def takes(self) -> str:
        """What its value may be, in words."""
        if self.words:
            known = either(word or "nothing" for word in self.words)
            return f"{known}, or a file of templates/" if self.is_open else known
        kinds = self.types if isinstance(self.types, tuple) else (self.types,)
        return either(dict.fromkeys(NAMES_OF_TYPES[kind] for kind in kinds))

    @property
    def by_itself(self) -> str:
        """What it is where nothing is written, as it would be written; nothing where it then is not there."""
        if self.default in (None, "", (), 0) and self.default is not False:
            return ""
        return "" if self.default in ([], {}) else json.dumps(self.default, ensure_ascii=False)


class Table(Frozen):
    """The keys that may stand together; ``header`` is how the table is written, ``file`` where."""

    header: str
    file: str
    doc: str
    keys: tuple[Key, ...]

    @property
    def by_name(self) -> Mapping[str, Key]:
        """The keys by their names."""
        return {key.name: key for key in self.keys}


class Written(dict[str, Any]):
    """The values that a table of a file has; asked for a key that is not written, it gives the default."""

    def __init__(self, table: Table, values: Mapping[str, Any]) -> None:
        super().__init__(values)
        self.table = table

    def __missing__(self, name: str) -> Any:
        return self.table.by_name[name].default


SITE_FILE, _LISTINGS, _PAGES = "elenchus.toml", "listings.toml", "pages.toml"

# fmt: off
TOP = Table(
    "",
    SITE_FILE,
    "The site file, beside which everything else stands.",
    (
        Key("site", dict, "What the site is."),
        Key("sources", dict, "Where content comes from: a table for each source."),
        Key("kinds", dict, "The kinds of entries: a table for each."),
        Key("taxonomies", dict, "What entries are filed under: a table for each."),
        Key("fields", dict, "Fields that every kind has, declared as those of one kind are."),
        Key("conditions", dict, 'Names for conditions: `fresh = "date in last 30 days"` makes `where fresh`.' ),
        Key("accepted", list, "Findings of `check` that the site lives with."),
        Key("publish", dict, "What publishing writes, and where."),
        Key("tables", dict, "The tables that `ask` and `why` put their questions to."),
        Key("words", dict, "What pages say of themselves, in other words or in another language."),
    ),
)
SITE = Table(
    "[site]",
    SITE_FILE,
    "What the site is.",
    (
        Key("title", str, "What the site is called.", ""),
        Key("address", str, "Its whole address, such as `https://skerrybay.example/`; feeds need it.", ""),
        Key("timezone", str, "The IANA name of the zone in which its days begin and end.", "UTC"),
        Key("language", str, "The language of its pages, such as `en-GB`: months and dates are called as it does.", "en"),
        Key("clock", (datetime, date, str), "A fixed now, for demos and tests."),
        Key("seed", str, "What random orders depend on, beside the day or the name.", ""),
        Key("prefer", list, "Which source counts where several give an entry with the same id: the first of these.", []),
        Key("trusted", bool, "Whether the HTML in its content stands on pages as it is.", False),
        Key("remote", bool, "Whether pages load pictures from other origins, which learn of each visitor by that.", True),
    ),
)
SOURCE = Table(
    "[sources.NAME]",
    SITE_FILE,
    "A place where content comes from.",
    (
        Key("read", str, "The format: `markdown`, `csv`, `json` and others.", ""),
        Key("path", (str, list), "A folder or file below the site, a pattern such as `exports/*.csv`, or several of them.", ""),
        Key("kind", str, "The kind of its entries; `{folder}` for the folder that they stand in, `{KEY}` for a value.", "{folder}"),
        Key("kind_at_root", str, "The kind of files that stand in no folder.", ""),
        Key("kinds", dict, 'Kinds that have other words there: `Buch = "book"`.', {}),
        Key("columns", dict, 'Fields that have other names in the content: `title = "Headline"`.', {}),
        Key("omit", list, "Keys and columns that are never read, such as `email` or `_*`; `author.email` for a part of a value, `#menu` or `.box` for an element of HTML pages.", []),
        Key("exclude", list, "Patterns of files that are not content, such as `drafts/**`.", []),
        Key("outside", bool, "Whether its files may lie outside the folder of the site, or behind a link.", False),
        Key("statuses", dict, 'Statuses that have other words there: `live = "published"`.', {}),
        Key("missing_status", str, "The status of entries that have none.", "published", ("published", "scheduled", "draft", "withdrawn")),
        Key("flags", dict, 'Keys that say yes or no of the status: `hidden = "withdrawn"`.', {}),
        Key("separator", str, "What parts one text into several values; empty for nothing.", ","),
        Key("dates", list, "How dates are written that are not as `2026-05-18`: `dd/MM/y`, `d MMMM y`, or `epoch` for seconds since 1970.", []),
        Key("slug", str, "What slugs are made of: of files `{stem}`, `{folder}`, `{folders}` and `{date}`, of rows `{KEY}`.", ""),
        Key("title", str, "The pattern for titles of entries that have none: `{species}, {place}`.", ""),
        Key("blanks", list, "Words that mean “no value”, such as `n/a`.", []),
        Key("date", str, "What the date is made of where none is written, of the same parts of a file's path.", ""),
        Key("numbers", (str, dict), 'How numbers are written, by language: `de` for `1.299,50`, `en` for `1,299.50`; for some fields: `{ price = "de" }`.', ""),
        Key("unit", (str, dict), 'The unit that is written beside numbers, such as `"€"`; for some fields: `{ price = "€", length = "km" }`.', ""),
        Key("scale", (int, float, dict), "The top of the scale: 5 for `4.5/5` and `★★★★`; for some fields: `{ rating = 5 }`.", 0),
        Key("encoding", str, "The encoding of its files, such as `cp1252`, where they are neither UTF-8 nor marked.", ""),
        Key("delimiter", str, "What parts the cells of a table; found where nothing is said.", ""),
        Key("quote", str, "The quote character around cells; empty if quotes mean nothing.", '"', ('"', "'", "")),
        Key("header", int, "How many header rows the table has: 0, 1 or 2 (read together).", 1),
        Key("footer", int, "How many rows at the end of the table to skip, such as totals.", 0),
        Key("bodies", str, "What the texts of entries are written in.", "markdown", ("markdown", "html")),
        Key("titles", str, "The format of titles; tags in HTML titles are removed.", "text", ("text", "html")),
        Key("texts", str, "The format of titles, terms and other short texts: in HTML, tags are removed, and `&amp;` is `&`.", "text", ("text", "html")),
        Key("name_links", bool, "Whether `[[Name]]` in its texts is a link to the entry of that name.", False),
        Key("edits", str, "The column in which the pending edit of a row stands: an object of JSON with what is to change.", ""),
        Key("url", str, "The address of a database, without a password: `postgresql://reader@localhost/bay`; of a feed.", ""),
        Key("url_from", str, "The variable of the environment that has that address.", ""),
        Key("password_from", str, "The variable of the environment that has the password.", ""),
        Key("table", str, "The table of a database whose rows are entries.", ""),
        Key("query", str, "What is asked of a database instead; it is never written to.", ""),
        Key("prefix", str, "What the names of all tables begin with.", ""),
        Key("key", str, "The column that tells rows apart; the primary key where nothing is said.", ""),
        Key("updated", str, "The column that says when a row was changed last, so that only such rows are read again.", ""),
        Key("zone", str, "The IANA name of the zone of times that have none; that of the site where nothing is said.", ""),
        Key("writable", bool, "Whether `set` may change rows of the database; else it is only read.", False),
        Key("timeout", int, "How many seconds a query of a database may take.", 60),
        Key("poll", int, "How often `elenchus serve` asks a database for changes, in seconds; 0 for never.", 5),
        Key("where", dict, 'The values that columns of its rows must have: `{ type = "news" }`.', {}),
        Key("terms", dict, "Where a database has the terms of a taxonomy: a table for each.", {}),
        Key("extras", dict, "Where a database has more fields, each in a row of its own.", {}),
        Key("fetch_every", str, "How old what was fetched from an address may be: `15 minutes`, `2 hours`.", "15 minutes"),
        Key("records", str, "Where the records of a JSON document are, as a path of RFC 9535: `$.data.items[*]`.", ""),
    ),
)
TERMS_OF_SOURCE = Table(
    "[sources.NAME.terms.TAXONOMY]",
    SITE_FILE,
    "The table of a database that says which terms entries have.",
    (
        Key("table", str, "The table: a row for each term of each entry.", ""),
        Key("entry", str, "The column with the key of the entry.", ""),
        Key("term", str, "The column with the term, or with its key in `names`.", ""),
        Key("names", str, "The table of terms, where `term` is a key.", ""),
        Key("key", str, "The column of its keys.", "id"),
        Key("name", str, "The column of its names.", "name"),
        Key("slug", str, "The column of their slugs; they are made of the names if nothing is said.", ""),
        Key("parent", str, "The column with the key of the term above, in a tree.", ""),
        Key("where", dict, 'The values that columns of that table must have: `{ vocabulary = "topic" }`.', {}),
    ),
)
EXTRAS_OF_SOURCE = Table(
    "[sources.NAME.extras]",
    SITE_FILE,
    "The table of a database that has more fields: an entry, a name and a value a row.",
    (
        Key("table", str, "The table.", ""),
        Key("entry", str, "The column with the key of the entry.", ""),
        Key("name", str, "The column with the name of the field.", ""),
        Key("value", str, "The column with its value; several rows make a list.", ""),
        Key("where", dict, "The values that columns of its rows must have.", {}),
    ),
)
KIND = Table(
    "[kinds.NAME]",
    SITE_FILE,
    "A kind of entries.",
    (
        Key("address", str, "The address of its entries, with `{slug}`, `{kind}` and `{id}` filled in.", ""),
        Key("fields", dict, "The fields that only this kind has.", {}),
    ),
)
FIELD = Table(
    "[kinds.NAME.fields]",
    SITE_FILE,
    "A field, also below `[fields]`.",
    (
        Key("type", str, "`text`, `integer`, `number`, `yesno`, `date`, `datetime`, `choice`, `entry`, `url` or `image`.", "text"),
        Key("many", bool, "Whether it holds several values.", False),
        Key("choices", list, "What a choice can be, in the order in which it compares and sorts.", ()),
        Key("kind", (str, list), "The kind that an entry may be of, or several; any if nothing is said.", ""),
        Key("unit", str, "What a number measures, as pages show it.", ""),
        Key("at_least", (int, float), "The smallest number."),
        Key("at_most", (int, float), "The largest number."),
    ),
)
ACCEPTED = Table(
    "[[accepted]]",
    SITE_FILE,
    "A finding of `check` that the site lives with.",
    (
        Key("code", str, "Its code.", ""),
        Key("file", str, "The file in which it is accepted; any where nothing is said.", ""),
        Key("says", str, "Words that its message must have.", ""),
        Key("why", str, "Why the site lives with it.", ""),
    ),
)
PUBLISH = Table(
    "[publish]",
    SITE_FILE,
    "What publishing writes, and where.",
    (
        Key("to", str, "The folder that pages are written to.", "published"),
        Key("files", list, "Files and folders of the site that are published as they are.", []),
        Key("formulas", bool, "Whether cells of CSV may be formulas to a spreadsheet.", False),
        Key("redirects", bool, "Whether pages that moved lead on from their old addresses, and `redirects.json` lists them.", False),
        Key("moved", dict, 'Old addresses with new ones, beside those that are known: `"/old/" = "/new/"`.', {}),
    ),
)
ASKED = Table(
    "[tables]",
    SITE_FILE,
    "The tables that `ask` and `why` put their questions to.",
    (Key("at", str, "Where `export` writes them: a folder, or the address of a database, both from the folder of the site.", ""),),
)
TAXONOMY = Table(
    "[taxonomies.NAME]",
    SITE_FILE,
    "What entries are filed under.",
    (
        Key("tree", bool, "Whether its terms stand below one another.", False),
        Key("address", str, "The address of its terms, with `{slug}`, `{path}` and `{id}` filled in.", ""),
        Key("terms", str, "The CSV file that defines its terms; without one they are those that content uses.", ""),
    ),
)
LISTING = Table(
    "[NAME]",
    _LISTINGS,
    "A question with a name.",
    (
        Key("title", str, "The heading under which its rows stand; its name as words where nothing is said.", ""),
        Key("about", str, "What it is about, for feeds and for data.", ""),
        Key("ask", str, "The question; with `based_on` the clauses that replace those of the other listing.", ""),
        Key("based_on", str, "The listing whose clauses and settings it has where it says nothing itself.", "" ),
        Key("layout", str, "How its rows are shown; a file of `templates/` by its name.", "", ("titles", "list", "cards", "table"), is_open=True),
        Key("per_row", int, "How many cards stand beside one another; as many as there is room for where nothing is said.", 0),
        Key("show", list, "The fields that its rows show.", ()),
        Key("summary_words", int, "How many words of the text stand for a summary.", 30),
        Key("if_empty", str, "What becomes of a section without rows: `fail` stops publishing.", "", ("hide", "message", "fail")),
        Key("empty_message", str, "What stands there instead.", ""),
        Key("fill_from", str, "The listing whose rows follow where there are too few.", ""),
        Key("at_least", int, "How many rows it is filled up to.", 0),
        Key("expect", list, "What must be true of its rows before anything is published.", []),
        Key("parameters", dict, "What it is asked with: a table for each.", {}),
    ),
)
PARAMETER = Table(
    "[NAME.parameters.PARAMETER]",
    _LISTINGS,
    "A value that a listing is asked with.",
    (
        Key("type", str, "A taxonomy, a kind, `dates`, or a type of fields."),
        Key("many", bool, "Whether it takes several values.", False),
        Key("label", str, "What forms call it; its name where nothing is said.", ""),
        Key("choices", (list, dict), "What it can be: values, or words that stand for values.", {}),
        Key("conditions", dict, "Words that stand for a condition; an empty text for none.", {}),
        Key("orders", dict, "Words that stand for an order.", {}),
        Key("default", (str, list, int, float, bool, date), "What it is where no value is given."),
        Key("absent", str, "What happens where there is none: an error, no rows, or a list of what can be chosen.", "error", ("error", "nothing", "choices")),
    ),
)
EXPECT = Table(
    "expect = [{ … }]",
    _LISTINGS,
    "What must be true of a listing before anything is published.",
    (
        Key("ask", str, "A condition: the numbers are then about the rows that meet it.", ""),
        Key("with", dict, "Values for its parameters.", {}),
        Key("count", int, "Exactly so many rows."),
        Key("at_least", int, "At least so many."),
        Key("at_most", int, "At most so many."),
        Key("includes", list, "Entries that are among them.", []),
        Key("excludes", list, "Entries that are not.", []),
    ),
)
PAGE = Table(
    "[NAME]",
    _PAGES,
    "A page, or with `each` a set of pages.",
    (
        Key("address", str, "Its path below the site, with names in braces filled in from its row.", ""),
        Key("title", str, "What it is called.", ""),
        Key("about", str, "What it is about, in a sentence or two.", ""),
        Key("each", str, "A listing or a question: a page is made for each of its rows or groups.", ""),
        Key("sections", list, "What stands on it: listings by their names, or tables.", []),
        Key("no_repeats", bool, "Whether a section leaves out what one that chooses before it shows.", False),
        Key("private", bool, "Whether it is never published, and may show drafts on the preview.", False),
        Key("menu", bool, "Whether the menu of the site leads to it: each page that is no set, unless this says no."),
        Key("within", str, "The listing in whose order the pages before and after it stand.", ""),
        Key("template", str, "One of the site's own templates.", ""),
    ),
)
SECTION = Table(
    "sections = [{ … }]",
    _PAGES,
    "What stands on a page.",
    (
        Key("listing", str, "The listing that it shows.", ""),
        Key("ask", str, "A question of its own; beside `listing` clauses that replace those of the listing.", ""),
        Key("title", str, "Its heading; that of the listing where nothing is said.", ""),
        Key("with", dict, "Values for parameters; `:here` and `:here.FIELD` are taken from the page's row.", {}),
        Key("priority", int, "Which section chooses first under `no_repeats`: the smallest number."),
        Key("pages_at", str, "The folder of its later pages, where several sections go on for more than one.", ""),
        Key("on_every_page", bool, "Whether it stands on later pages too.", False),
        Key("beside", list, "The forms in which its rows stand as files beside the page, such as `atom` and `csv`.", []),
    ),
)
# fmt: on
TABLES = (
    TOP,
    SITE,
    SOURCE,
    TERMS_OF_SOURCE,
    EXTRAS_OF_SOURCE,
    KIND,
    FIELD,
    TAXONOMY,
    PUBLISH,
    ASKED,
    ACCEPTED,
    LISTING,
    PARAMETER,
    EXPECT,
    PAGE,
    SECTION,
)
