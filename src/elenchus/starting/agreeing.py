"""Sources that agree: each name means one thing in all of them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.frozen import replace
from elenchus.starting.guessing import Typed
from elenchus.starting.plurals import singular

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.starting.sitedraft import SourceDraft

__all__ = ["kinds_apart", "of_one_meaning", "one_name_for_each"]


def one_name_for_each(sources: Sequence[SourceDraft]) -> list[SourceDraft]:
    """Return sources that have one name for a taxonomy which some call by one thing and some by several."""
    names: dict[str, str] = {}
    for source in sorted(
        sources, key=lambda source: source.spec.table is None
    ):  # those of tables cannot be changed
        for name in source.taxonomies:
            names.setdefault(singular(name), name)
    found = []
    for source in sources:
        changed = {name: names[singular(name)] for name in source.taxonomies if names[singular(name)] != name}
        columns = {field: column for field, column in source.spec.columns.items() if field not in changed}
        columns |= {new: source.spec.columns.get(old, old) for old, new in changed.items()}
        taxonomies = {changed.get(name, name): tree for name, tree in source.taxonomies.items()}
        spec = replace(source.spec, columns=columns)
        found.append(source._replace(spec=spec, taxonomies=taxonomies))
    return found


def of_one_meaning(sources: Sequence[SourceDraft]) -> list[SourceDraft]:
    """Return sources in which a name is a taxonomy of all of them, or a field of all of them.

    What one takes for terms and another for a text or a choice are terms; of others both are texts.
    """
    fields = [(name, told) for source in sources for name, told in source.fields.items()]
    both = {name for name, _ in fields} & {name for source in sources for name in source.taxonomies}
    narrow = {name for name, told in fields if name in both and told.type not in ("text", "choice")}
    found = []
    for source in sources:
        of_terms = {name: tree for name, tree in source.taxonomies.items() if name not in narrow}
        of_terms |= {name: False for name in source.fields if name in both - narrow}
        left = {name: told for name, told in source.fields.items() if name not in both - narrow}
        for name in narrow & source.taxonomies.keys():
            values = source.values.get(name)
            left[name] = Typed("text", many=bool(values and values.many))
        fields_of = {
            kind: [
                *(each for each in keys if each in left),
                *(each for each in left if each in narrow and each not in keys),
            ]
            for kind, keys in source.fields_of.items()
        }
        found.append(source._replace(taxonomies=of_terms, fields=left, fields_of=fields_of))
    return found


def kinds_apart(sources: Sequence[SourceDraft]) -> list[SourceDraft]:
    """Return sources none of whose kinds is called like a taxonomy or a field: each name means one thing."""
    taken = {name for source in sources for name in (*source.taxonomies, *source.fields)}
    found = []
    for source in sources:
        changed = {kind: f"{kind}-entry" for kind in source.kinds if kind in taken}
        spec = source.spec
        if spec.kind in changed:
            spec = replace(spec, kind=changed[spec.kind])
        elif changed:
            words = {**{kind: kind for kind in changed}, **spec.kinds}
            kinds = {text: changed.get(kind, kind) for text, kind in words.items()}
            spec = replace(spec, kinds={text: kind for text, kind in kinds.items() if text != kind})
        counts = {changed.get(kind, kind): count for kind, count in source.kinds.items()}
        fields_of = {changed.get(kind, kind): keys for kind, keys in source.fields_of.items()}
        found.append(source._replace(spec=spec, kinds=counts, fields_of=fields_of))
    return found
