"""Words that a shell may complete: names of listings, pages and kinds of the nearest site, codes, formats.

Files of definitions are read for their names alone: no content is opened, so that the Tab key need not wait.
"""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click  # noqa: TC002 - Typer reads the annotations

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator

__all__ = [
    "codes",
    "definitions",
    "fixed",
    "formats",
    "listings",
    "names",
    "pages",
    "templates",
]


def _offered(words: Iterable[tuple[str, str]], begun: str) -> list[tuple[str, str]]:
    """Return the words that go on as one was begun, each with what it is."""
    return [(word, " ".join(told.split())) for word, told in words if word.startswith(begun)]


def _read(file: Path) -> dict[str, Any]:
    """Return what a file of TOML has; nothing where it cannot be read."""
    import tomllib

    with suppress(OSError, ValueError):
        return tomllib.loads(file.read_text(encoding="utf-8-sig"))
    return {}


def _folder(ctx: click.Context) -> Path | None:
    """Return the folder of the site that a command is about."""
    from elenchus.site.keys import SITE_FILE

    given = ctx.params.get("site")
    around = [Path(given)] if given else [Path.cwd(), *Path.cwd().parents]
    return next((folder for folder in around if os.path.lexists(folder / SITE_FILE)), None)


def _tables(ctx: click.Context, stem: str) -> Iterator[tuple[str, dict[str, Any]]]:
    """Yield the tables with a name of ``stem.toml`` and of the files in the folder ``stem``."""
    from elenchus.site.files import files_of

    folder = _folder(ctx)
    if folder is None:
        return
    for name in files_of(folder, stem):
        yield from ((key, table) for key, table in _read(folder / name).items() if isinstance(table, dict))


def _listings(ctx: click.Context) -> Iterator[tuple[str, str]]:
    """Yield the names of listings with their titles."""
    for name, table in _tables(ctx, "listings"):
        yield name, str(table.get("title", ""))


def _of_site_file(ctx: click.Context, *keys: str) -> Iterator[tuple[str, str]]:
    """Yield the names of kinds, of taxonomies or of conditions, with what they are."""
    from elenchus.site.keys import SITE_FILE

    folder = _folder(ctx)
    data = _read(folder / SITE_FILE) if folder else {}
    for key in keys:
        found = data.get(key)
        yield from ((name, key) for name in (found if isinstance(found, dict) else ()))


def listings(ctx: click.Context, incomplete: str) -> list[tuple[str, str]]:
    """Return the names of listings."""
    return _offered(_listings(ctx), incomplete)


def names(ctx: click.Context, incomplete: str) -> list[tuple[str, str]]:
    """Return what can be described: kinds, taxonomies, conditions, listings."""
    known = [*_of_site_file(ctx, "kinds", "taxonomies", "conditions"), *_listings(ctx)]
    return _offered(known, incomplete)


def pages(ctx: click.Context, incomplete: str) -> list[tuple[str, str]]:
    """Return the names of pages, and their addresses where a slash is begun."""
    tables = list(_tables(ctx, "pages"))
    known = [(name, str(table.get("title", ""))) for name, table in tables]
    addresses = [str(table.get("address", "")) for _, table in tables if "each" not in table]
    return _offered([*known, *((f"/{each}", "") for each in addresses)], incomplete)


def codes(incomplete: str) -> list[tuple[str, str]]:
    """Return the codes of all findings."""
    file = Path(__file__).parents[1] / "checks" / "records.toml"
    tables = _read(file).values()
    return _offered(
        ((code, record["means"]) for table in tables for code, record in table.items()), incomplete
    )


def formats(incomplete: str) -> list[tuple[str, str]]:
    """Return the formats of answers."""
    from elenchus import forms

    return _offered(((name, "") for name in forms.names()), incomplete)


def templates(incomplete: str) -> list[tuple[str, str]]:
    """Return the built-in templates."""
    from elenchus.rendering.built_in import BUILT_IN

    return _offered(((name, "") for name in BUILT_IN), incomplete)


def definitions(incomplete: str) -> list[tuple[str, str]]:
    """Return the files that have a schema."""
    from elenchus.site.schemas import NAMES

    return _offered(((name, "") for name in NAMES), incomplete)


def fixed(*words: str) -> Callable[[str], list[tuple[str, str]]]:
    """Return what completes words that are always the same."""

    def found(incomplete: str) -> list[tuple[str, str]]:
        return _offered(((word, "") for word in words), incomplete)

    return found
