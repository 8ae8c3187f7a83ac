"""Describing a site: what it holds, what a name means there, what a listing is made of."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.asking.provenance import field_sources
from elenchus.engine.describing.describe import Block, about, everything, found_by
from elenchus.errors import NoSuchName, Problem
from elenchus.index.content import facts_of
from elenchus.language.nodes import Question
from elenchus.language.printer import print_question
from elenchus.language.tree import CLAUSES_OF
from elenchus.schema.types import describe as describe_type
from elenchus.site.keys import TABLES
from elenchus.values.dates import from_instant, to_minute
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from elenchus.site.inheritance import Listing, Origin
    from elenchus.site.keys import Key, Table
    from elenchus.site.listings import ParameterRule
    from elenchus.site.site import Site

__all__ = ["describe", "describe_index"]


def describe(site: Site, text: str | None = None) -> list[Block]:
    """Return what a site holds; with a text, what it names, or else what has it in its name.

    Raises NoSuchName when the text is found nowhere, SiteError when the content cannot be read.
    """
    data, view = site.dataset, site.engine.view()
    if text is None:
        return [_site_block(site), *everything(view), *_listings_block(site)]
    name = text.strip()
    listings = [_listing_block(site.library.get(name))] if name in site.library.names else []
    fields = {field for kind in data.schema.kinds for field in data.schema.fields_of(kind)}
    origins = field_sources(site, name) if name in fields else []
    found = [*listings, *about(view, name), *origins, *_key_blocks(name)] or found_by(view, name)
    if found:
        return found
    names = [*data.kind_names, *data.taxonomies, *data.schema.fields, *data.schema.conditions]
    names += data.entries.names
    names += [*site.library.names, *(key.name for table in TABLES for key in table.keys)]
    labels = [label for taxonomy in data.taxonomies.values() for label in taxonomy.labels]
    words = (word for label in labels for word in label.split("-"))
    near = nearest(text, [*names, *labels]) or nearest(text, words)
    hint = "elenchus describe alone lists kinds and taxonomies."
    raise NoSuchName(
        [Problem("unknown-name", f"nothing on the site is called {quoted(text)}", hint, near=near)]
    )


def describe_index(site: Site) -> list[Block]:
    """Return what is kept of a site's content between runs: where, how large, whether it holds."""
    told = facts_of(site.content.wanted)
    if told is None:
        return [Block("Index", (("folder", "none that can be used; the next run makes one"),))]
    made = from_instant(told.made, site.clock.zone)
    holds = "yes" if told.holds else f"no: {told.why}; the next run reads that and patches it"
    facts = (
        ("folder", str(told.folder)),
        ("made", f"{to_minute(made)} {site.clock.zone.key}"),
        ("entries", f"{told.entries} of {told.units} files, parts of tables and feeds"),
        ("size", f"{told.size / 2**20:.1f} MB"),
        ("holds", holds),
    )
    rows = tuple((name, f"{size / 2**10:.0f} kB") for name, size in told.sections)
    return [Block("Index", facts, ("holds", "size"), rows)]


def _listings_block(site: Site) -> list[Block]:
    """Return the listings of a site, a line each; nothing where it has none."""
    listings = [site.library.get(name) for name in site.library.names]
    rows = tuple((each.name, each.title, each.asks) for each in listings)
    return [Block("Listings", headings=("listing", "title", "asks"), rows=rows)] if rows else []


def _listing_block(listing: Listing) -> Block:
    """Return what a listing is made of, each clause and setting with the listing that it comes from."""
    clauses = [
        (
            words,
            _clause_text(listing, name),
            ", ".join(dict.fromkeys(map(_origin_words, listing.clauses[name]))),
        )
        for name, words in CLAUSES_OF.items()
        if name in listing.clauses
    ]
    settings = [
        (name, _setting_words(value), _origin_words(origin))
        for name, (value, origin) in listing.settings.items()
    ]
    parameters = [
        (f":{name}", _parameter_words(rule), _origin_words(origin))
        for name, (rule, origin) in listing.parameters.items()
    ]
    facts = [("asks", listing.asks)]
    if len(listing.bases) > 1:
        facts.append(("based on", " → ".join(listing.bases[1:])))
    wrong = [("problem", str(problem)) for problem in listing.problems]
    return Block(
        f"Listing {listing.name}",
        (*facts, *wrong),
        ("what", "value", "comes from"),
        (*clauses, *settings, *parameters),
        (f"from {listing.name}", f"where listed in {listing.name}"),
    )


def _key_blocks(name: str) -> list[Block]:
    """Return what a key of the files that define a site means, in each table that has it."""
    return [_key_block(table, key) for table in TABLES for key in table.keys if key.name == name]


def _key_block(table: Table, key: Key) -> Block:
    """Return what one key means where it stands."""
    where = f"{table.header} in {table.file}" if table.header else table.file
    told = [("is", key.doc), ("takes", key.takes), ("by itself", key.by_itself), ("since", key.since)]
    return Block(f"Key {key.name} of {where}", tuple((what, text) for what, text in told if text))


def _origin_words(origin: Origin) -> str:
    """Return where something comes from."""
    return f"{origin.name} ({origin.place})"


def _clause_text(listing: Listing, name: str) -> str:
    """Return a clause as it is written, without its first words."""
    written = print_question(Question(**{name: getattr(listing.question, name)}))
    words = CLAUSES_OF[name]
    if not written.startswith(words):  # “limit 3 per group” has its number in the middle of its words
        first, _, last = words.partition(" ")
        return written.removeprefix(first).removesuffix(last).strip()
    return written.removeprefix(words).strip()


def _setting_words(value: object) -> str:
    """Return a setting as people read it."""
    return ", ".join(map(str, value)) if isinstance(value, tuple) else str(value)


def _parameter_words(rule: ParameterRule) -> str:
    """Return what a parameter takes, what it is without a value, and what becomes of it when absent."""
    words = [describe_type(rule.type)] if rule.type else []
    words += [f"one of {', '.join(rule.words)}"] if rule.words else []
    words += ["several"] if rule.many else []
    words += [f"without one {', '.join(rule.default)}"] if rule.default else []
    words += [f"absent: {rule.absent}"] if rule.absent != "error" else []
    return "; ".join(words)


def _site_block(site: Site) -> Block:
    """Return what a site is: where, when, from which sources, with how many problems."""
    made, data = site.definition, site.dataset
    now = f"{to_minute(from_instant(site.clock.now, site.clock.zone))} {site.clock.zone.key}"
    pinned = " (fixed by the site)" if made.clock == site.clock.now else ""
    sources = [(f"source {spec.name}", f"{spec.read} in {spec.place}") for spec in made.sources]
    wrong = f"{len(data.problems)} in the content" if data.problems else "none"
    facts = [("folder", str(made.folder)), ("now", now + pinned), *sources, ("problems", wrong)]
    return Block(made.title or "A site without a title", tuple(facts))
