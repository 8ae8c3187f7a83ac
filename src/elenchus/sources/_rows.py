"""Rows of a table as entries: their fields by columns, their kinds, ids and slugs, for all formats alike."""

from __future__ import annotations

from itertools import compress
from typing import TYPE_CHECKING, Any

from elenchus.errors import About, Place, Problem
from elenchus.schema.conform import FLAGS
from elenchus.schema.record import RowBatch
from elenchus.schema.types import CORE_FIELDS
from elenchus.sources._blocks import as_block, without_markup
from elenchus.sources._keys import decides, without_omitted
from elenchus.sources._keys import named as names_of_fields
from elenchus.sources._names import as_words, file_parts
from elenchus.sources._paths import below
from elenchus.sources._spec import MOST_KEYS
from elenchus.values.lazily import pattern
from elenchus.values.placeholders import filler, names_in
from elenchus.values.slugs import safe_slug, safe_slugs
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping, Sequence

    from elenchus.sources._spec import Item, SourceSpec

__all__ = ["BATCH", "FewProblems", "columns_of", "rows_of"]

_FEW_KEYS = 100
_MOST_CELLS = 5_000_000  # that are made of rows which are nearly empty
_SPARSE = 20  # so many times the values that are there
BATCH = 4096  # rows that are taken at once
_TRIMMED = pattern(r"^[\s,;:/–—-]+|[\s,;:/–—-]+$|(?:,\s*)+(?=,)")  # of parts that a row lacks
_HTML = "html"
_AS_THEY_ARE = ("id", "body", "title", "slug", "kind", "parent")  # or made ready by themselves
_MOST_PROBLEMS = 100  # of one unit that are told one by one


class FewProblems:
    """The problems of one unit: the first ones as they are, then how many more there are."""

    def __init__(self, file: str) -> None:
        self.file = file
        self.count = 0
        self.waiting: list[Problem] = []

    def add(
        self,
        line: int,
        message: str,
        hint: str = "",
        code: str = "unreadable-row",
        about: About = About.ANYTHING,
    ) -> None:
        """Note a problem of a line."""
        self.count += 1
        if self.count <= _MOST_PROBLEMS:
            self.waiting.append(Problem(code, message, hint, place=Place(self.file, line), about=about))

    def told(self, *, at_end: bool = False) -> Iterator[Problem]:
        """Yield those that were not told yet."""
        yield from self.waiting
        self.waiting = []
        if at_end and self.count > _MOST_PROBLEMS:
            message = f"{self.count - _MOST_PROBLEMS} more rows have such problems"
            more = self.count - _MOST_PROBLEMS
            yield Problem("unreadable-row", message, place=Place(self.file), entries=more)


