"""What written values mean: keys of their types, terms and entries by their names."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.schema.convert import Unfit, convert
from elenchus.schema.naming import several_entries, several_terms, unknown_entry, unknown_term
from elenchus.schema.types import CORE_FIELDS, Type
from elenchus.values.texts import fold, nearest
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping, Sequence
    from zoneinfo import ZoneInfo

    from elenchus.engine.columns.naming import EntryNames
    from elenchus.schema.taxonomy import Taxonomy
    from elenchus.schema.types import Field

__all__ = ["Meanings", "scalars"]

_BY_NAME = "Write [taxonomies.author] in the site file, if the names of people are enough."
_MOST_NEAR = 200  # wrong names of a site that are compared with all others


def scalars(value: Any) -> list[Any]:
    """Return the written values of a field as a list without blanks."""
    values = value if isinstance(value, list) else [value]
    return [item for item in values if item is not None and item != ""]


class Meanings(NamedTuple):
    """What decides which key a written value is; ``near`` keeps which names come near to wrong ones."""

    zone: ZoneInfo
    taxonomies: Mapping[str, Taxonomy]
    names: EntryNames
    near: dict[tuple[str, str], tuple[str, ...]]

    def key(self, value: Any, wanted: Field) -> Any:
        """Return the key of one written value: converted by its type, or looked up by its name.

        Raises Unfit.
        """
        if wanted.type.type is Type.TERM:
            return self._term(as_text(value), wanted.type.taxonomy)
        if wanted.type.type is Type.ENTRY:
            return self._entry(as_text(value), wanted)
        return convert(value, wanted, self.zone)

    def _term(self, name: str, taxonomy: str) -> int:
        """Return the number of the one term that a name means."""
        terms = self.taxonomies[taxonomy]
        found = terms.find(name)
        if len(found) == 1:
            return found[0]
        if found:
            addresses = [terms.terms[number].address for number in found]
            raise Unfit.of(several_terms(name, addresses, "is the name of {} terms"))
        near = self._nearest(taxonomy, name, lambda: terms.suggest(name))
        raise Unfit.of(unknown_term(name, "term", near, f"Define it in the terms of {taxonomy}."))

    def _entry(self, name: str, wanted: Field) -> int:
        """Return the row of the one entry that a name means."""
        names, kinds = self.names, wanted.type.kinds
        rows = names.find(fold(name), kinds)
        if len(rows) == 1:
            return rows[0]
        if rows:
            raise Unfit.of(several_entries(name, [names.ids[row] for row in rows]))
        near = self._nearest(", ".join(kinds), name, lambda: nearest(name, _slugs_of(names, kinds)))
        is_person = wanted == CORE_FIELDS["author"]  # which nobody declared to be an entry of some kind
        raise Unfit.of(unknown_entry(name, kinds, near, _BY_NAME if is_person else ""))

    def _nearest(self, where: str, name: str, find: Callable[[], Sequence[str]]) -> Sequence[str]:
        """Return the names that come near a wrong one: looked for once a name, and for so many names only.

        A wrong reference in each of ten thousand entries would otherwise be compared with all of them.
        """
        if (where, name) not in self.near:
            if len(self.near) >= _MOST_NEAR:
                return ()
            self.near[where, name] = tuple(find())
        return self.near[where, name]


def _slugs_of(names: EntryNames, kinds: Sequence[str]) -> Iterable[str]:
    """Return the slugs of the entries of some kinds, of all for none."""
    texts = names.slug_texts.texts.at(names.records)
    if not kinds:
        return texts
    numbers = {number for number, kind in enumerate(names.kind_names) if kind in kinds}
    return [text for text, kind in zip(texts, names.kinds.tolist(), strict=True) if kind in numbers]
