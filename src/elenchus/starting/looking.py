"""What is there: files by their formats, and what stands in them as it was written."""

from __future__ import annotations

import os
import re
from collections import Counter, defaultdict
from itertools import islice
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus import sources
from elenchus.errors import About, FolderError, Place, Problem
from elenchus.files import TooManyFiles, is_file, open_regular, scanned, unreadable
from elenchus.frozen import replace
from elenchus.schema.record import Record, RowBatch
from elenchus.sources import SourceSpec, below, html
from elenchus.starting.leaving import LeftOut, left_out, private_keys
from elenchus.starting.repeated import repeated_parts
from elenchus.starting.shapes import Shaped, json_sources, name_of_source, row_sources
from elenchus.starting.unsure import Unsure
from elenchus.values.filepaths import fixed_part, is_inside, is_pattern
from elenchus.values.slugs import slugify

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

__all__ = ["MOST_LOOKED_AT", "Entry", "Stock", "address_stock", "read_stock", "stocks_in"]

_FORMATS = {
    ".md": "markdown", ".markdown": "markdown", ".html": "html", ".htm": "html", ".csv": "csv", ".tsv": "csv",
    ".json": "json", ".jsonl": "jsonl", ".ndjson": "jsonl", ".db": "database", ".sqlite": "database",
    ".sqlite3": "database", ".atom": "feed", ".rss": "feed", ".xml": "feed", ".gz": "", ".zip": "",
}  # fmt: skip
_SQLITE = b"SQLite format 3\0"
_FEEDS = re.compile(rb"<(?:feed|rss|(?:\w+:)?RDF)\b")
_JSON_FEED = b"jsonfeed.org/version"
_OWN = re.compile(
    r"(?:elenchus|listings|pages)\.toml|(?:listings|pages|templates|published|terms)/.*|\.elenchus/.*"
)
_OWN_PAGES = ("published/**", "templates/**")
_MOST_MEMBERS = 10_000  # of an archive
_START = 4096
_OLD = "cp1252"  # of Windows in western languages: what most files have that are not UTF-8
_MOST_FILES = 100_000  # of a folder in which content is looked for
MOST_LOOKED_AT = 3_000  # entries of a source
_MOST_BYTES = 16 * 2**20  # of a table whose rows are not counted


class Entry(NamedTuple):
    """An entry as it was written: where it stands, the folders below its source, and its values."""

    place: Place
    path: str
    slug: str
    values: Mapping[str, Any]
    guessed: Mapping[str, str]


class Stock(NamedTuple):
    """Content of one format that belongs together: how it is read, and what was found in it.

    ``refers`` are the columns of a table that hold keys of others, with the names of those. ``private`` are
    keys that are not read, with what they hold. ``unsure`` is what could be read otherwise. If it
    ``is_sample``, there are more entries than were looked at; ``size`` is how many, if that is known.
    """

    spec: SourceSpec
    entries: Sequence[Entry]
    problems: Sequence[Problem]
    refers: Mapping[str, str] = MappingProxyType({})
    private: Mapping[str, str] = MappingProxyType({})
    unsure: Sequence[Unsure] = ()
    is_sample: bool = False
    size: int = 0


def stocks_in(root: Path, place: Path, noted: list[LeftOut]) -> Iterator[Stock]:
    """Yield what stands in a file or folder, by paths from the folder of the site; note what is left out."""
    outside = not is_inside(root, os.path.relpath(place, root))
    none = LeftOut({}, ())
    if is_file(place):
        files, left = [place.name], none
        base = place.parent
    else:
        base, files = place, _files_in(place)
        if base.resolve() == root.resolve():
            files = [path for path in files if not _OWN.fullmatch(path)]
        files, left = left_out(base, files)
    start = Path(os.path.relpath(base, root)).as_posix()
    inner = "" if start == "." else f"{start}/"
    noted.append(left if outside else left._replace(stay=[f"{inner}{path}" for path in files]))
    by_format: dict[str, list[str]] = defaultdict(list)
    for path in files:
        if found := _format_of(base / path):
            by_format[found].append(path if start == "." else f"{start}/{path}")
    for read, paths in by_format.items():
        for shaped in _specs(root, read, paths, start, base.resolve().name):
            exclude = (
                *shaped.spec.exclude,
                *(
                    f"{inner}{each}"
                    for each in left.patterns
                    if _may_meet(root, shaped.spec.paths, f"{inner}{each}")
                ),
            )
            yield read_stock(root, replace(shaped.spec, exclude=exclude, outside=outside), shaped.unsure)