def columns_of(
    rows: Sequence[Mapping[str, Any]], problems: FewProblems | None = None
) -> dict[str, list[Any]]:
    """Return the values of rows by their names, None where a row has none.

    Of more names than a file may have, the first are taken: each is a column as long as all rows.
    """
    names = list(dict.fromkeys(name for row in rows for name in row))
    most = MOST_KEYS
    if len(names) * len(rows) > _SPARSE * sum(map(len, rows)):  # rows hardly share a name
        most = min(most, max(_FEW_KEYS, _MOST_CELLS // len(rows)))
    if len(names) > most:
        kept = [name for name in names if name.casefold() in CORE_FIELDS]
        kept += [name for name in names if name.casefold() not in CORE_FIELDS][: most - len(kept)]
        if problems:
            message = f"it has {len(names):,} keys, and {most:,} of them are read"
            hint = f"Left out are {names[-1]} and others."
            problems.add(0, message, hint, "too-many-keys")
        names = kept
    return {name: [row.get(name) for row in rows] for name in names}


def rows_of(
    spec: SourceSpec,
    file: str,
    columns: Mapping[str, Sequence[Any]],
    lines: Sequence[int],
    at: Mapping[str, Sequence[int]] | None = None,
    files: Sequence[str] = (),
) -> Iterator[Item]:
    """Yield rows as entries; ``columns`` has the values of each name that the content has.

    ``at`` has the lines of those, where they stand on others than the row, ``files`` one for each row where
    these differ.
    """
    columns, lines, at, files, problem = _unclashed(spec, file, columns, lines, at or {}, files)
    if problem:
        yield problem
    named = _renamed(spec, columns)
    kinds = _kinds(spec, file, named, len(lines))
    keys = _texts(named.get("id"), len(lines))
    titles = _titles(spec, file, named, len(lines))
    slugs = _slugs(spec, file, {**named, "title": titles}, keys, lines)
    if "id" in named:
        is_numbered = any(map(str.isdigit, keys)) or "" in keys
        pairs = zip(kinds, keys, strict=True)
        named["id"] = [_id_of(kind, key) for kind, key in pairs] if is_numbered else keys
    if spec.missing_status:
        named["status"] = _with_status(spec, named, len(lines))
    if "parent" in named:
        above = _texts(named["parent"], len(lines))
        named["parent"] = [_id_of(kind, key) for kind, key in zip(kinds, above, strict=True)]
    if spec.texts == _HTML:
        named |= {name: _without_markup(values) for name, values in named.items() if name not in _AS_THEY_ARE}
    if spec.bodies == _HTML and "body" in named:
        named["body"] = [as_block(as_text(text)) if text else text for text in named["body"]]
    titled: list[bool] = []
    if None in titles or "" in titles:
        titled = [title is None or title == "" for title in titles]
        shown = zip(titles, titled, slugs, strict=True)
        named["title"] = [as_words(slug) if blank else title for title, blank, slug in shown]
    elif spec.title or spec.titles or spec.texts:
        named["title"] = titles
    own_lines = _lines_of(spec, named, at or {})
    yield RowBatch(file, lines, kinds, slugs, named, spec.habits, titled, own_lines, files)


def _lines_of(
    spec: SourceSpec, fields: Iterable[str], at: Mapping[str, Sequence[int]]
) -> dict[str, Sequence[int]]:
    """Return the lines of the values of fields, as far as they stand on lines of their own."""
    by_fold = {name.casefold(): lines for name, lines in at.items()}
    columns = {field: spec.columns.get(field, field) for field in fields} if at else {}
    found = {
        field: at.get(column) or at.get(column.partition(".")[0]) or by_fold.get(column.casefold())
        for field, column in columns.items()
    }
    return {field: lines for field, lines in found.items() if lines}


def _renamed(spec: SourceSpec, columns: Mapping[str, Sequence[Any]]) -> dict[str, Sequence[Any]]:
    """Return the values by the names of fields; a column with dots in its name may lie inside another."""
    found, _ = names_of_fields(columns, spec)
    for field, column in spec.columns.items():
        if column not in columns and "." in column and (inner := _inside(columns, column)) is not None:
            found[field] = inner
    if any("." in path for path in spec.omit):
        return {
            name: [without_omitted(value, spec, name) for value in values] for name, values in found.items()
        }
    return found


def _unclashed(
    spec: SourceSpec,
    file: str,
    columns: Mapping[str, Sequence[Any]],
    lines: Sequence[int],
    at: Mapping[str, Sequence[int]],
    files: Sequence[str],
) -> tuple[
    Mapping[str, Sequence[Any]], Sequence[int], Mapping[str, Sequence[int]], Sequence[str], Problem | None
]:
    """Return rows without those that say twice, in different letters, whether the public may see them."""
    _, pairs = names_of_fields(columns, spec)
    pairs = [pair for pair in pairs if decides(pair[0], spec)]
    wrong = {
        row
        for first, second in pairs
        for row, both in enumerate(zip(columns[first], columns[second], strict=True))
        if all(value not in (None, "") for value in both)
    }
    if not wrong:
        return columns, lines, at, files, None
    [(first, second), *_] = pairs
    rows = "1 row says" if len(wrong) == 1 else f"{len(wrong)} rows say"
    message = f"{rows} both {first} and {second}, which are the same key, and nobody knows which holds"
    place = Place(file, lines[min(wrong)])
    problem = Problem("doubled-key", message, "Keep one of them.", place=place)
    good = [row not in wrong for row in range(len(lines))]

    def kept(values: Sequence[Any]) -> list[Any]:
        return list(compress(values, good))

    return (
        {name: kept(values) for name, values in columns.items()},
        kept(lines),
        {name: kept(values) for name, values in at.items()},
        kept(files) if files else files,
        problem,
    )


def _inside(columns: Mapping[str, Sequence[Any]], path: str) -> list[Any] | None:
    """Return the values that lie inside those of another column, by the names of steps between dots."""
    first, *steps = path.split(".")
    if first not in columns:
        return None
    return [_followed(value, steps) for value in columns[first]]


def _followed(value: Any, steps: Sequence[str]) -> Any:
    """Return what lies inside a value; of a list, what lies inside each of its items."""
    for at, step in enumerate(steps):
        if isinstance(value, list):
            inner = (_followed(each, steps[at:]) for each in value)
            return [each for each in inner if each is not None]
        value = value.get(step) if isinstance(value, dict) else None
    return value


def _kinds(spec: SourceSpec, file: str, columns: Mapping[str, Sequence[Any]], count: int) -> list[str]:
    """Return the kind of each row."""
    if not spec.kind.startswith("{"):
        return [spec.kind] * count
    column = spec.kind.strip("{}")
    if written := _column(columns, column):
        texts = ["" if each is None else as_text(each) for each in written]
        return [spec.kinds.get(text, text) for text in texts] if spec.kinds else texts
    path = below(spec, file)
    found = path.partition("/")[0] if column == "folder" and "/" in path else spec.kind_at_root
    return [spec.kinds.get(found, found)] * count


def _column(columns: Mapping[str, Sequence[Any]], name: str) -> Sequence[Any] | None:
    """Return the values of a column that the site file names, in whatever letters."""
    return columns.get(name) or columns.get(name.casefold())


def _id_of(kind: str, key: str) -> str | None:
    """Return the id that a row says; a number is one among the rows of its kind."""
    return f"{kind}/{key}" if key.isascii() and key.isdigit() else key or None


def _slugs(
    spec: SourceSpec,
    file: str,
    columns: Mapping[str, Sequence[Any]],
    keys: Sequence[str],
    lines: Sequence[int],
) -> list[str]:
    """Return a slug for each row: by the pattern of the source, as written, of its id, title, or line.

    In a pattern, ``{stem}`` and the like are parts of the file's name, unless a column is called so.

    An id that is a number comes after the title, since it tells nobody anything.
    """
    count = len(lines)
    if spec.slug:
        found = safe_slugs(_filled(spec.slug, spec, file, columns, count))
    else:
        found = safe_slugs(_texts(columns["slug"], count)) if "slug" in columns else [""] * count
    words = ["" if key.isdigit() else key for key in keys] if any(map(str.isdigit, keys)) else keys
    for texts in (words, _texts(columns.get("title"), count), keys):
        if not any(found):
            found = safe_slugs(texts)
        elif not all(found):
            found = [slug or safe_slug(text) for slug, text in zip(found, texts, strict=True)]
    return found if all(found) else [slug or f"row-{line}" for slug, line in zip(found, lines, strict=True)]


def _filled(
    pattern: str, spec: SourceSpec, file: str, columns: Mapping[str, Sequence[Any]], count: int
) -> list[str]:
    """Return a pattern for each row: with values of its columns, or else with parts of the file's name."""
    of_file = file_parts(below(spec, file)) if file else {}
    parts = {
        name: _texts(_column(columns, name), count)
        if _column(columns, name)
        else [of_file.get(name, "")] * count
        for name in names_in(pattern)
    }
    fill = filler(pattern)
    return [fill({name: texts[at] for name, texts in parts.items()}) for at in range(count)]


def _titles(spec: SourceSpec, file: str, columns: Mapping[str, Sequence[Any]], count: int) -> Sequence[Any]:
    """Return a title for each row: as written, or by the pattern of the source; blank where there is none."""
    titles = columns.get("title") or [None] * count
    is_html = _HTML in (spec.titles, spec.texts)
    if not ((spec.title and (None in titles or "" in titles)) or is_html):
        return titles
    if is_html:
        titles = [without_markup(title) if isinstance(title, str) else title for title in titles]
    if not spec.title:
        return titles
    made = [_TRIMMED.sub("", text) for text in _filled(spec.title, spec, file, columns, count)]
    return [new if title in (None, "") else title for title, new in zip(titles, made, strict=True)]


def _with_status(spec: SourceSpec, columns: Mapping[str, Sequence[Any]], count: int) -> list[Any]:
    """Return the status of each row: that of the source where neither it nor a flag says one."""
    flags = [columns[name] for name in (*FLAGS, *spec.habits.flags) if name in columns]
    known = columns.get("status") or [None] * count
    return [
        spec.missing_status
        if status in (None, "") and all(flag[at] in (None, "") for flag in flags)
        else status
        for at, status in enumerate(known)
    ]


def _without_markup(values: Sequence[Any]) -> Sequence[Any]:
    """Return values whose texts have neither tags nor names of signs."""
    if not any("&" in value or "<" in value for value in values if isinstance(value, str)):
        return values
    return [without_markup(value) if isinstance(value, str) else value for value in values]


def _texts(values: Sequence[Any] | None, count: int) -> Sequence[str]:
    """Return values as texts, nothing for a missing one."""
    if values is None:
        return [""] * count
    if set(map(type, values)) == {str}:
        return list(map(str.strip, values))
    return [
        "" if value is None else value.strip() if value.__class__ is str else as_text(value)
        for value in values
    ]
