"""Words that a shell may complete: names of the nearest site, codes, formats.

Files of definitions are read for their names alone. Names of entries and terms come from content, which is
only opened if it has an index and is all in files: the Tab key must neither wait nor ask a server.
"""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click  # noqa: TC002 - Typer reads the annotations

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Sequence

    from elenchus.site.site import Site

__all__ = [
    "assignments",
    "codes",
    "definitions",
    "entries",
    "fixed",
    "formats",
    "listings",
    "names",
    "pages",
    "parameters",
    "templates",
    "terms",
    "terms_beside",
]


def _offered(words: Iterable[tuple[str, str]], begun: str) -> list[tuple[str, str]]:
    """Return the words that go on as one was begun, each with what it is; none that looks like an option."""
    found = ((word, told) for word, told in words if word.startswith(begun) and not word.startswith("-"))
    return [(word, " ".join(told.split())) for word, told in found]


def _read(file: Path) -> dict[str, Any]:
    """Return what a file of TOML has; nothing where it cannot be read."""
    import tomllib

    with suppress(OSError, ValueError):
        return tomllib.loads(file.read_text(encoding="utf-8-sig"))
    return {}


def _words(ctx: click.Context) -> list[str]:
    """Return the words behind the command, as far as they are whole."""
    return list(ctx.obj or ())


def _argument(ctx: click.Context) -> str:
    """Return the first word behind the command that is no option and no value of one."""
    takes_value = {name for each in ctx.command.params if not _is_flag(each) for name in each.opts}
    words = iter(_words(ctx))
    for word in words:
        if word in takes_value:
            next(words, None)
        elif not word.startswith("-"):
            return word
    return ""


def _is_flag(parameter: click.Parameter) -> bool:
    """Say whether a parameter is an option without a value."""
    return bool(getattr(parameter, "is_flag", False))


def _folder(ctx: click.Context) -> Path | None:
    """Return the folder of the site that a command is about."""
    from elenchus.site.keys import SITE_FILE

    words = _words(ctx)
    given = words[words.index("--site") + 1] if "--site" in words[:-1] else None
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


def _site(ctx: click.Context) -> Site | None:
    """Return the site with its content; None if that would take time or ask a server. Raises SiteError."""
    from elenchus.index.store import folders_for
    from elenchus.site.site import open_site

    folder = _folder(ctx)
    if folder is None or not any((each / "units").is_file() for each in folders_for(folder)):
        return None
    site = open_site(folder)
    is_of_files = not any(spec.url or spec.table for spec in site.definition.sources)
    return site if is_of_files else None


def _entries(site: Site, kinds: Sequence[str] = ()) -> Iterator[tuple[str, str]]:
    """Yield the ids of entries with their titles."""
    data = site.dataset
    titles = data.texts("title")
    for row, name in enumerate(data.entries.ids):
        if not kinds or data.kind_of(row) in kinds:
            yield name, titles.item(row) or ""


def _terms(site: Site, taxonomy: str) -> Iterator[tuple[str, str]]:
    """Yield the slugs of the terms of a taxonomy with their names."""
    found = site.dataset.taxonomies[taxonomy]
    yield from ((label, term.name) for label, term in zip(found.labels, found.terms, strict=True))


def entries(ctx: click.Context, incomplete: str) -> list[tuple[str, str]]:
    """Return the ids of entries; their slugs too, if no id begins so."""
    site = _site(ctx)
    found = list(_entries(site)) if site else []
    slugs = [(name.partition("/")[2], title) for name, title in found]
    return _offered(found, incomplete) or _offered(slugs, incomplete)


def terms(ctx: click.Context, incomplete: str) -> list[tuple[str, str]]:
    """Return terms with their taxonomies, as ``habitat/dunes``; of taxonomies alone at first."""
    taxonomy, slash, _ = incomplete.partition("/")
    if not slash:
        return _offered(((f"{name}/", "") for name, _ in _of_site_file(ctx, "taxonomies")), incomplete)
    site = _site(ctx)
    if site is None or taxonomy not in site.dataset.taxonomies:
        return []
    return _offered(((f"{taxonomy}/{slug}", name) for slug, name in _terms(site, taxonomy)), incomplete)


def terms_beside(ctx: click.Context, incomplete: str) -> list[tuple[str, str]]:
    """Return the terms of the taxonomy whose term an earlier argument names."""
    site, taxonomy = _site(ctx), _argument(ctx).partition("/")[0]
    known = _terms(site, taxonomy) if site and taxonomy in site.dataset.taxonomies else ()
    return _offered(known, incomplete)


def assignments(ctx: click.Context, incomplete: str) -> list[tuple[str, str]]:
    """Return fields to be set, each with its sign; behind that their values, where these are known."""
    from elenchus.schema.types import Type, describe

    site = _site(ctx)
    if site is None:
        return []
    schema = site.definition.schema
    fields = {name: field for kind in schema.kinds for name, field in schema.fields_of(kind).items()}
    name, sign, _ = incomplete.partition("=")
    if not sign:
        return _offered(((f"{each}=", describe(fields[each].type)) for each in fields), incomplete)
    field = fields.get(name.rstrip("+-"))
    if field is None:
        return []
    kind = field.type
    known: Iterable[tuple[str, str]] = ((choice, "") for choice in kind.choices)
    if kind.type is Type.TERM:
        known = _terms(site, kind.taxonomy)
    elif kind.type is Type.ENTRY:
        known = _entries(site, kind.kinds)
    elif kind.type is Type.YESNO:
        known = (("yes", ""), ("no", ""))
    return _offered(((f"{name}={value}", told) for value, told in known), incomplete)


def parameters(ctx: click.Context, incomplete: str) -> list[tuple[str, str]]:
    """Return the parameters of the listing that is asked; behind the sign of one the values it can have."""
    site, listing = _site(ctx), _argument(ctx).strip()
    if site is None or listing not in site.library.names:
        return []
    from elenchus.asking.choices import possible

    found = site.library.get(listing)
    rules = {name: rule for name, (rule, _) in found.parameters.items()}
    name, sign, _ = incomplete.partition("=")
    if not sign:
        told = ((f"{each}=", rules[each].label if each in rules else "") for each in found.parameter_names)
        return _offered(told, incomplete)
    known = possible(site, rules[name]) if name in rules else ()
    return _offered(((f"{name}={value}", label) for value, label, _ in known), incomplete)


def listings(ctx: click.Context, incomplete: str) -> list[tuple[str, str]]:
    """Return the names of listings."""
    return _offered(_listings(ctx), incomplete)


def names(ctx: click.Context, incomplete: str) -> list[tuple[str, str]]:
    """Return what can be described: kinds, taxonomies, conditions, listings, fields, and terms."""
    site = _site(ctx)
    known = [*_of_site_file(ctx, "kinds", "taxonomies", "conditions"), *_listings(ctx)]
    if site:
        schema = site.definition.schema
        known += ((name, "field") for kind in schema.kinds for name in schema.kinds[kind].fields)
        known += (term for taxonomy in schema.taxonomies for term in _terms(site, taxonomy))
    return _offered(dict(reversed(known)).items(), incomplete)


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
