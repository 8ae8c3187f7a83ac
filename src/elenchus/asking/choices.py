"""The choices of a parameter: its declared words, or the terms and entries that anybody may see."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.schema.types import Type

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.site.listings import ParameterRule
    from elenchus.site.site import Site

__all__ = ["possible"]


def possible(site: Site, rule: ParameterRule) -> Iterator[tuple[str, str, int]]:
    """Yield each value that a parameter can have, with its label and its depth in a tree."""
    if rule.words:
        yield from ((word, word, 0) for word in rule.words)
    elif rule.type and rule.type.type is Type.TERM:
        taxonomy = site.dataset.taxonomies[rule.type.taxonomy]
        hidden = site.executor.hidden_terms(taxonomy.name)
        for number, (term, label) in enumerate(zip(taxonomy.terms, taxonomy.labels, strict=True)):
            if number not in hidden:
                yield label, term.name, len(term.path) - 1
    elif rule.type and rule.type.type is Type.ENTRY:
        yield from ((name, title, 0) for name, title in site.executor.entries_of(rule.type.kinds))
    elif rule.type and rule.type.type is Type.YESNO:
        yield from (("yes", "yes", 0), ("no", "no", 0))
