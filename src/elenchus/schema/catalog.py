"""What checking a question may ask of content: its schema, and what names mean there."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple, Protocol

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.schema.types import Field, Schema

__all__ = ["Catalog", "TermName"]


class TermName(NamedTuple):
    """A term: the slugs from its root to itself, and what people write for it.

    The path is unique in its taxonomy; the label is the slug, or the path where several terms share that.
    """

    path: tuple[str, ...]
    label: str

    @property
    def address(self) -> str:
        """The slugs joined by slashes."""
        return "/".join(self.path)


class Catalog(Protocol):
    """The names of a site: content in memory, tables in a database, or those of a test.

    ``now`` is the instant of a question in microseconds since 1970, None where it includes what is not
    public: no suggestion names what its asker may not see.
    """

    @property
    def schema(self) -> Schema:
        """The kinds with their fields, undeclared ones of the content among them, and the taxonomies."""

    def term_fields(self, taxonomy: str) -> Mapping[str, Field]:
        """Return the fields of a taxonomy's terms, the columns of its file among them."""

    def terms_called(self, taxonomy: str, name: str) -> Sequence[TermName]:
        """Return the terms that a slug, path, id, name or alias may mean: none, one, or several."""

    def terms_beside(self, taxonomy: str, name: str) -> Sequence[TermName]:
        """Return the terms that a name could mean besides the root that it means."""

    def terms_near(self, taxonomy: str, name: str, now: int | None) -> Sequence[str]:
        """Return the slugs of the terms that come near a name, the nearest first."""

    def entries_called(self, name: str, kinds: Sequence[str] = ()) -> Sequence[str]:
        """Return the ids of the entries that an id, slug or kind/slug may mean, of some kinds if given."""

    def entries_near(self, name: str, kinds: Sequence[str], now: int | None) -> Sequence[str]:
        """Return the names of the entries that come near a name, the nearest first."""