def _specs(root: Path, read: str, paths: Sequence[str], start: str, top: str) -> Iterator[Shaped]:
    """Yield the sources that files of a format make, with what could be read otherwise."""
    if read == "json":
        yield from json_sources(root, paths, top)
        return
    if read in ("csv", "jsonl"):
        yield from row_sources(root, read, paths, top)
        return
    for name, places in _sources_of(read, paths, start).items():
        exclude = _own_pages(root, start) if read == "html" else ()
        yield Shaped(SourceSpec(name, read, tuple(places), kind="entry", exclude=exclude))


def _own_pages(root: Path, start: str) -> tuple[str, ...]:
    """Return patterns of the pages and templates of a site that stands in the folder of its content."""
    if start == ".":
        return _OWN_PAGES
    base = (root / start).resolve()
    if not root.resolve().is_relative_to(base):
        return ()
    inside = root.resolve().relative_to(base).as_posix()
    return tuple(f"{start}/{inside}/{pattern}" for pattern in _OWN_PAGES)


def _files_in(folder: Path) -> list[str]:
    """Return the files in a folder. Raises FolderError where they are more than a site has."""
    try:
        return sorted(scanned(folder, most=_MOST_FILES).paths)
    except TooManyFiles:
        message = f"the folder has more than {_MOST_FILES:,} files, and most are hardly content"
        hint = "Name the folder in which the content is."
        raise FolderError([Problem("too-many-files", message, hint, place=Place(str(folder)))]) from None


def _may_meet(root: Path, places: Sequence[str], pattern: str) -> bool:
    """Say whether paths of a source may lead to what fits a pattern: all but those that name one file."""
    begins = [fixed_part(each) for each in places if is_pattern(each) or not is_file(root / each)]
    return any(begin == "." or pattern.startswith(f"{begin}/") for begin in begins)


def address_stock(root: Path, url: str) -> Stock:
    """Return what the feed at an address holds."""
    name = slugify(url.partition("://")[2].partition("/")[0].partition(":")[0].replace(".", "-")) or "feed"
    return read_stock(root, SourceSpec(name, "feed", (), kind="entry", url=url))


def _format_of(path: Path) -> str:
    """Return the format of a file; nothing for what is no content."""
    suffix = path.suffix.lower()
    if suffix == ".gz":
        inner = _FORMATS.get(path.with_suffix("").suffix.lower(), "")
        return inner if inner in ("csv", "json", "jsonl") else ""
    if suffix == ".zip":
        return _format_in(path)
    read = _FORMATS.get(suffix, "")
    if read in ("", "markdown", "html", "csv", "jsonl"):
        return read
    try:
        with open_regular(path) as file:
            begin = file.read(_START)
    except OSError:
        return ""
    if read == "database":
        return read if begin.startswith(_SQLITE) else ""
    if read == "json":
        return "feed" if _JSON_FEED in begin else read
    return read if _FEEDS.search(begin) else ""


def _format_in(archive: Path) -> str:
    """Return the format that most files of an archive have; nothing if none of them is content."""
    import zipfile

    try:
        with open_regular(archive) as file, zipfile.ZipFile(file) as opened:
            names = [Path(name) for name in opened.namelist()[:_MOST_MEMBERS]]
    except (OSError, ValueError, zipfile.BadZipFile):
        return ""
    counts = Counter(_FORMATS.get(name.suffix.lower(), "") for name in names)
    found = [read for read, _ in counts.most_common() if read in ("markdown", "html", "csv", "json", "jsonl")]
    return found[0] if found else ""


def _sources_of(read: str, paths: Sequence[str], start: str) -> dict[str, list[str]]:
    """Return the sources that files of a format make: documents by folders, tables each for itself."""
    if read in ("markdown", "html"):
        inner = "" if start == "." else f"{start}/"
        tops = dict.fromkeys(
            path[len(inner) :].partition("/")[0] for path in paths if "/" in path[len(inner) :]
        )
        at_root = any("/" not in path[len(inner) :] for path in paths)
        if at_root or len(tops) > 1 or not tops:
            usual, others, name = (
                ("md", "m*d*", "notes") if read == "markdown" else ("html", "*htm*", "pages")
            )
            ending = usual if all(path.endswith(f".{usual}") for path in paths) else others
            return {name_of_source(start, name): [start if inner else f"**/*.{ending}"]}
        return {name_of_source(top, "pages"): [f"{inner}{top}"] for top in tops}
    named: dict[str, list[str]] = defaultdict(list)
    for path in paths:
        named[name_of_source(Path(path).name.partition(".")[0], read)].append(path)
    return named


