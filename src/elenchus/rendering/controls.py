"""What visitors choose: the parameters of a listing as a form, answered by address or by keys on the page."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any
from urllib.parse import urlencode

from markupsafe import Markup

from elenchus.asking.alone import independent
from elenchus.asking.choices import possible
from elenchus.pages.sections import free_parameters
from elenchus.rendering.sections import row_views
from elenchus.rendering.views import Control, FormView, Option
from elenchus.values.kept import cached_property
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.asking.query import Query
    from elenchus.pages.section import Section
    from elenchus.pages.sections import Placed
    from elenchus.rendering.rows import Desk
    from elenchus.rendering.views import Visit
    from elenchus.site.listings import ParameterRule
    from elenchus.site.pages import SectionRule
    from elenchus.site.site import Site

    _Values = Mapping[str, Sequence[str]]

__all__ = ["MOST_ROWS", "PAGE", "canonical", "form_of", "query_text"]

MOST_ROWS = 400  # that a published page holds for the script to choose from
PAGE = "page"


def form_of(desk: Desk, found: Placed, section: Section, visit: Visit) -> FormView | None:
    """Return the form of a section; None where nothing can be chosen on this page."""
    query, answer = section.asked, section.answer
    listing = query.listing
    names = free_parameters(listing, section.rule)
    if answer is None or not names or (visit.query is None and (visit.number > 1 or not answer.rows)):
        return None
    action = desk.root.link(found.page.address)
    if visit.query is not None:
        return FormView(action, tuple(_Choosing(query, section.rule).controls()), answer.total)
    if not independent(listing, names) or answer.total > MOST_ROWS:
        return None
    return _published(desk, section, action)


# Controls


@dataclass
class _Choosing:
    """A section's query that is asked with one choice after the other; each answer is worked out once."""

    query: Query
    rule: SectionRule
    rows: dict[tuple[tuple[str, tuple[str, ...]], ...], list[str] | None] = field(default_factory=dict)

    @cached_property
    def names(self) -> list[str]:
        """The parameters that a visitor may choose."""
        return free_parameters(self.query.listing, self.rule)

    def rows_with(self, chosen: _Values) -> list[str] | None:
        """Return the ids of the rows with other values, in their order; None where that cannot be asked."""
        key = tuple((name, tuple(texts)) for name, texts in chosen.items())
        if key not in self.rows:
            query = self.query.given_also(chosen)
            self.rows[key] = query.ids() if query.is_askable else None
        return self.rows[key]

    def controls(self) -> Iterator[Control]:
        """Yield the control of each parameter, what is chosen marked."""
        for name in self.names:
            rule = self.query.listing.parameters[name][0]
            yield self.control(rule, tuple(self.query.given.get(name, ())) or _usual(rule))

    def control(self, rule: ParameterRule, chosen: Sequence[str]) -> Control:
        """Return the control of one parameter; choices that would leave nothing are not offered."""
        label = rule.label or rule.name
        options = tuple(self.options(rule, chosen))
        if not options:
            return Control(rule.name, label, "text", text=", ".join(chosen))
        if rule.many:
            return Control(rule.name, label, "many", options)
        if self.query.listing.parameter_names[rule.name] and not _usual(rule):
            options = (Option("", "", is_chosen=not chosen), *options)
        return Control(rule.name, label, "one", options, is_order=bool(rule.orders))

    def options(self, rule: ParameterRule, chosen: Sequence[str]) -> Iterator[Option]:
        """Yield the choices of a parameter with the rows that each leaves, all others as they are.

        Those that leave none whatever is chosen besides are not offered.
        """
        for value, found in self.query.rows_of_values(rule).items():
            self.rows[(rule.name, (value,)),] = found
        free: _Values = {name: [] for name in self.names if self.query.given.get(name)}
        for value, label, depth in possible(self.query.site, rule):
            is_chosen = value in chosen
            if rule.orders:
                yield Option(value, label, is_chosen=is_chosen)
                continue
            rows = self.rows_with({rule.name: [value]})
            is_offered = (
                rows or is_chosen or rule.words or (free and self.rows_with({**free, rule.name: [value]}))
            )
            if is_offered:
                yield Option(value, label, depth, None if rows is None else len(rows), is_chosen)


# On published pages


def _published(desk: Desk, section: Section, action: str) -> FormView | None:
    """Return a form that chooses among all rows of a section by their keys."""
    choosing = _Choosing(section.asked, section.rule)
    controls = tuple(each for each in choosing.controls() if each.options)
    every = choosing.rows_with({})
    if not controls or every is None:
        return None
    number_of = {row: number for number, row in enumerate(every)}
    sets = {
        control.name: {
            option.value: [number_of[row] for row in choosing.rows_with({control.name: [option.value]}) or ()]
            for option in control.options
            if option.value
        }
        for control in controls
    }
    keys = {"choices": sets, "orders": [control.name for control in controls if control.is_order]}
    shown = set(section.ids)
    rest = tuple(
        row for row in row_views(desk, section.asked.plan, section.asked.whole()) if row.id not in shown
    )
    return FormView(action, controls, len(every), _as_script(keys), rest, number_of)


def _as_script(value: Any) -> Markup:
    """Return JSON that can stand in a script element: nothing in it ends or comments that."""
    text = json.dumps(value, ensure_ascii=False, separators=(",", ":"))
    return Markup(text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026"))  # noqa: S704


# Addresses


def canonical(site: Site, section: Section, names: Sequence[str]) -> dict[str, list[str]]:
    """Return what is chosen in the order of the parameters and of their choices, defaults left out."""
    listing, given = section.asked.listing, section.asked.given
    found = {}
    for name in names:
        rule = listing.parameters[name][0]
        spelt = {fold(word): value for value, label, _ in possible(site, rule) for word in (label, value)}
        known = {value: number for number, value in enumerate(dict.fromkeys(spelt.values()))}
        chosen = [spelt.get(fold(text), text) for text in given.get(name, ()) if text]
        chosen = sorted(dict.fromkeys(chosen), key=lambda text: (known.get(text, len(known)), text))
        if chosen and tuple(chosen) not in (rule.default, _usual(rule)):
            found[name] = chosen
    return found


def _usual(rule: ParameterRule) -> tuple[str, ...]:
    """Return what is chosen where nothing is given: the default, or the choice that asks for nothing."""
    free = tuple(word for word, condition in rule.conditions.items() if condition is None)
    return rule.default or free[:1]


def query_text(query: _Values, number: int = 1) -> str:
    """Return a query as addresses have it, with the number of a later page at its end."""
    pairs = [(name, text) for name, texts in query.items() for text in texts]
    return urlencode([*pairs, *([(PAGE, str(number))] if number > 1 else [])])
