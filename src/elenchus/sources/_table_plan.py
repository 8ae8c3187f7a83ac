"""What edits of entries mean for the rows of a table, and of those of terms and more fields beside it."""

from __future__ import annotations

import re
from collections import Counter
from contextlib import suppress
from datetime import UTC, date, datetime, time
from html import escape
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from elenchus.schema.conform import is_yes
from elenchus.schema.edits import EntryEdit, NewValue, RowChange, TermWords, UneditableError
from elenchus.sources._connection import place_of
from elenchus.sources._keys import as_written
from elenchus.sources._splice import joined
from elenchus.values.slugs import slug_of

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.sources._spec import ExtrasSpec, TermsSpec
    from elenchus.sources._tables import Shape

__all__ = ["Planner", "plain", "renamed_terms"]

_WHOLE = re.compile(r"[+-]?\d+")
_NUMBERED = re.compile(r"(?:.*/)?(-?\d+)")  # the id of an entry that is a row: its kind, and its key
_WITH_TIME = re.compile(r"\d{4}-\d\d-\d\d[T ]")
_LONG = 19  # characters of 2026-05-18 09:00:00


class Planner:
    """What edits mean for the rows of a table and of those beside it.

    Terms that are not there yet are ``added`` to their tables, if that is allowed.
    """

    def __init__(self, shape: Shape, *, may_add_terms: bool = False) -> None:
        self.shape = shape
        self.spec = shape.spec
        self.table = shape.table
        self.place = f"{place_of(shape.spec)}/"
        self.key = shape.names[shape.key_at]
        self.terms = {each.taxonomy: each for each in shape.table.terms}
        self.zone = ZoneInfo(self.table.zone) if self.table.zone else UTC
        self.may_add_terms = may_add_terms
        self.added: list[RowChange] = []
        self.paths = {taxonomy: dict(paths) for taxonomy, paths in shape.paths.items()}

    def changes(self, edit: EntryEdit) -> Iterator[RowChange]:
        """Yield what is to become of one entry."""
        key: Any = edit.line if edit.line else edit.file.removeprefix(self.place)
        rows = self.shape.rows(key, key)
        if len(rows) != 1:
            raise UneditableError(f"{len(rows)} rows have the key {key}")
        row = dict(zip(self.shape.names, rows[0], strict=True))
        key = row[self.key]
        own = []
        for name, new in as_written(edit.values, [*self.terms, *row]).items():
            if name in self.terms and self.terms[name].table == self.table.table:
                own.append(self.terms[name].term)
                yield self.of_column(self.terms[name], key, row, new)
            elif name in self.terms:
                yield from self.of_terms(self.terms[name], key, new)
            elif name in row:
                own.append(name)
                yield self.update(key, name, row[name], self.value(new, row[name], name))
            else:
                yield from self.of_extras(name, key, new)
        if self.table.updated and self.table.updated not in own:
            before = row[self.table.updated]
            yield self.update(key, self.table.updated, before, self.now(before))

    def update(self, key: Any, column: str, before: Any, after: Any) -> RowChange:
        """Return another value for a column of a row of the table itself."""
        name = f"{self.table.prefix}{self.table.table}"
        return RowChange(self.spec.name, name, {self.key: plain(key)}, column, plain(before), after)

    # values

    def value(self, new: NewValue, before: Any, column: str) -> Any:
        """Return what is to be written into a column, as its type has it."""
        sort, may_be_null = self.shape.types.get(column, ("text", True))
        if sort in ("array", "json") and isinstance(before, (list, type(None))):
            return _as_they_are(new, before or ()) if new.values else None
        if sort == "json" and before is not None and new.values:
            raise UneditableError(f"{column} holds JSON that is no list")
        if isinstance(before, (list, dict, bytes, memoryview)) and (
            new.values or not isinstance(before, dict)
        ):
            raise UneditableError(f"{column} holds a list or a table of the database's own")
        if not new.values:
            return None if may_be_null or sort != "text" else ""
        text = joined(new.values, str(before or ""), self.spec.habits.separator)
        if new.sort == "date":
            return self.moment(text, before, sort)
        if new.sort == "yesno" and (sort == "yesno" or isinstance(before, (bool, int))):
            return is_yes(text) if sort == "yesno" or isinstance(before, bool) else int(is_yes(text))
        if sort == "whole":
            match = _NUMBERED.fullmatch(text)
            if match is None:
                raise UneditableError(f"{column} takes whole numbers, and {text} is none")
            return int(match[1])
        is_html = self.spec.texts == "html" or (self.spec.titles == "html" and column == self.title)
        return escape(text, quote=False) if is_html else text

    @property
    def title(self) -> str:
        """The column of titles."""
        return self.spec.columns.get("title", "title")

    def moment(self, text: str, before: Any, sort: str) -> Any:
        """Return a date or a time as a column has such."""
        try:
            found = datetime.fromisoformat(text)
        except ValueError:
            return text  # a month, or a year: whatever the column makes of it
        local = found.astimezone(self.zone).replace(tzinfo=None) if found.tzinfo else found
        match sort:
            case "date":
                return local.date().isoformat()
            case "time":
                return local.isoformat(" ")
            case "instant":
                return (found if found.tzinfo else local.replace(tzinfo=self.zone)).isoformat(" ")
            case "whole":
                return int((found if found.tzinfo else local.replace(tzinfo=self.zone)).timestamp())
        like = str(before or "")
        if not _WITH_TIME.match(like):
            return text
        is_day = not _WITH_TIME.match(text)
        whole = datetime.combine(local.date(), time()) if is_day else local
        told = whole.isoformat(like[10], "seconds" if len(like) >= _LONG else "minutes")
        return f"{told}{like[_LONG:]}" if not found.tzinfo and like[_LONG:].startswith("+") else told

    def now(self, before: Any) -> str | int:
        """Return the present time as a column of changes has it."""
        moment = datetime.now(self.zone)
        if isinstance(before, int):
            return int(moment.timestamp())
        sign = "T" if "T" in str(before) else " "
        has_zone = getattr(before, "tzinfo", None) is not None
        text = moment.isoformat(sign, "seconds")
        return text if has_zone else text[:_LONG]

    # terms

    def key_of(self, terms: TermsSpec, text: str) -> Any:
        """Return the key of a term, of one that is added where there is none. Raises UneditableError."""
        if not terms.names:
            return text
        by_path = {path: term for term, path in self.paths[terms.taxonomy].items()}
        if text in by_path:
            return by_path[text]
        table = f"{self.table.prefix}{terms.names}"
        if not self.may_add_terms:
            message = f"{table} has no row for {text}"
            raise UneditableError(message, 0, "With --new-terms, one is added.")
        above, _, name = text.rpartition("/") if terms.parent else ("", "", text)
        where: dict[str, Any] = {terms.key: self.new_key(terms, name)}
        where[terms.name] = escape(name, quote=False) if self.spec.texts == "html" else name
        where |= {terms.slug: slug_of(name)} if terms.slug else {}
        where |= {terms.parent: plain(self.key_of(terms, above))} if above else {}
        where |= terms.where
        self.added.append(RowChange(self.spec.name, table, where, "", None, 1))
        self.paths[terms.taxonomy][where[terms.key]] = text
        return where[terms.key]

    def new_key(self, terms: TermsSpec, name: str) -> Any:
        """Return a key that no term of a table has."""
        table, key = self.shape.named(terms.names), self.shape.quote(terms.key)
        last = self.shape.run(f"SELECT MAX({key}) FROM {table}").scalar()
        taken = [row.where.get(terms.key) for row in self.added if row.table.endswith(terms.names)]
        if last is None or isinstance(last, int):
            return max([last or 0, *(each for each in taken if isinstance(each, int))]) + 1
        return slug_of(name)

    def of_column(self, terms: TermsSpec, key: Any, row: Mapping[str, Any], new: NewValue) -> RowChange:
        """Return another term for a column of the table itself, which holds one."""
        if len(new.values) > 1:
            raise UneditableError(f"{terms.term} holds one term, and these are {len(new.values)}")
        after = plain(self.key_of(terms, new.values[0])) if new.values else None
        return self.update(key, terms.term, row[terms.term], after)

    def of_terms(self, terms: TermsSpec, key: Any, new: NewValue) -> Iterator[RowChange]:
        """Yield rows of a joining table that come and go."""
        wanted = [self.key_of(terms, text) for text in new.values]
        side = next(each for each in self.shape.sides if each.terms == terms)
        told = (row[1] for row in self.shape.about(side, [key]))
        # Another taxonomy may have its terms in the same table.
        there = Counter(term for term in told if not terms.where or term in self.paths[terms.taxonomy])
        name = f"{self.table.prefix}{terms.table}"
        for term in dict.fromkeys([*there, *wanted]):
            if (term in there) != (term in wanted):
                where = {terms.entry: plain(key), terms.term: plain(term)}
                counts = (there[term], None) if term in there else (None, 1)
                yield RowChange(self.spec.name, name, where, "", *counts)

    # more fields

    def of_extras(self, name: str, key: Any, new: NewValue) -> Iterator[RowChange]:
        """Yield rows of the table of more fields that come, go, or have another value."""
        extras = self.table.extras
        if extras is None:
            if name.partition(".")[0] in self.shape.names:
                raise UneditableError(f"{name} stands inside a value of a column", 0, "Change it there.")
            raise UneditableError(f"the table has no column {name}", 0, "Add the column there first.")
        side = next(each for each in self.shape.sides if not each.terms)
        there = [row[2] for row in self.shape.about(side, [key]) if row[1] == name]
        where = {extras.entry: plain(key), extras.name: name}
        table = f"{self.table.prefix}{extras.table}"
        if len(there) == 1 and (len(new.values) == 1 or self.is_one_text(there[0], new)):
            text = joined(new.values, str(there[0] or ""), self.spec.habits.separator)
            yield RowChange(self.spec.name, table, where, extras.value, plain(there[0]), text)
            return
        if len(new.values) > 1 and not new.may_be_list:
            raise UneditableError(f"{name} has several rows in {table}")
        yield from self.rows_of_list(table, where, extras, there, new.values)

    def is_one_text(self, text: Any, new: NewValue) -> bool:
        """Say whether a text stands for several values, and is to do so again."""
        return len(new.values) > 1 and (self.spec.habits.separator or "\0") in str(text)

    def rows_of_list(
        self,
        table: str,
        where: Mapping[str, Any],
        extras: ExtrasSpec,
        there: Sequence[Any],
        wanted: Sequence[str],
    ) -> Iterator[RowChange]:
        """Yield the rows of a list that come and go."""
        more = {**where, **extras.where}
        now, then = Counter(plain(each) for each in there), Counter(wanted)
        for value in dict.fromkeys([*now, *then]):
            if now[value] and now[value] != then[value]:
                yield RowChange(self.spec.name, table, {**where, extras.value: value}, "", now[value], None)
            if then[value] and now[value] != then[value]:
                yield RowChange(self.spec.name, table, {**more, extras.value: value}, "", None, then[value])


