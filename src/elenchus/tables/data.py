"""Tables as the names of a site: what a question is checked against, without any of their rows in memory."""

from __future__ import annotations

import json
from collections import defaultdict
from itertools import accumulate
from typing import TYPE_CHECKING, Any

from elenchus.engine.columns.keys import with_undeclared
from elenchus.errors import NotSupported, Problem, SiteError
from elenchus.frozen import Working
from elenchus.plan.nodes import Part, Stepped, Stored, Via
from elenchus.schema.taxonomy import Taxonomy, Term
from elenchus.schema.types import term_fields
from elenchus.tables.backend import Bound, exporting
from elenchus.tables.expressions import newest_first
from elenchus.tables.layout import schema_digest
from elenchus.values.kept import cached_property
from elenchus.values.texts import fold, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping, Sequence
    from zoneinfo import ZoneInfo

    from ibis.expr import types as ir

    from elenchus.plan.nodes import FieldRef
    from elenchus.schema.catalog import TermName
    from elenchus.schema.types import Field, FieldType, Schema
    from elenchus.tables.backend import Backend
    from elenchus.tables.layout import StoredField

__all__ = ["TableData"]

_MOST_NAMES = 200_000  # entries among whose names the nearest one is looked for


class TableData(Working):
    """The tables of a backend under the definitions of a site. Raises SiteError where they are of others."""

    backend: Backend
    declared: Schema
    zone: ZoneInfo

    @cached_property
    def schema(self) -> Schema:
        """The kinds with their fields, those of the content among them."""
        layout = self.backend.about.layout
        found = with_undeclared(self.declared, layout.undeclared)
        if schema_digest(found, self.zone) != layout.digest:
            message = f"the tables at {quoted(self.backend.place)} are of other definitions than the site's"
            hint = f"Write them anew: {exporting(self.backend.place)}."
            raise SiteError([Problem("other-tables", message, hint)])
        return found

    @property
    def problems(self) -> tuple[Problem, ...]:
        """What is wrong with content: whoever exported it was told."""
        return ()

    @cached_property
    def stored(self) -> Mapping[tuple[str, FieldType], StoredField]:
        """The columns of fields, by their names and types."""
        return {(each.field, each.type): each for each in self.backend.about.layout.stored}

    def stored_in(self, field: FieldRef) -> Iterator[StoredField]:
        """Yield the stored fields of entries that a field is made of."""
        match field.source:
            case Stored():
                if field.name in self.backend.about.layout.left_out:
                    raise self.not_written(field.name)
                stored = self.stored.get((field.name, field.type))
                yield from (stored,) if stored else ()
            case Via(first, then):
                yield from self.stored_in(first)
                yield from self.stored_in(then)
            case Part(of) | Stepped(of):
                yield from self.stored_in(of)

    def not_written(self, what: str) -> NotSupported:
        """Return the error of what an export left out."""
        cure = f"Write it as well: {exporting(self.backend.place)} --complete."
        return NotSupported(f"{what}, which was left out of them", cure)

    def refuse_unpublished_bodies(self, fields: Iterable[StoredField]) -> None:
        """Raise NotSupported if fields of entries that are not public have the body, and it is not there."""
        if not self.backend.about.layout.complete and any(each.field == "body" for each in fields):
            raise self.not_written("the body of entries that are held back")

    @cached_property
    def kind_names(self) -> list[str]:
        """The names of the kinds."""
        return list(self.schema.kinds)

    def rows(
        self, expression: ir.Expr, values: Bound | None = None, says: str = "what names mean"
    ) -> list[tuple[Any, ...]]:
        """Return the rows of an expression; ``says`` tells what it asks for."""
        return self.backend.rows(expression, values or Bound(), says)

    @cached_property
    def taxonomies(self) -> Mapping[str, Taxonomy]:
        """All terms, which are few enough to be in memory."""
        table = self.backend.table("terms")
        names = ("taxonomy", "path", "slug", "name", "id", "last", "more")
        found: dict[str, list[tuple[Term, int]]] = defaultdict(list)
        for taxonomy, path, slug, name, own, last, more in self.rows(
            table.order_by(["taxonomy", "first"]).select(*names)
        ):
            told = json.loads(more)
            term = Term(slug, name, own, tuple(path.split("/")), tuple(told["aliases"]), told["columns"])
            found[taxonomy].append((term, int(last)))
        return {
            name: Taxonomy(
                name,
                rules.tree,
                [term for term, _ in found[name]],
                [last for _, last in found[name]],
                is_made=not rules.terms,
            )
            for name, rules in self.schema.taxonomies.items()
        }

    @cached_property
    def misfit_fields(self) -> frozenset[str]:
        """The fields of which a stored value does not fit."""
        return frozenset(
            name for (name,) in self.rows(self.backend.table("misfits").select("field").distinct())
        )

    # As a catalog

    def term_fields(self, taxonomy: str) -> Mapping[str, Field]:
        """See :class:`Catalog`."""
        columns = dict.fromkeys(name for term in self.taxonomies[taxonomy].terms for name in term.columns)
        return term_fields(self.schema.taxonomies[taxonomy], columns)

    def terms_called(self, taxonomy: str, name: str) -> Sequence[TermName]:
        """See :class:`Catalog`."""
        terms = self.taxonomies[taxonomy]
        return [terms.named(number) for number in terms.find(name)]

    def terms_beside(self, taxonomy: str, name: str) -> Sequence[TermName]:
        """See :class:`Catalog`."""
        terms = self.taxonomies[taxonomy]
        return [terms.named(number) for number in terms.others_called(name)]

    def terms_near(self, taxonomy: str, name: str, now: int | None) -> Sequence[str]:
        """See :class:`Catalog`."""
        hidden = frozenset() if now is None else self.hidden_terms(taxonomy, now)
        return self.taxonomies[taxonomy].suggest(name, hidden)

    def hidden_terms(self, taxonomy: str, now: int) -> frozenset[int]:
        """Return the terms that only unpublished entries use and no file defines."""
        terms = self.taxonomies[taxonomy]
        if not terms.is_made:
            return frozenset()
        values, entries, used = Bound(), self.backend.table("entries"), self.backend.table("entry_terms")
        at = values.whole(now)
        public = entries.filter((entries.opens <= at) & (at < entries.closes)).id
        found = used.filter((used.taxonomy == values.text(taxonomy)) & used.entry.isin(public))
        seen = {
            terms.places[tuple(path.split("/"))]
            for (path,) in self.rows(found.select("path").distinct(), values)
        }
        running = [0, *accumulate(number in seen for number in range(len(terms.terms)))]
        return frozenset(number for number, end in enumerate(terms.ends) if running[end] == running[number])

    def entries_called(self, name: str, kinds: Sequence[str] = ()) -> Sequence[str]:
        """See :class:`Catalog`."""
        folded = fold(name.strip())
        entries, values = self.backend.table("entries"), Bound()
        wanted = values.among(entries.kind, kinds) if kinds else True
        exact = self.named((entries.id_folded == values.text(folded)) & wanted, values)
        found = exact[:1]
        if not found:
            by_slug = entries.slug_folded == values.text(folded)
            for each in self.kind_names:
                start = f"{fold(each)}/"
                if folded.startswith(start):
                    rest = values.text(folded.removeprefix(start))
                    by_slug |= (entries.slug_folded == rest) & (entries.kind == values.text(each))
            found = self.named(by_slug & wanted, values)
        if not found and folded.isascii() and folded.isdigit():
            numbered = [values.text(f"{fold(each)}/{folded}") for each in kinds or self.kind_names]
            found = self.named(entries.id_folded.isin(numbered), values)
        return [each for each, _ in found]

    def named(self, condition: ir.BooleanValue, values: Bound) -> list[tuple[str, str]]:
        """Return the entries that meet a condition, the newest first, each with its kind."""
        entries = self.backend.table("entries")
        rows = entries.filter(condition).order_by(newest_first(entries))
        return [(name, kind) for name, kind in self.rows(rows.select("id", "kind"), values)]

    def entries_near(self, name: str, kinds: Sequence[str], now: int | None) -> Sequence[str]:
        """See :class:`Catalog`."""
        entries, values = self.backend.table("entries"), Bound()
        if self.backend.about.entries > _MOST_NAMES:
            return ()
        wanted = [values.among(entries.kind, kinds)] if kinds else []
        if now is not None:
            at = values.whole(now)
            wanted += [entries.opens <= at, at < entries.closes]
        rows = (entries.filter(wanted) if wanted else entries).order_by(newest_first(entries))
        found = self.rows(rows.select("id_folded", "slug_folded", "kind"), values)
        names = [each for each, _, _ in found]
        names += [each for _, slug, of in found for each in (slug, f"{fold(of)}/{slug}")]
        return nearest(name, list(dict.fromkeys(names)))