def read_stock(root: Path, spec: SourceSpec, unsure: Sequence[Unsure] = ()) -> Stock:
    """Return what stands in the units of a source, in an old encoding where it is not in the usual one."""
    found = _read(root, spec)
    if any(problem.about is About.ENCODING for problem in found.problems):
        found = _read(root, replace(spec, encoding=_OLD))
    private = private_keys(entry.values for entry in found.entries)
    if private:
        spec = replace(found.spec, omit=(*spec.omit, *private))
        found = _read(root, spec)._replace(private=private)
    parts = _parts(root, found) if spec.read == "html" else []
    if parts:
        found = _read(root, replace(found.spec, omit=(*found.spec.omit, *parts)))._replace(private=private)
        it, is_ = ("it", "is") if len(parts) == 1 else ("them", "are")
        named = f"{', '.join(parts[:-1])} and {parts[-1]}" if parts[1:] else parts[0]
        what = f"{named} {is_} the same on most pages, so texts leave {it} out"
        unsure = (*unsure, Unsure(what, f"take {it} out of omit in the source", f"To keep {it},"))
    size = _size(root, found) if found.is_sample and spec.read in ("csv", "jsonl") else 0
    return found._replace(unsure=tuple(unsure), size=size)


def _parts(root: Path, stock: Stock) -> list[str]:
    """Return the names of elements that pages share: their menus and footers."""
    units = dict.fromkeys(entry.place.file for entry in stock.entries)
    return repeated_parts([html.elements_of(stock.spec, root, unit) for unit in units])


def _size(root: Path, stock: Stock) -> int:
    """Return how many rows a large source has, by its lines; 0 if it is not large."""
    spec = stock.spec
    files = [root / unit for unit in sources.source(spec.read).scan(spec, root, None).units]
    try:
        if sum(file.stat().st_size for file in files) < _MOST_BYTES:
            return 0
        count = 0
        for file in files:
            with open_regular(file) as opened:
                count += sum(piece.count(b"\n") for piece in iter(lambda: opened.read(2**20), b""))
    except OSError:
        return 0
    return count


def _read(root: Path, spec: SourceSpec) -> Stock:
    """Return what stands in the units of a source, as far as it can be read."""
    module = sources.source(spec.read)
    try:
        scan = module.scan(spec, root, None)
    except sources.UnreachableError as error:
        return Stock(spec, (), [error.problem])
    reader = module.reader(spec, root, scan.units)
    entries: list[Entry] = []
    problems: list[Problem] = list(scan.problems)
    is_sample = False
    for unit in scan.units:
        if is_sample := len(entries) >= MOST_LOOKED_AT:
            break
        try:
            for item in reader.items(unit, reader.content(unit)):
                if isinstance(item, Record):
                    values = {name: raw.value for name, raw in item.values.items()}
                    entries.append(Entry(item.place, below(spec, unit), item.slug, values, item.guessed))
                elif isinstance(item, RowBatch):
                    entries += islice(_rows(item), MOST_LOOKED_AT - len(entries))
                    is_sample = len(item.lines) > len(entries)
                else:
                    problems.append(item)
                if is_sample := is_sample or len(entries) >= MOST_LOOKED_AT:
                    break
        except sources.UnreachableError as error:
            problems.append(error.problem)
        except OSError as error:
            problems.append(unreadable(unit, error, sources.LEFT_OUT))
    reader.close()
    return Stock(spec, entries, problems, is_sample=is_sample)


def _rows(batch: RowBatch) -> Iterator[Entry]:
    """Yield the rows of a batch, without what nobody wrote."""
    for at, line in enumerate(batch.lines):
        values = {name: column[at] for name, column in batch.columns.items() if column[at] not in (None, "")}
        if isinstance(key := values.get("id"), str):  # a number, before which its kind stands
            values["id"] = key.removeprefix("entry/")
        guessed = {"title": "slug"} if batch.titled and batch.titled[at] else {}
        yield Entry(Place(batch.file, line), batch.file, batch.slugs[at], values, guessed)