def _as_they_are(new: NewValue, before: Sequence[Any]) -> list[Any]:
    """Return the values of a list: numbers where it has numbers, or is to have the first ones."""
    are_numbers = all(isinstance(each, (int, float)) and not isinstance(each, bool) for each in before)
    if are_numbers and (before or new.sort == "number"):
        with suppress(ValueError):
            return [int(text) if _WHOLE.fullmatch(text) else float(text) for text in new.values]
    return list(new.values)


def renamed_terms(
    shape: Shape, terms: TermWords, edits: Sequence[EntryEdit]
) -> tuple[list[RowChange], list[RowChange]]:
    """Return the rows that change if a term has another name, or becomes one with another.

    The first are those that come before what becomes of entries. Then the term that is no more goes, and what
    is left of its rows in joining tables is moved to the other.
    """
    spec = next((each for each in shape.table.terms if each.taxonomy == terms.taxonomy), None)
    if spec is None or not spec.names:
        return [], []
    first: list[RowChange] = []
    last: list[RowChange] = []
    table, paths = f"{shape.table.prefix}{spec.names}", shape.paths[spec.taxonomy]
    is_html = shape.spec.texts == "html"
    for key, path in paths.items():
        new = terms.of(path) if terms.is_it(path) else None
        if not new:
            continue
        others = [other for other, text in paths.items() if text == new]
        row = _row_of(shape, spec, key)
        where = {spec.key: plain(key)}
        if others:
            for lower, text in paths.items() if spec.parent else ():
                if text.startswith(f"{path}/") and "/" not in text[len(path) + 1 :]:
                    parents = plain(key), plain(others[0])
                    first.append(
                        RowChange(shape.spec.name, table, {spec.key: plain(lower)}, spec.parent, *parents)
                    )
            last += _moved_links(shape, spec, key, others[0], edits)
            last.append(RowChange(shape.spec.name, table, row, "", 1, None))
            continue
        name = new.rpartition("/")[2] if spec.parent else new
        told = escape(name, quote=False) if is_html else name
        first.append(RowChange(shape.spec.name, table, where, spec.name, row[spec.name], told))
        slug = slug_of(name)
        if spec.slug and row[spec.slug] not in (None, slug):
            first.append(RowChange(shape.spec.name, table, where, spec.slug, row[spec.slug], slug))
    return first, last


