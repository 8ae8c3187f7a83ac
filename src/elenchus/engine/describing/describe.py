"""What a site holds: kinds, fields, taxonomies, terms and entries, as tables of facts."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.columns.distinct import each_value
from elenchus.engine.decode import decode
from elenchus.engine.describing.stats import statistics
from elenchus.engine.explaining.explain import misfit_of
from elenchus.engine.explaining.state import state_of
from elenchus.engine.select import Selection
from elenchus.frozen import Frozen
from elenchus.plan.nodes import FieldRef
from elenchus.schema.convert import within
from elenchus.schema.subject import terms_of
from elenchus.schema.types import CORE_FIELDS, Type, describe
from elenchus.values.texts import fold, quoted
from elenchus.values.wording import spoken

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.columns.column import Mask
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.view import View
    from elenchus.schema.types import Field

__all__ = ["Block", "about", "everything", "found_by"]

_MOST_FOUND = 12  # lines of each sort that a fragment of a name finds
_LONGEST_VALUE = 200


class Block(Frozen):
    """A part of a description: a title, facts as pairs of texts, a table, words to write in a question."""

    title: str
    facts: tuple[tuple[str, str], ...] = ()
    headings: tuple[str, ...] = ()
    rows: tuple[tuple[str, ...], ...] = ()
    write: tuple[str, ...] = ()


def everything(view: View) -> Iterator[Block]:
    """Yield the kinds of a dataset, its taxonomies and its named conditions."""
    data = view.data
    rows = []
    for number, kind in enumerate(data.kind_names):
        of_kind = data.entries.kinds == number
        declared = [name for name, field in data.schema.kinds[kind].fields.items() if field.declared]
        public = int((of_kind & view.visible).sum())
        rows.append((kind, str(int(of_kind.sum())), str(public), ", ".join(declared)))
    yield Block("Kinds", headings=("kind", "entries", "public", "fields of its own"), rows=tuple(rows))
    terms = [_taxonomy_row(view, name) for name in data.taxonomies]
    if terms:
        yield Block(
            "Taxonomies", headings=("taxonomy", "shape", "terms", "in use", "entries"), rows=tuple(terms)
        )
    if data.schema.conditions:
        yield Block("Conditions", headings=("name", "stands for"), rows=tuple(data.schema.conditions.items()))


def _taxonomy_row(view: View, name: str) -> tuple[str, ...]:
    """Return the line of a taxonomy among all."""
    taxonomy, table = view.data.taxonomies[name], view.table(name)
    shape = "tree" if taxonomy.tree else "flat"
    entries = len(each_value(table.pairs[1]))
    return name, shape, str(len(taxonomy.terms)), str(int((table.counts > 0).sum())), str(entries)


def about(view: View, name: str) -> list[Block]:
    """Return what a name means: a kind, a taxonomy, a condition, a field, terms, entries; perhaps several."""
    data = view.data
    found: list[Block] = []
    if name in data.schema.kinds:
        found.append(_kind_block(view, name))
    if name in data.taxonomies:
        found.append(_taxonomy_block(view, name))
    if name in data.schema.conditions:
        text = data.schema.conditions[name]
        found.append(Block(f"Condition {name}", (("stands for", text),), write=(f"where {name}",)))
    if name not in data.taxonomies:
        found += _field_blocks(view, name)
    for taxonomy in data.taxonomies:
        found += [_term_block(view, taxonomy, number) for number in data.taxonomies[taxonomy].find(name)]
    found += [_entry_block(view, row) for row in data.find_entry(name)]
    return found


def _kind_block(view: View, kind: str) -> Block:
    """Return a kind with the statistics of its fields."""
    data = view.data
    of_kind = data.entries.kinds == data.kind_names.index(kind)
    fields = [field for field in data.schema.fields_of(kind).values() if field.name not in _UNTOLD]
    rows = [row for field in fields if (row := _field_row(view, field, of_kind, kind))]
    public = int((of_kind & view.visible).sum())
    count = f"{int(of_kind.sum())}, {public} of them public"
    facts = (("entries", count), ("address", data.schema.kinds[kind].address))
    return Block(f"Kind {kind}", facts, _FIELD_HEADINGS, tuple(rows), (f"from {kind}",))


_UNTOLD = ("id", "kind", "slug", "body", "address", "source")  # all entries have them, and each its own
_FIELD_HEADINGS = ("field", "type", "set", "missing", "not fitting", "from", "to", "commonest")


def _field_row(view: View, field: Field, of_kind: Mask, kind: str) -> tuple[str, ...] | None:
    """Return the line of a field in a kind; None for one that it neither sets nor declares itself."""
    found = statistics(view, FieldRef(field.name, field.type), of_kind)
    own = field.name in view.data.schema.kinds[kind].fields
    if not found.present and not found.misfits and not own:
        return None
    undeclared = "" if field.declared else " (undeclared)"
    counts = (str(found.present), str(found.missing), str(found.misfits or ""))
    return (
        field.name,
        describe(field.type) + undeclared,
        *counts,
        found.smallest,
        found.largest,
        found.commonest,
    )


def _taxonomy_block(view: View, name: str) -> Block:
    """Return a taxonomy with all its terms."""
    taxonomy, table = view.data.taxonomies[name], view.table(name)
    rows = []
    for number, term in enumerate(taxonomy.terms):
        above = taxonomy.parents[number]
        parent = taxonomy.labels[above] if above >= 0 else ""
        label = "  " * (len(term.path) - 1) + taxonomy.labels[number]
        counts = (str(table.counts[number]), str(table.totals[number]))
        rows.append((label, term.name, term.id, parent, *counts))
    shape = "a tree" if taxonomy.tree else "flat"
    headings = ("slug", "name", "id", "parent", "entries", "with those below")
    write = (
        f"where {name} = …",
        *((f"where {name} under …",) if taxonomy.tree else ()),
        f"from {name}",
        f"group by {name}",
    )
    return Block(
        f"Taxonomy {name}", (("shape", shape), ("terms", str(len(rows)))), headings, tuple(rows), write
    )


def _field_blocks(view: View, name: str) -> list[Block]:
    """Return a field in each kind that has it, one block for each type."""
    data = view.data
    types: dict[str, list[str]] = {}
    for kind in data.kind_names:
        field = data.schema.field_of(kind, name)
        if field:
            types.setdefault(describe(field.type), []).append(kind)
    return [_field_block(view, data.schema.fields_of(kinds[0])[name], kinds) for kinds in types.values()]


def _field_block(view: View, field: Field, kinds: list[str]) -> Block:
    """Return a field with its statistics in each of some kinds."""
    data = view.data
    rows = []
    for kind in kinds:
        of_kind = data.entries.kinds == data.kind_names.index(kind)
        found = statistics(view, FieldRef(field.name, field.type), of_kind)
        counts = (str(found.present), str(found.missing), str(found.misfits or ""))
        rows.append((kind, *counts, found.smallest, found.largest, found.commonest))
    headings = ("kind", *_FIELD_HEADINGS[2:])
    facts = [("type", describe(field.type))]
    if field.type.choices:
        facts.append(("choices, in order", ", ".join(field.type.choices)))
    if not field.declared:
        facts.append(("declared", "no: a text that content brings along"))
    return Block(f"Field {field.name}", tuple(facts), headings, tuple(rows), (_examples(field),))


def _examples(field: Field) -> str:
    """Return a condition on a field, as a question has it."""
    kind = field.type.type
    if kind is Type.YESNO:
        return f"where {field.name}"
    if kind.is_date:
        return f"where {field.name} in last 30 days"
    if kind in (Type.INTEGER, Type.NUMBER):
        number = 10 if within(10, field) else field.most if field.least is None else field.least
        return f"where {field.name} >= {number:g}"
    if kind is Type.CHOICE:
        return f"where {field.name} = {field.type.choices[0]}"
    if kind.is_text:
        return f'where {field.name} contains "…"'
    return f"where {field.name} = …"


def _term_block(view: View, taxonomy: str, number: int) -> Block:
    """Return a term: its names, its place in the tree, its counts."""
    terms, table = view.data.taxonomies[taxonomy], view.table(taxonomy)
    term, label = terms.terms[number], terms.labels[number]
    below = [terms.labels[at] for at, parent in enumerate(terms.parents) if parent == number]
    latest = spoken(decode(view, _LATEST, number, terms_of(taxonomy)))
    facts = [
        ("name", term.name),
        ("path", term.address),
        ("id", term.id),
        ("also called", ", ".join(term.aliases)),
        ("below it", ", ".join(below)),
        ("entries", f"{table.counts[number]} with the term, {table.totals[number]} with those below"),
        ("latest", latest),
        *term.columns.items(),
    ]
    write = [f"where {taxonomy} = {label}"]
    if terms.tree:
        write.append(f"where {taxonomy} under {label}")
    return Block(f"Term {label} of {taxonomy}", tuple(fact for fact in facts if fact[1]), write=tuple(write))


_LATEST = FieldRef("latest", CORE_FIELDS["date"].type)


def _entry_block(view: View, row: int) -> Block:
    """Return an entry with all that it has, values that do not fit among it."""
    data = view.data
    selection = Selection(view)
    facts = [("state", str(state_of(data, view.now, row)))]
    for name, field in data.schema.fields_of(data.kind_of(row)).items():
        text = spoken(decode(view, FieldRef(name, field.type), row))
        misfit = misfit_of(selection, name, row)
        if misfit:
            text = f"{text} · {quoted(misfit)} does not fit {describe(field.type)}".removeprefix(" · ")
        if text:
            facts.append((name, text if len(text) <= _LONGEST_VALUE else f"{text[: _LONGEST_VALUE - 1]}…"))
    title = f"Entry {data.entries.ids[row]}"
    return Block(title, tuple(facts), write=(f"where entry = {data.entries.ids[row]}",))


def found_by(view: View, fragment: str) -> list[Block]:
    """Return what has a fragment in its name, slug, id or title, with the words to write in a question."""
    data, wanted = view.data, fold(fragment)
    lines = [*_names_with(data, wanted), *_terms_with(data, wanted)]
    entries = {row for text, row in data.entries.names.items() if wanted in text}
    entries |= set(np.flatnonzero(data.core("slug").contains(wanted) | _titles_with(view, wanted)).tolist())
    for row in sorted(entries)[:_MOST_FOUND]:
        write = f"where entry = {data.entries.ids[row]}"
        lines.append((data.kind_of(row), view.titles.item(row) or "", write))
    if not lines:
        return []
    more = len(entries) - _MOST_FOUND
    facts = (("entries", f"{len(entries)}, of which {more} are not shown"),) if more > 0 else ()
    return [Block(f"What has “{fragment}” in it", facts, ("what", "name", "write"), tuple(lines))]


def _titles_with(view: View, wanted: str) -> Mask:
    """Return which entries have a folded text in their title."""
    return view.titles.contains(wanted)


def _names_with(data: Dataset, wanted: str) -> Iterator[tuple[str, str, str]]:
    """Yield the kinds, fields, choices and conditions with a text in their names."""
    fields = {name: field for kind in data.kind_names for name, field in data.schema.fields_of(kind).items()}
    yield from (("kind", name, f"from {name}") for name in data.kind_names if wanted in fold(name))
    yield from (("field", name, _examples(field)) for name, field in fields.items() if wanted in fold(name))
    for name, field in fields.items():
        for choice in field.type.choices:
            if wanted in fold(choice):
                yield f"choice of {name}", choice, f"where {name} = {choice}"
    yield from (
        ("condition", name, f"where {name}") for name in data.schema.conditions if wanted in fold(name)
    )


def _terms_with(data: Dataset, wanted: str) -> Iterator[tuple[str, str, str]]:
    """Yield the first terms of each taxonomy with a text in one of their spellings."""
    for name, taxonomy in data.taxonomies.items():
        numbers = {at for text, found in taxonomy.lookup.items() if wanted in text for at in found}
        for at in sorted(numbers)[:_MOST_FOUND]:
            label = taxonomy.labels[at]
            yield name, f"{taxonomy.terms[at].name} ({label})", f"where {name} = {label}"
