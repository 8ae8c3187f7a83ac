"""What publishing changes, in words: files, and what becomes of listings."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.pages.paths import address_of
from elenchus.pieces.piece import Piece, Role, printable

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from elenchus.publishing.changes import ListingChange
    from elenchus.publishing.publication import Publication
    from elenchus.publishing.weaving import Woven

__all__ = ["changes_told", "done_told", "woven_told"]

_MOST = 12  # lines of one sort, unless all are wanted


def changes_told(
    found: Publication, titles: Callable[[str], str], where: str, *, whole: bool = False
) -> Iterator[Piece]:
    """Yield what would change: files by what becomes of them, listings with their entries; and dead links.

    ``where`` is the folder as people call it.
    """
    yield from _change_lines(found, titles, where, whole=whole)
    if found.dead:
        yield Piece("\nLinks that lead nowhere\n", Role.NOTICE)
        shown = found.dead if whole else found.dead[:_MOST]
        for target, page in shown:
            yield Piece(f"  /{printable(address_of(target))}")
            yield Piece(f"  on {printable(page)}\n", Role.FAINT)
        yield from _rest(len(found.dead) - len(shown), "link")


def _change_lines(
    found: Publication, titles: Callable[[str], str], where: str, *, whole: bool
) -> Iterator[Piece]:
    """Yield what would change: files by what becomes of them, then listings with their entries."""
    if found.is_idle and not found.moves and not found.left:
        yield Piece(f"Nothing changes: {_counted(len(found.kept), 'file')} in {where}.\n")
        return
    yield Piece(f"To {where}: ", Role.STRONG)
    parts = [
        ("new", found.new),
        ("changed", found.changed),
        ("removed", found.removed),
        ("as before", found.kept),
    ]
    yield Piece(
        ", ".join(f"{len(paths)} {word}" for word, paths in parts if paths or word == "as before") + "\n"
    )
    for sign, word, paths in (
        ("+", "new", found.new),
        ("~", "changed", found.changed),
        ("-", "removed", found.removed),
    ):
        yield from _lines(sign, f"files {word}", paths, whole=whole)
    yield from _lines("!", "no longer published, but changed by hand and so left", found.left, whole=True)
    if found.moves:
        yield Piece("\nIn listings\n", Role.HEADING)
        shown = found.moves if whole else found.moves[:_MOST]
        for move in shown:
            yield from _listing_lines(move, titles, whole=whole)
        yield from _rest(len(found.moves) - len(shown), "listing")


def _lines(sign: str, heading: str, paths: Sequence[str], *, whole: bool) -> Iterator[Piece]:
    """Yield a heading and a line for each path, as many as are read at a glance."""
    if not paths:
        return
    yield Piece(f"\n{heading[:1].upper()}{heading[1:]}\n", Role.HEADING)
    shown = sorted(paths) if whole else sorted(paths)[:_MOST]
    for path in shown:
        yield Piece(f"  {sign} ", Role.FAINT)
        yield Piece(f"{printable(path)}\n")
    yield from _rest(len(paths) - len(shown), "file")


def _rest(count: int, what: str) -> Iterator[Piece]:
    """Yield how many are not shown."""
    if count:
        yield Piece(f"  … and {_counted(count, what)} more; --in-full shows all\n", Role.FAINT)


def _listing_lines(move: ListingChange, titles: Callable[[str], str], *, whole: bool) -> Iterator[Piece]:
    """Yield what becomes of one listing."""
    yield Piece(f"  {printable(move.listing)}", Role.NAME)
    yield Piece(f" on {move.place}\n")
    told = [("+", f"{titles(name)} enters at {at}") for name, at in move.enters]
    told += [("-", f"{titles(name)} leaves, it was at {at}") for name, at in move.leaves]
    told += [("~", f"{titles(name)} moves from {old} to {new}") for name, old, new in move.moves]
    shown = told if whole else told[:_MOST]
    for sign, text in shown:
        yield Piece(f"    {sign} ", Role.FAINT)
        yield Piece(f"{printable(text)}\n")
    if len(told) > len(shown):
        yield Piece(f"    … {len(told) - len(shown)} more; --in-full shows them\n", Role.FAINT)


def done_told(found: Publication, private: Sequence[str], *, dry_run: bool) -> Iterator[Piece]:
    """Yield what was done."""
    if private:
        yield Piece(f"Private, and so never published: {', '.join(private)}.\n", Role.FAINT)
    if dry_run:
        yield Piece("Nothing was written (--dry-run).\n", Role.FAINT)
        return
    parts = [("wrote", len(found.staged)), ("removed", len(found.removed))]
    told = ", ".join(f"{word} {_counted(count, 'file')}" for word, count in parts if count)
    if told:
        yield Piece(f"{told[:1].upper()}{told[1:]}.\n")


def woven_told(found: Sequence[Woven], *, only_check: bool) -> Iterator[Piece]:
    """Yield what became of files with markers."""
    changed = [each for each in found if each.changes]
    for each in changed:
        yield Piece("  ~ ", Role.FAINT)
        yield Piece(f"{printable(str(each.path))}\n")
    markers = sum(each.markers for each in found)
    if not markers:
        yield Piece("There are no markers: write <!-- elenchus begin LISTING --> … <!-- elenchus end -->.\n")
        return
    verb = "would change" if only_check else "filled again"
    told = f"{_counted(markers, 'marker')} in {_counted(len(found), 'file')}: "
    yield Piece(told + (f"{_counted(len(changed), 'file')} {verb}.\n" if changed else "all up to date.\n"))


def _counted(count: int, word: str) -> str:
    """Return a count with its word."""
    return f"{count} {word}" if count == 1 else f"{count} {word}s"