def _row_of(shape: Shape, spec: TermsSpec, key: Any) -> dict[str, Any]:
    """Return the row of a term."""
    sql = f"SELECT * FROM {shape.named(spec.names)} WHERE {shape.quote(spec.key)} = :key"
    return {name: plain(value) for name, value in shape.run(sql, key=key).mappings().one().items()}


def _moved_links(
    shape: Shape, spec: TermsSpec, key: Any, other: Any, edits: Sequence[EntryEdit]
) -> list[RowChange]:
    """Return what becomes of the links to a term from rows that are no entries of the site."""
    if spec.table == shape.table.table:
        return []
    known = {str(edit.line or edit.file.rpartition("/")[2]) for edit in edits}
    name, entry, term = f"{shape.table.prefix}{spec.table}", shape.quote(spec.entry), shape.quote(spec.term)
    sql = f"SELECT {entry}, {term} FROM {shape.named(spec.table)} WHERE {term} IN (:old, :new)"
    rows = Counter((row[0], row[1]) for row in shape.run(sql, old=key, new=other))
    found = []
    for (of, which), count in rows.items():
        if which != key or str(of) in known:
            continue
        where = {spec.entry: plain(of), spec.term: plain(key)}
        found.append(RowChange(shape.spec.name, name, where, "", count, None))
        if not rows[of, other]:
            found.append(RowChange(shape.spec.name, name, {**where, spec.term: plain(other)}, "", None, 1))
    return found


def plain(value: Any) -> Any:
    """Return a value as the journal keeps it: a text, a number, a truth, lists and objects, or nothing."""
    if isinstance(value, (date, datetime)):
        return str(value)
    return value if value is None or isinstance(value, (str, int, float, bool, dict, list)) else str(value)
