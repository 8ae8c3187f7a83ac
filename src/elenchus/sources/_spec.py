"""What is said of a source and of its units: the records that all formats share."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple, Protocol, TypeAlias

from elenchus.errors import Problem
from elenchus.frozen import Frozen, member
from elenchus.schema.record import Habits, Record, RowBatch

if TYPE_CHECKING:
    from array import array
    from collections.abc import Callable, Iterator, Mapping, Sequence
    from pathlib import Path

    from elenchus.schema.edits import EntryEdit

__all__ = [
    "FILE_PARTS", "LEFT_OUT", "MOST_KEYS", "Editor", "ExtrasSpec", "Item", "Reader", "Scan", "Source",
    "SourceSpec", "TableSpec", "TermsSpec", "UnitContent", "UnreachableError",
]  # fmt: skip

LEFT_OUT = "Its entries are left out."
MOST_KEYS = 1_000  # of one file, each of which is a column
FILE_PARTS = ("stem", "folder", "folders", "date")  # of which slugs and dates of files can be made


class TermsSpec(Frozen):
    """Where a database has the terms of a taxonomy: a table that joins entries with them.

    ``entry`` is the column with the key of the entry, ``term`` that with the term: its name, or its key in
    the table ``names``, in which ``key``, ``name``, ``slug`` and ``parent`` are columns. ``where`` are the
    values that columns must have: of that table, or of ``table`` if there is no other.
    """

    taxonomy: str
    table: str
    entry: str
    term: str
    names: str = ""
    key: str = "id"
    name: str = "name"
    parent: str = ""
    slug: str = ""
    where: Mapping[str, Plain] = member(default_factory=dict)


class ExtrasSpec(Frozen):
    """Where a database has more fields of entries: a table with the entry's key, a name and a value a row.

    ``where`` are the values that its columns must have.
    """

    table: str
    entry: str
    name: str
    value: str
    where: Mapping[str, Plain] = member(default_factory=dict)


class TableSpec(Frozen):
    """A table of a database, or what a query to it gives, as the site file describes it.

    ``url`` has no password; ``url_from`` and ``password_from`` name the variables of the environment that
    have all of it, or the password. A file of SQLite stands in the source's path instead. ``key`` is the
    column that tells rows apart, ``updated`` the one that says when a row was changed, ``zone`` that of times
    without one, ``where`` the values that columns of its entries must have. Only if it is ``writable`` are
    rows ever changed. A statement may take ``timeout`` seconds; a
    preview looks every ``poll`` seconds, or never for 0, whether anything has changed.
    """

    url: str = ""
    url_from: str = ""
    password_from: str = ""
    table: str = ""
    query: str = ""
    prefix: str = ""
    key: str = ""
    updated: str = ""
    zone: str = ""
    terms: tuple[TermsSpec, ...] = ()
    extras: ExtrasSpec | None = None
    writable: bool = False
    timeout: int = 60
    poll: int = 5
    where: Mapping[str, Plain] = member(default_factory=dict)


class SourceSpec(Frozen):
    """A source as the site file describes it.

    ``paths`` are files, folders and patterns below the site. ``kind`` is a kind, or ``{folder}`` for the
    folder below the path, or ``{column}`` for a value; ``kind_at_root`` is that of files in no folder, and
    ``kinds`` maps foreign words for kinds onto ours. ``columns`` maps a field's name to the name it has in
    the content; ``slug``, ``title`` and ``date`` are patterns for what nobody wrote. ``records`` is where the
    records of a JSON document are. Of a table, ``delimiter`` parts the cells, ``quote`` stands around those
    with a delimiter in them, ``header`` is how many rows name the columns, and ``footer`` how many at the end
    are no entries. ``bodies``, ``titles`` and ``texts`` say what these are written in,
    ``missing_status`` is the status of entries that say none, ``name_links``
    whether names in double brackets are links, ``edits`` is the column with the
    pending edit of a row. What stands at ``url`` is asked for again when it is ``every`` seconds old.
    ``omit`` are keys and columns that are never read, ``exclude`` patterns of files that are not content,
    ``outside`` whether its files may lie outside the site. ``names`` are those of declared fields and
    taxonomies. ``habits`` tell what else it writes in its own way.
    """

    name: str
    read: str
    paths: tuple[str, ...]
    kind: str = "{folder}"
    kind_at_root: str = ""
    kinds: Mapping[str, str] = member(default_factory=dict)
    columns: Mapping[str, str] = member(default_factory=dict)
    slug: str = ""
    title: str = ""
    date: str = ""
    encoding: str = ""
    delimiter: str = ""
    quote: str = '"'
    header: int = 1
    footer: int = 0
    records: str = ""
    bodies: str = ""
    titles: str = ""
    texts: str = ""
    missing_status: str = ""
    name_links: bool = False
    edits: str = ""
    url: str = ""
    every: int = 0
    omit: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()
    outside: bool = False
    names: tuple[str, ...] = ()
    table: TableSpec | None = None
    habits: Habits = member(default_factory=Habits)

    @property
    def place(self) -> str:
        """Where its content is, as the site file says it."""
        table = self.table
        address = self.url or (table.url or f"the address in {table.url_from}" if table else "")
        return ", ".join(self.paths) or address


class Scan(NamedTuple):
    """The units of a source, in their order, and what stands among them and cannot be read.

    Units of files are called by their paths below the site. ``signatures`` has four whole numbers a unit,
    which change when it does; the second and third are times, in nanoseconds since 1970, at which it was
    changed, or 0. ``note`` is kept for the next scan of the source. If it cannot be read now, ``failure``
    says why, and all else is what was found before.
    """

    units: Sequence[str]
    signatures: array[int]
    problems: Sequence[Problem]
    note: str = ""
    failure: Problem | None = None


class UnitContent(Protocol):
    """What a unit holds; where ``digest`` (64 bits, not 0) is as it was, so is that."""

    @property
    def digest(self) -> int:
        """What tells whether it is as it was."""


class UnreachableError(OSError):
    """What a unit holds cannot be learnt now: it stays as it was. ``problem`` tells why.

    ``source`` is the number of its source. Of a database that cannot be read nothing is taken.
    """

    def __init__(self, problem: Problem, source: int = -1) -> None:
        super().__init__(problem.message)
        self.problem = problem
        self.source = source

    def __reduce__(self) -> tuple[type[UnreachableError], tuple[Problem, int]]:
        """Return what makes it again in another process."""
        return UnreachableError, (self.problem, self.source)


Plain: TypeAlias = "str | int | float | bool"
Item: TypeAlias = Record | RowBatch | Problem
Editor: TypeAlias = "Callable[[SourceSpec, str, bytes, Sequence[EntryEdit]], bytes]"


class Reader(Protocol):
    """What reads the units of one source."""

    def content(self, unit: str) -> UnitContent:
        """Return what a unit holds. Raises OSError."""

    def items(self, unit: str, content: UnitContent) -> Iterator[Item]:
        """Yield the entries of a unit, and the problems that kept some from being read. Raises OSError."""

    def close(self) -> None:
        """Let go of whatever was opened."""


class Source(Protocol):
    """What a source module offers; ``SUFFIXES`` are the endings of the files that it reads."""

    SUFFIXES: tuple[str, ...]

    def scan(self, spec: SourceSpec, root: Path, before: Scan | None) -> Scan:
        """Return the units of a source of the site in a folder; ``before`` are those of the last run."""

    def reader(self, spec: SourceSpec, root: Path, units: Sequence[str]) -> Reader:
        """Return what reads some of them, which are asked for in their order."""
