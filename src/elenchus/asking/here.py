"""The row of a page where there is no page: ``--with here=ID`` gives ``:here.FIELD`` as well."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.errors import Place, QuestionError
from elenchus.frozen import replace
from elenchus.language.nodes import Path
from elenchus.language.tree import rows_named_in
from elenchus.plan.fields import Fields, NoField
from elenchus.plan.nodes import FieldRef
from elenchus.schema.naming import several_entries, unknown_entry
from elenchus.schema.subject import ENTRIES, terms_of
from elenchus.values.wording import spoken

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.errors import Problem
    from elenchus.schema.subject import Subject
    from elenchus.site.inheritance import Listing
    from elenchus.site.site import Site

__all__ = ["HERE", "names_of_here", "texts_of", "with_here"]

HERE = "here"
_GIVEN = Place(f"--with {HERE}")


def with_here(
    site: Site, listing: Listing, given: Mapping[str, Sequence[str]]
) -> Mapping[str, Sequence[str]]:
    """Return given values with the asked-for fields of the row that ``here`` names.

    A field that the row has not has no value. Raises QuestionError for a name that is nobody's.
    """
    names = [text for text in given.get(HERE, ()) if text]
    wanted = sorted(name for name in names_of_here(site, listing) if name not in (HERE, *given))
    if len(names) != 1 or not wanted:
        return given
    found = dict(given)
    data = site.dataset
    called = list(_rows_called(site, names[0]))
    if not called:
        raise QuestionError(listing.text, [_unknown(site, names[0])])
    for subject, row in called[:1]:
        kinds = () if subject.is_terms else (_kind_of(site, row),)
        fields = Fields(data, kinds, subject)
        for name in wanted:
            try:
                ref = fields.find(Path(tuple(name.split(".")[1:])))
            except NoField:  # no rows then, as on a page
                found[name] = ()
                continue
            [value] = site.executor.values(subject, row, [ref])
            found[name] = texts_of(value)
    return found


def _kind_of(site: Site, name: str) -> str:
    """Return the kind of an entry, by its id."""
    [kind] = site.executor.values(ENTRIES, name, [FieldRef("kind", site.dataset.schema.fields["kind"].type)])
    return str(kind)


def _unknown(site: Site, name: str) -> Problem:
    """Return the problem of a name that is neither an entry's nor a term's."""
    data = site.dataset
    ids = data.entries_called(name)
    near = data.entries_near(name, (), site.clock.now)
    problem = several_entries(name, ids) if ids else unknown_entry(name, ("entry or term",), near)
    return replace(problem, place=_GIVEN)


def _rows_called(site: Site, name: str) -> Iterator[tuple[Subject, str]]:
    """Yield the id of the entry of a name, then those of terms; only what is meant for certain."""
    ids = site.dataset.entries_called(name)
    if len(ids) == 1:
        yield ENTRIES, ids[0]
    for taxonomy, terms in site.dataset.taxonomies.items():
        numbers = terms.find(name)
        if len(numbers) == 1:
            yield terms_of(taxonomy), terms.ids[numbers[0]]


def names_of_here(site: Site, listing: Listing) -> frozenset[str]:
    """Return what a question asks of the row of its page, such as ``here`` and ``here.station``.

    The listings that it names, or is filled up from, ask on their part.
    """
    return site.names_of_here.get(id(listing), lambda: (listing, frozenset(_asked_of_here(site, listing))))[1]


def _asked_of_here(site: Site, listing: Listing) -> Iterator[str]:
    """Yield what a question and all that it rests on ask of the row of their page."""
    found, seen = [listing], set[str]()
    for each in found:  # which grows on the way
        yield from (name for name in each.parameter_names if name.split(".")[0] == HERE)
        named = {each.setting("fill_from"), *rows_named_in(each.question)}
        new = [name for name in sorted(named - seen) if name in site.library.names]
        seen.update(new)
        found += [site.library.get(name) for name in new]


def texts_of(value: Any) -> tuple[str, ...]:
    """Return a decoded value as texts that a question can take; a missing one has none."""
    if value is None:
        return ()
    values = value if isinstance(value, tuple) else (value,)
    return tuple(
        spoken(item).replace(" ", "T", 1) if hasattr(item, "hour") else spoken(item) for item in values
    )
