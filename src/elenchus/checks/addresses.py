"""Addresses that get in each other's way: twice, one below another, alike but for case, unsafe."""

from __future__ import annotations

from collections import defaultdict
from typing import TYPE_CHECKING

from elenchus.errors import Problem
from elenchus.pages.paths import address_of, file_of, later_page, likeness, unsafe
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.pages.book import Book, Page

_FEW = 3  # pages of one address that are named

__all__ = ["page_problems"]


def _address_problems(book: Book, pages_of: Mapping[str, int]) -> Iterator[Problem]:
    """Yield what is wrong with all addresses; ``pages_of`` tells for how many pages each goes on."""
    files: dict[str, list[Page]] = defaultdict(list)
    for page in book.pages:
        reason = unsafe(page.path)
        if reason:
            hint = "Fix the slug in the content, or the path of the page."
            message = f"{_named(page)} cannot be written: {reason}"
            yield Problem("unsafe-path", message, hint, place=page.rule.at("address"))
        else:
            files[file_of(page.path)].append(page)
    for file, pages in files.items():
        if len(pages) > 1:
            message = f"{quoted(address_of(file))} is the address of {_listed(pages)}"
            yield Problem(
                "duplicate-address",
                message,
                "Give each a path of its own.",
                place=pages[-1].rule.at("address"),
            )
    firsts = {file: pages[0] for file, pages in files.items()}
    yield from _shadows(firsts, pages_of)
    yield from _alike(firsts)
    yield from _strays(book)


def page_problems(book: Book, pages_of: Mapping[str, int]) -> list[Problem]:
    """Return what is wrong with the files of pages, in making them, and with their addresses."""
    in_sets = [problem for name in book.rules for problem in book.of(name).problems]
    return [*book.site.pages.problems, *in_sets, *_address_problems(book, pages_of)]


def _named(page: Page) -> str:
    """Return what messages call a page."""
    return f"the page {page.rule.name}" + (f" for {page.here.name}" if page.here else "")


def _listed(pages: Sequence[Page]) -> str:
    """Return several pages in words, the first few by name."""
    named = [_named(page) for page in pages[:_FEW]]
    more = len(pages) - len(named)
    return " and of ".join([*named, f"{more} more"] if more else named)


def _shadows(files: Mapping[str, Page], pages_of: Mapping[str, int]) -> Iterator[Problem]:
    """Yield pages whose file is a folder of another, and later pages that hide a page."""
    folders: dict[str, Page] = {}
    for file, page in files.items():
        steps = file.split("/")
        for length in range(1, len(steps)):
            folders.setdefault("/".join(steps[:length]), page)
    for file, page in files.items():
        if file in folders:
            message = (
                f"{_named(page)} is the file {quoted(file)}, which {_named(folders[file])} needs as a folder"
            )
            yield Problem(
                "shadowed-page", message, "End its path with a slash.", place=page.rule.at("address")
            )
    for page in files.values():
        for number in range(2, pages_of.get(page.path, 1) + 1):
            hidden = files.get(file_of(later_page(page.path, number)))
            if hidden:
                message = f"page {number} of {_named(page)} stands where {_named(hidden)} does"
                yield Problem(
                    "shadowed-page",
                    message,
                    "Give one of them another path.",
                    place=hidden.rule.at("address"),
                )


def _alike(files: Mapping[str, Page]) -> Iterator[Problem]:
    """Yield addresses that differ only by case or by zeros before a number."""
    groups: dict[str, list[str]] = defaultdict(list)
    for file in files:
        groups[likeness(file)].append(file)
    for found in groups.values():
        if len(found) > 1:
            addresses = " and ".join(quoted(address_of(file)) for file in found)
            message = f"{addresses} differ only by case or by zeros before a number"
            hint = "Some servers and file systems take them for one."
            yield Problem("near-address", message, hint, place=files[found[-1]].rule.at("address"))


def _strays(book: Book) -> Iterator[Problem]:
    """Yield rows with two pages, and rows whose page is not where their kind or taxonomy says.

    What is so for a whole set of pages is reported once.
    """
    doubled: dict[tuple[str, str], list[tuple[str, list[Page]]]] = defaultdict(list)
    moved: dict[str, list[tuple[str, Page, str]]] = defaultdict(list)
    for (_, name), pages in book.by_row.items():
        if len(pages) > 1:
            doubled[pages[0].rule.name, pages[1].rule.name].append((name, pages))
        own = ", ".join(pages[0].here.values.get("address", ())) if pages[0].here else ""
        if own and pages[0].address not in (own, address_of(own)):
            moved[pages[0].rule.name].append((name, pages[0], own))
    for rows in doubled.values():
        name, pages = rows[0]
        addresses = " and ".join(quoted(page.address) for page in pages)
        message = f"{name} has two pages, {addresses}{_others(len(rows))}; links lead to the first"
        hint = "Keep one of the page sets for it."
        yield Problem("two-addresses", message, hint, place=pages[1].rule.place)
    for found in moved.values():
        name, page, own = found[0]
        message = f"{name} has its page at {quoted(page.address)} and its address is {quoted(own)}"
        hint = "Leave the path of the page set out, and it follows the address."
        yield Problem("two-addresses", message + _others(len(found)), hint, place=page.rule.at("address"))


def _others(count: int) -> str:
    """Return how many more rows there are like the one that is named."""
    return f", and so have {count - 1} more" if count > 1 else ""
