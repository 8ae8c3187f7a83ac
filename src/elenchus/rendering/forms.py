"""What visitors choose: the parameters of a listing as a form, answered by address or by keys on the page."""

from __future__ import annotations

import json
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Literal
from urllib.parse import urlencode

from markupsafe import Markup

from elenchus.asking.choices import possible
from elenchus.asking.parameters import ground, settled
from elenchus.engine.run import run
from elenchus.engine.stages import select
from elenchus.language.nodes import And, Chosen, Compare, Parameter
from elenchus.language.tree import walk
from elenchus.pages.sections import free_parameters, left_out_rows
from elenchus.plan.check import check
from elenchus.rendering.sections import row_views
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.engine.answer import Answer
    from elenchus.language.nodes import Question
    from elenchus.pages.sections import Placed, Section
    from elenchus.rendering.renderer import Renderer, Visit
    from elenchus.rendering.rows import RowView
    from elenchus.site.inheritance import Listing
    from elenchus.site.listings import ParameterRule
    from elenchus.site.site import Site

    Values = Mapping[str, Sequence[str]]

__all__ = ["MOST_ROWS", "Control", "Form", "Option", "canonical", "form_of", "independent", "query_text"]

MOST_ROWS = 400  # that a published page holds for the script to choose from
PAGE = "page"


@dataclass(frozen=True, slots=True)
class Option:
    """One choice: what is sent, what people read, how deep it stands in a tree, how many rows it leaves."""

    value: str
    label: str
    depth: int = 0
    count: int | None = None
    is_chosen: bool = False


@dataclass(frozen=True, slots=True)
class Control:
    """One parameter of a form: ``sort`` is many or one of its options, or a text."""

    name: str
    label: str
    sort: Literal["many", "one", "text"]
    options: tuple[Option, ...] = ()
    text: str = ""
    is_order: bool = False


@dataclass(frozen=True)
class Form:
    """The form of a section.

    ``keys`` is what the script chooses by, as JSON: the rows that each choice leaves and the rows in each
    order, by their numbers; empty where an answer is asked for by address. ``rest`` are the rows that
    stand on later pages.
    """

    action: str
    controls: tuple[Control, ...]
    total: int
    keys: str = ""
    rest: tuple[RowView, ...] = ()
    rows: Mapping[str, int] = field(default_factory=dict)


def form_of(renderer: Renderer, found: Placed, section: Section, visit: Visit) -> Form | None:
    """Return the form of a section; None where nothing can be chosen on this page."""
    listing, _, answer = section.parts
    names = free_parameters(listing, section.rule)
    if not names or (visit.query is None and (visit.number > 1 or not answer.rows)):
        return None
    action = renderer.root.link(found.page.address)
    site = renderer.site
    if visit.query is not None:
        controls = tuple(controls_of(site, section, names))
        return Form(action, controls, answer.total)
    if not independent(listing, names) or answer.total > MOST_ROWS:
        return None
    return published(renderer, section, names, action)


# Questions that keys can answer


def independent(listing: Listing, names: Sequence[str]) -> bool:
    """Say whether each parameter chooses rows by itself, so that sets of rows can stand for its choices.

    Each must stand in one place: in a condition of its own that all rows must meet, positively and for
    any of its values, and without a default; or in the order. Nothing may be cut, grouped or filled up.
    """
    question = listing.question
    cut = (
        question.at_most,
        question.group,
        question.offset,
        question.limit,
        question.lead,
        listing.setting("fill_from"),
    )
    return not any(cut) and all(is_alone(listing, question, name) for name in names)


def is_alone(listing: Listing, question: Question, name: str) -> bool:
    """Say whether a parameter stands in one condition of its own, or in the order."""
    uses = [node for node in walk(question) if isinstance(node, Parameter) and node.name == name]
    rule = listing.parameters[name][0]
    if len(uses) != 1:
        return False
    if rule.orders:
        return bool(rule.default or uses[0].optional)
    if rule.default or not uses[0].optional or question.where is None:
        return False
    condition = question.where.condition
    parts = condition.parts if isinstance(condition, And) else (condition,)
    return any(chooses(part, uses[0]) for part in parts)


def chooses(part: Any, use: Parameter) -> bool:
    """Say whether a condition holds for the rows that any of a parameter's values lets in."""
    if isinstance(part, Chosen):
        return part.parameter is use
    return (
        isinstance(part, Compare)
        and part.values == (use,)
        and not part.negated
        and part.operator != "has all"
    )


# Controls


def controls_of(site: Site, section: Section, names: Sequence[str]) -> Iterator[Control]:
    """Yield the control of each parameter, what is chosen marked."""
    listing, given = section.parts[0], section.given or {}
    for name in names:
        rule = listing.parameters[name][0]
        chosen = tuple(given.get(name, ())) or usual(rule)
        optional = listing.parameter_names[name]
        yield control_of(site, section, rule, chosen, optional=optional)


