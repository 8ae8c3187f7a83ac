"""What beginning a site found and did, as pieces."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.pieces.piece import Piece, Role, printable

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.starting.beginning import Begun
    from elenchus.starting.draft import SourceDraft

__all__ = ["begun_pieces"]

_MOST = 8  # lines of one sort
_MOST_LEFT = 12  # names of what is left out


def begun_pieces(begun: Begun) -> Iterator[Piece]:
    """Yield what was seen, what was written, and what is unsure."""
    for source in begun.draft.sources:
        yield from _source(source)
    yield from _left_out(begun)
    count, fitting = begun.values
    if count:
        yield Piece(
            f"{fitting} of {count} values fit what was written down for them ({fitting / count:.0%}).\n\n"
        )
    unsure = [(source.spec.name, each) for source in begun.draft.sources for each in source.unsure]
    if unsure:
        yield Piece("Unsure\n", Role.HEADING)
        for name, each in unsure:
            yield Piece(f"  {name}: ", Role.NAME)
            yield Piece(f"{each.what}.\n")
            yield Piece(f"      {each.lead} {each.otherwise}.\n", Role.FAINT)
        yield Piece("\n")
    if begun.written:
        yield Piece("Wrote ", Role.HEADING)
        yield Piece(f"{', '.join(begun.written)} in {begun.folder}\n\n")
    elif begun.proposed:
        yield Piece("The site file is there and stays as it is. It does not have yet:\n\n", Role.HEADING)
        for text in begun.proposed:
            yield Piece("".join(f"  {line}\n" for line in text.splitlines()) + "\n")
    else:
        yield Piece("The site file is there and has all of that: nothing to propose.\n\n")


def _left_out(begun: Begun) -> Iterator[Piece]:
    """Yield what is not content, in one line, and how to let it in."""
    counts = dict(begun.left_out)
    if not counts:
        return
    names = sorted(counts, key=lambda name: (not name.endswith("/"), -counts[name], name))
    told = [f"{counts[name]:,} in {name.rstrip('/')}" if name.endswith("/") else name for name in names]
    more = f" and {len(told) - _MOST_LEFT} more" if len(told) > _MOST_LEFT else ""
    yield Piece("Left out\n", Role.HEADING)
    yield Piece(f"  {printable(', '.join(told[:_MOST_LEFT]))}{more}\n")
    hint = "These are packages, settings, credentials, or ignored by version control, and not content.\n"
    yield Piece(f"  {hint}", Role.FAINT)
    yield Piece("  To let one in, name it: elenchus start FILE, or take it out of exclude.\n\n", Role.FAINT)


def _source(source: SourceDraft) -> Iterator[Piece]:
    """Yield what was seen of one source."""
    kinds = ", ".join(f"{count} {kind}" for kind, count in source.kinds.items())
    yield Piece(f"{source.spec.name}", Role.HEADING)
    yield Piece(f"  {source.spec.read} in {source.spec.place}: {kinds}\n")
    for what, count in source.seen[:_MOST]:
        yield Piece(f"  {what}, {count} times\n" if count != 1 else f"  {what}, once\n")
    if source.taxonomies:
        names = (f"{name} (a tree)" if tree else name for name, tree in source.taxonomies.items())
        yield Piece(f"  terms: {', '.join(names)}\n")
    fields = [f"{name} {told.type} {told.fitting}/{told.total}" for name, told in source.fields.items()]
    if fields:
        yield Piece(f"  fields: {', '.join(fields)}\n")
    yield Piece("\n")
