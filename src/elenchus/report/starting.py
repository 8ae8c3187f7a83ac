"""What beginning a site found and did: in ten lines or so, and as data."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.pieces.piece import Piece, Role, printable
from elenchus.report.publishing import kind_told
from elenchus.starting.plurals import plural

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from elenchus.checks.census import Census
    from elenchus.starting.beginning import Begun
    from elenchus.starting.sitedraft import SourceDraft

__all__ = ["begun_data", "begun_pieces"]

_MOST = 6  # lines of what is unsure
_MOST_HABITS = 2  # of a source that are told in its line
_MOST_LEFT = 8  # names of what is left out
_MOST_SOURCES = 8


def begun_pieces(begun: Begun, counts: Mapping[str, Census]) -> Iterator[Piece]:
    """Yield what was found, what is unsure, what is held back, and what was written.

    ``counts`` tells for each kind how many entries there are, and how many the public sees.
    """
    yield Piece("Found\n", Role.HEADING)
    for source in begun.draft.sources[:_MOST_SOURCES]:
        yield from _source(source, counts)
    if (more := len(begun.draft.sources) - _MOST_SOURCES) > 0:
        yield Piece(f"  and {more} more sources\n")
    yield from _left_out(begun)
    held = [piece for kind, each in counts.items() for piece in kind_told(kind, each)]
    if held:
        yield Piece("Held back\n", Role.HEADING)
        for piece in held:
            yield Piece(f"  {piece.text}", piece.role)
    unsure = [(source.spec.name, each) for source in begun.draft.sources for each in source.unsure]
    if unsure:
        yield Piece("Unsure\n", Role.HEADING)
        for name, each in unsure[:_MOST]:
            yield Piece(f"  {name}: ", Role.NAME)
            yield Piece(f"{printable(each.what)}.\n")
            yield Piece(f"      {each.lead} {printable(each.otherwise)}.\n", Role.FAINT)
        if len(unsure) > _MOST:
            yield Piece(f"  and {len(unsure) - _MOST} more, as comments in elenchus.toml\n", Role.FAINT)
    if begun.written:
        yield Piece("Wrote ", Role.HEADING)
        yield Piece(f"{', '.join(begun.written)} in {begun.folder}\n")
    elif begun.proposed:
        yield Piece("The site file exists and is not changed. It does not yet have:\n\n", Role.HEADING)
        for text in begun.proposed:
            yield Piece("".join(f"  {line}\n" for line in text.splitlines()) + "\n")
    else:
        yield Piece("The site file exists and has all of this: nothing to propose.\n")


def _left_out(begun: Begun) -> Iterator[Piece]:
    """Yield what is not content, in one line, and how to let it in."""
    counts = dict(begun.left_out)
    if not counts:
        return
    names = sorted(counts, key=lambda name: (not name.endswith("/"), -counts[name], name))
    told = [f"{counts[name]:,} in {name.rstrip('/')}" if name.endswith("/") else name for name in names]
    more = f" and {len(told) - _MOST_LEFT} more" if len(told) > _MOST_LEFT else ""
    yield Piece("Left out ", Role.HEADING)
    yield Piece(f"{printable(', '.join(told[:_MOST_LEFT]))}{more}\n")
    hint = "Packages, settings, credentials, ignored and unreadable files. To include one, name it:"
    yield Piece(f"  {hint} elenchus start FILE, or remove it from exclude.\n", Role.FAINT)


def _source(source: SourceDraft, counts: Mapping[str, Census]) -> Iterator[Piece]:
    """Yield what was seen of one source."""
    told = []
    for kind in source.kinds:
        found = counts.get(kind)
        count = found.found if found and len(source.kinds) == 1 else source.kinds[kind]
        count = source.size or count
        told.append(f"{count:,} {kind if count == 1 else plural(kind)}")
    if len(told) > _MOST_HABITS * 2:
        told = [*told[:3], f"{len(told) - 3} more kinds"]
    yield Piece(f"  {source.spec.name}: ", Role.NAME)
    yield Piece(f"{', '.join(told)} in {printable(_place(source))}")
    terms = [f"{name} (a tree)" if tree else name for name, tree in source.taxonomies.items()]
    parts = [f"by {', '.join(terms)}"] if terms else []
    if source.fields:
        parts.append(f"{len(source.fields)} field{'s' if len(source.fields) > 1 else ''}")
    parts += [f"{what} ({count:,}×)" for what, count in source.seen[:_MOST_HABITS]]
    yield Piece(f", {printable('; '.join(parts))}\n" if parts else "\n")
    if source.size:
        seen = f"{len(source.sample):,}"
        yield Piece(f"    based on the first {seen}; elenchus check reads all of them\n", Role.FAINT)


def _place(source: SourceDraft) -> str:
    """Return where the content of a source is."""
    table = source.spec.table
    name = f"{table.prefix}{table.table} of " if table and table.table else ""
    paths = source.spec.paths
    return f"{name}{paths[0]} and {len(paths) - 1} more" if len(paths) > 1 else f"{name}{source.spec.place}"


def begun_data(begun: Begun, counts: Mapping[str, Census]) -> dict[str, Any]:
    """Return what beginning a site found and did as data."""
    return {
        "folder": str(begun.folder),
        "written": list(begun.written),
        "proposed": list(begun.proposed),
        "left_out": dict(begun.left_out),
        "sources": [_source_data(source) for source in begun.draft.sources],
        "kinds": {kind: _census_data(each) for kind, each in counts.items()},
        "unsure": [
            {"source": source.spec.name, "what": each.what, "otherwise": each.otherwise}
            for source in begun.draft.sources
            for each in source.unsure
        ],
    }


def _source_data(source: SourceDraft) -> dict[str, Any]:
    """Return what was seen of one source as data."""
    return {
        "name": source.spec.name,
        "read": source.spec.read,
        "place": source.spec.place,
        "kinds": list(source.kinds),
        "size": source.size or None,
        "looked_at": len(source.sample) or None,
        "taxonomies": [{"name": name, "tree": tree} for name, tree in source.taxonomies.items()],
        "fields": [
            {"name": name, "type": told.type, "many": told.many} for name, told in source.fields.items()
        ],
        "seen": [{"what": what, "count": count} for what, count in source.seen],
    }


def _census_data(found: Census) -> dict[str, Any]:
    """Return how many entries of a kind there are as data."""
    ahead = found.ahead
    return {
        "found": found.found,
        "public": found.public,
        "held": dict(found.held),
        "over": found.over,
        "ahead": {"count": ahead.number, "first": ahead.first.isoformat(), "last": ahead.last.isoformat()}
        if ahead
        else None,
    }
