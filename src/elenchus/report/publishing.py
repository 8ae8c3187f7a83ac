"""What publishing changes, in words: files, and what becomes of listings."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.checks.census import census
from elenchus.pages.paths import address_of
from elenchus.pieces.piece import Piece, Role, printable
from elenchus.report.changes import MOST, counted, listings_told, names_told, rest
from elenchus.starting.plurals import plural

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from elenchus.checks.census import Census
    from elenchus.publishing.publication import Publication
    from elenchus.publishing.weaving import Woven
    from elenchus.site.site import Site

_FEW_HELD = 2  # entries of a kind that nobody misses

__all__ = ["changes_told", "done_told", "entries_told", "kind_told", "woven_told"]


def changes_told(
    found: Publication, titles: Callable[[str], str], where: str, *, whole: bool = False
) -> Iterator[Piece]:
    """Yield what would change: files by what becomes of them, listings with their entries; and dead links.

    ``where`` is the folder as people call it.
    """
    yield from _change_lines(found, titles, where, whole=whole)
    for heading, links in (
        ("Links that lead nowhere", found.dead),
        ("Links to addresses that moved", found.stale),
    ):
        if links:
            yield Piece(f"\n{heading}\n", Role.NOTICE)
        shown = links if whole else links[:MOST]
        for target, page in shown:
            yield Piece(f"  /{printable(address_of(target))}")
            yield Piece(f"  on {printable(page)}\n", Role.FAINT)
        yield from rest(len(links) - len(shown), "link")


def _change_lines(
    found: Publication, titles: Callable[[str], str], where: str, *, whole: bool
) -> Iterator[Piece]:
    """Yield what would change: files by what becomes of them, then listings with their entries."""
    if found.is_idle and not found.moves and not found.left:
        yield Piece(f"Nothing changes: {counted(len(found.kept), 'file')} in {where}.\n")
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
    for sign, heading, paths in (
        ("+", "Files new", found.new),
        ("~", "Files changed", found.changed),
        ("-", "Files removed", found.removed),
    ):
        yield from names_told(heading, sign, dict.fromkeys(sorted(paths), ""), "file", whole=whole)
    left = dict.fromkeys(sorted(found.left), "")
    yield from names_told("No longer published, but changed by hand and so left", "!", left, whole=True)
    yield from listings_told("In listings", found.moves, titles, whole=whole)


def done_told(found: Publication, private: Sequence[str], *, dry_run: bool) -> Iterator[Piece]:
    """Yield what was done."""
    if private:
        yield Piece(f"Private, and so never published: {', '.join(private)}.\n", Role.FAINT)
    if dry_run:
        yield Piece("Nothing was written (--dry-run).\n", Role.FAINT)
        return
    parts = [("wrote", len(found.staged)), ("removed", len(found.removed))]
    told = ", ".join(f"{word} {counted(count, 'file')}" for word, count in parts if count)
    if told:
        yield Piece(f"{told[:1].upper()}{told[1:]}.\n")


def entries_told(site: Site, *, dry_run: bool) -> Iterator[Piece]:
    """Yield how many entries are published and how many are held back by a problem, if any are."""
    if site.is_of_tables:
        return
    for kind in site.dataset.kind_names:
        yield from kind_told(kind, census(site, kind), few=_FEW_HELD)
    found = census(site)
    if not found.wrong:
        return
    them = "it" if found.wrong == 1 else "them"
    verb = "would be published" if dry_run else "published"
    total = counted(found.public + found.wrong, "entry", "entries")
    yield Piece(
        f"{found.public:,} of {total} {verb}; {found.wrong:,} held back: elenchus check names {them}.\n",
        Role.NOTICE,
    )


def kind_told(kind: str, found: Census, *, few: int = 0) -> Iterator[Piece]:
    """Yield why a kind has no public entries, or fewer than nine in ten: more than a ``few`` are not."""
    if not found.found or found.public * 10 >= found.found * 9:
        return
    if found.public and found.found - found.public <= few:
        return
    reasons = [f"{count:,} {reason}" for reason, count in found.held.items()]
    if found.over:
        reasons.append(f"{found.over:,} expired")
    if found.ahead:
        first, last = found.ahead.first.date(), found.ahead.last.date()
        until = f"from {first} to {last}" if first != last else f"for {first}"
        reasons.append(f"{found.ahead.number:,} scheduled {until}")
    shown = f"{found.public:,}" if found.public else "None"
    total = f"{found.found:,} {plural(kind) if found.found != 1 else kind}"
    verb = "is" if found.public == 1 or found.found == 1 else "are"
    yield Piece(f"{shown} of {total} {verb} public: {', '.join(reasons)}.\n", Role.NOTICE)


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
    told = f"{counted(markers, 'marker')} in {counted(len(found), 'file')}: "
    yield Piece(told + (f"{counted(len(changed), 'file')} {verb}.\n" if changed else "all up to date.\n"))