def control_of(
    site: Site, section: Section, rule: ParameterRule, chosen: Sequence[str], *, optional: bool
) -> Control:
    """Return the control of one parameter; choices that would leave nothing are not offered."""
    label = rule.label or rule.name
    options = tuple(options_of(site, section, rule, chosen))
    if not options:
        return Control(rule.name, label, "text", text=", ".join(chosen))
    if rule.many:
        return Control(rule.name, label, "many", options)
    has_none = any(condition is None for condition in rule.conditions.values())
    if optional and not rule.default and not has_none:
        options = (Option("", "", is_chosen=not chosen), *options)
    return Control(rule.name, label, "one", options, is_order=bool(rule.orders))


def options_of(site: Site, section: Section, rule: ParameterRule, chosen: Sequence[str]) -> Iterator[Option]:
    """Yield the choices of a parameter with the number of rows that each leaves, all others as they are.

    Those that leave none whatever is chosen besides are not offered.
    """
    names = free_parameters(section.parts[0], section.rule)
    given: dict[str, list[str]] = {name: [] for name in names if (section.given or {}).get(name)}
    for value, label, depth in possible(site, rule):
        is_chosen = value in chosen
        if rule.orders:
            yield Option(value, label, is_chosen=is_chosen)
            continue
        rows = rows_with(site, section, {rule.name: [value]})
        count = None if rows is None else len(rows)
        if (
            count
            or is_chosen
            or rule.words
            or (given and rows_with(site, section, {**given, rule.name: [value]}))
        ):
            yield Option(value, label, depth, count, is_chosen)


def rows_with(site: Site, section: Section, chosen: Values) -> list[int] | None:
    """Return the rows of a section with other values, in their order; None where it cannot be asked."""
    asked = settled(site, section.parts[0], {**(section.given or {}), **chosen})
    plan, problems = check(asked, ground(site))
    if problems:
        return None
    rows: list[int] = select(
        plan, site.dataset, site.clock, without=left_out_rows(site, section)
    ).rows.tolist()
    return rows


# On published pages


def published(renderer: Renderer, section: Section, names: Sequence[str], action: str) -> Form | None:
    """Return a form that chooses among all rows of a section by their keys."""
    site = renderer.site
    controls = tuple(each for each in controls_of(site, section, names) if each.options)
    if not controls:
        return None
    every = rows_with(site, section, {})
    if every is None:
        return None
    number_of = {row: number for number, row in enumerate(every)}
    sets = {
        control.name: {
            option.value: [
                number_of[row] for row in rows_with(site, section, {control.name: [option.value]}) or ()
            ]
            for option in control.options
            if option.value
        }
        for control in controls
    }
    rows = whole(site, section)
    keys = {"choices": sets, "orders": [control.name for control in controls if control.is_order]}
    shown = set(section.ids)
    rest = tuple(row for row in row_views(renderer.desk, section.parts[1], rows) if row.id not in shown)
    numbers = {row.id: number for number, row in enumerate(rows.rows)}
    return Form(action, controls, len(every), as_script(keys), rest, numbers)


def whole(site: Site, section: Section) -> Answer:
    """Return all rows of a section on one page."""
    listing, plan, _ = section.parts
    without = left_out_rows(site, section)
    return run(replace(plan, per_page=None), site.dataset, site.clock, listing.text, without=without)


def as_script(value: Any) -> Markup:
    """Return JSON that can stand in a script element: nothing in it ends or comments that."""
    text = json.dumps(value, ensure_ascii=False, separators=(",", ":"))
    return Markup(text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026"))  # noqa: S704


# Addresses


def canonical(site: Site, section: Section, names: Sequence[str]) -> dict[str, list[str]]:
    """Return what is chosen in the order of the parameters and of their choices, defaults left out."""
    listing, given = section.parts[0], section.given or {}
    found = {}
    for name in names:
        rule = listing.parameters[name][0]
        spelt = {fold(word): value for value, label, _ in possible(site, rule) for word in (label, value)}
        known = {value: number for number, value in enumerate(dict.fromkeys(spelt.values()))}
        chosen = [spelt.get(fold(text), text) for text in given.get(name, ()) if text]
        chosen = sorted(dict.fromkeys(chosen), key=lambda text: (known.get(text, len(known)), text))
        if chosen and tuple(chosen) not in (rule.default, usual(rule)):
            found[name] = chosen
    return found


def usual(rule: ParameterRule) -> tuple[str, ...]:
    """Return what is chosen where nothing is given: the default, or the choice that asks for nothing."""
    free = tuple(word for word, condition in rule.conditions.items() if condition is None)
    return rule.default or free[:1]


def query_text(query: Values, number: int = 1) -> str:
    """Return a query as addresses have it, with the number of a later page at its end."""
    pairs = [(name, text) for name, texts in query.items() for text in texts]
    return urlencode([*pairs, *([(PAGE, str(number))] if number > 1 else [])])
