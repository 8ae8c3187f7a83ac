"""A plain view of each kind: what people who write SQL look for, beside the columns that questions need."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.schema.types import Type
from elenchus.tables.backend import SCHEMA
from elenchus.tables.layout import TABLES, family, sql_name, sql_text

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.tables.frames import Frames
    from elenchus.tables.layout import StoredField

__all__ = ["VIEW_MARK", "views_of_kinds"]

VIEW_MARK = "made by elenchus export"  # the comment by which a later export knows a view
_CORE = ("id", "slug", "title", "date", "updated", "expires", "status")


def views_of_kinds(frames: Frames) -> Iterator[str]:
    """Yield the statements that make a view of each kind, in the schema of the tables.

    Several values are one text, separated by commas. Drafts are in a view as they are in the tables; the
    column ``is_public`` says which entries the public sees now.
    """
    taken = {"entries", "about", *(table.name for table in TABLES)}
    for kind in frames.data.kind_names:
        name = kind if kind not in taken else f"{kind}_entries"
        fields = frames.data.schema.fields_of(kind)
        wanted = [each for each in frames.layout.stored if fields.get(each.field) or each.field in _CORE]
        columns = ", ".join(f"{_value(each)} AS {sql_name(each.field)}" for each in wanted)
        public = "e.opens <= CAST(extract(epoch FROM now()) * 1000000 AS bigint)"
        public += " AND e.closes > CAST(extract(epoch FROM now()) * 1000000 AS bigint)"
        view = f"{SCHEMA}.{sql_name(name)}"
        rows = f"{SCHEMA}.entries AS e WHERE e.kind = {sql_text(kind)}"
        yield f"CREATE VIEW {view} AS SELECT {columns}, {public} AS is_public FROM {rows}"
        yield f"COMMENT ON VIEW {view} IS '{VIEW_MARK}'"


def _value(stored: StoredField) -> str:
    """Return the value of a field for an entry, as SQL that DuckDB and PostgreSQL share."""
    if stored.is_terms:
        taxonomy = sql_text(stored.type.taxonomy)
        return (
            f"(SELECT string_agg(t.path, ', ' ORDER BY t.path) FROM {SCHEMA}.entry_terms AS t"
            f" WHERE t.entry = e.id AND t.taxonomy = {taxonomy})"
        )
    if not stored.type.many:
        return f"e.{sql_name(stored.base)}"
    is_link = stored.type.type is Type.ENTRY
    table, column = ("links", "target") if is_link else ("entry_values", family(stored.type))
    texts = f"string_agg(CAST(v.{sql_name(column)} AS varchar), ', ' ORDER BY v.at)"
    rows = f"{SCHEMA}.{table} AS v WHERE v.entry = e.id AND v.field = {sql_text(stored.base)}"
    return f"(SELECT {texts} FROM {rows})"
