"""Sections as templates are given them: rows with their fields, groups, a pager, what to choose."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING, Any

from elenchus.forms._measures import measure_texts
from elenchus.plan.nodes import Stored
from elenchus.rendering.rows import time_item
from elenchus.rendering.values import Item
from elenchus.rendering.views import GroupView, Link, MeasureView, SectionView, ShownField
from elenchus.schema.subject import ENTRIES, terms_of
from elenchus.schema.types import Type
from elenchus.values.addresses import NOWHERE
from elenchus.values.slugs import slugify
from elenchus.values.texts import distinct

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.asking.query import Query
    from elenchus.plan.answer import Answer, Choices, Group
    from elenchus.plan.nodes import FieldRef, Plan
    from elenchus.rendering.rows import Desk, RowView
    from elenchus.site.inheritance import Listing
    from elenchus.values.addresses import Href

__all__ = ["choice_links", "group_views", "label_of", "measure_views", "row_views", "section_view"]

_MOST_COLUMNS = 6
# What a layout shows where the listing does not say.
_SHOWN = {
    "titles": ("title",),
    "list": ("title", "date", "summary"),
    "cards": ("image", "title", "date", "summary"),
    "table": ("title", "date"),
}
_SHOWN_OF_TERMS = ("name", "own")


def section_view(desk: Desk, query: Query, answer: Answer, **more: object) -> SectionView:
    """Return a section with the rows of an answer; ``more`` are other attributes of the view."""
    listing, plan = query.listing, query.plan
    layout = str(listing.setting("layout") or _default_layout(listing, plan))
    columns, words = _columns_of(desk, listing, plan, layout), int(listing.setting("summary_words"))
    return SectionView(
        id=slugify(str(more.pop("id", "") or listing.name or "rows")),
        title=str(more.pop("title", listing.title if listing.name else "")),
        name=listing.name,
        layout=layout,
        rows=tuple(row_views(desk, plan, answer)),
        columns=columns,
        total=answer.total,
        matched=answer.matched,
        groups=group_views(desk, plan, answer) if answer.groups is not None else None,
        is_archive=bool(plan.groups) and plan.per_group == 0,
        cards_in_row=min(int(listing.setting("per_row") or 0), _MOST_COLUMNS),
        words=words,
        look=f"{words} {[(each.name, each.label, each.is_number) for each in columns]}",
        empty_message=str(listing.setting("empty_message") or ""),
        is_hidden=not answer.rows and not answer.groups and listing.setting("if_empty") == "hide",
        choices=tuple(choice_links(desk, plan, answer.choices)) if answer.choices else (),
        measures=measure_views(desk, answer, [each.value for each in answer.measures]),
        grouped_by=", ".join(map(label_of, answer.grouped_by)),
        **more,  # type: ignore[arg-type]
    )


def _default_layout(listing: Listing, plan: Plan) -> str:
    """Return the layout of a listing that names none: a table of fields, or a list."""
    if listing.setting("show"):
        return "list"
    return "titles" if plan.subject.is_terms else "list"


def _columns_of(desk: Desk, listing: Listing, plan: Plan, layout: str) -> tuple[ShownField, ...]:
    """Return the fields that a section shows."""
    known = {ref.name: ref for ref in (*plan.fields, *plan.show)}
    names = listing.setting("show") or _shown_by_layout(plan, layout)
    return tuple(
        ShownField(name, label_of(name), _is_number(desk, plan, known.get(name), name)) for name in names
    )


def _shown_by_layout(plan: Plan, layout: str) -> Sequence[str]:
    """Return the fields that a layout shows of itself; a table those that the question names."""
    if plan.subject.is_terms:
        return _SHOWN_OF_TERMS
    if layout == "table":
        named = [ref.name for ref in plan.fields if ref.name not in ("title", "id")]
        return tuple(dict.fromkeys(("title", *named))) if named else _SHOWN["table"]
    return _SHOWN.get(layout, _SHOWN["list"])


def label_of(name: str) -> str:
    """Return what people call a field: its name as words."""
    words = name.replace(".", " ").replace("_", " ").replace("-", " ")
    return words[:1].upper() + words[1:]


def _is_number(desk: Desk, plan: Plan, ref: FieldRef | None, name: str) -> bool:
    """Say whether a field holds single numbers."""
    kind = ref.type if ref else None
    if kind is None and plan.subject.is_terms:
        declared = desk.site.dataset.term_fields(plan.subject.taxonomy).get(name)
        kind = declared.type if declared else None
    return bool(kind and kind.type in (Type.INTEGER, Type.NUMBER) and not kind.many)


def row_views(desk: Desk, plan: Plan, answer: Answer) -> Iterator[RowView]:
    """Yield the rows of an answer, with values that are no fields of their own."""
    far = [ref for ref in (*plan.fields, *plan.show) if not isinstance(ref.source, Stored)]
    for row in answer.rows:
        view = desk.row(plan.subject, row.id, row.number)
        if far:
            besides = {ref.name: view.far_value(ref, row.values[ref.name]) for ref in far}
            view = type(view)(desk, view.subject, view.id, view.number, besides)
        yield view


def group_views(desk: Desk, plan: Plan, answer: Answer) -> tuple[GroupView, ...]:
    """Return the groups of an answer with their rows."""
    rows = {view.id: view for view in row_views(desk, plan, answer)}
    groups = answer.groups or ()
    slugs = (slugify("-".join(str(key) for key in group.keys if key is not None)) for group in groups)
    ids = distinct([slug or "none" for slug in slugs])
    return tuple(
        GroupView(
            label=desk.book.label(answer, group),
            href=_group_link(desk, plan, answer, group),
            count=group.count,
            rows=tuple(rows[name] for name in group.rows),
            id=name,
            measures=measure_views(desk, answer, group.measures),
        )
        for group, name in zip(groups, ids, strict=True)
    )


def measure_views(desk: Desk, answer: Answer, values: Sequence[Any]) -> tuple[MeasureView, ...]:
    """Return the measures of some rows of an answer."""
    language = desk.site.definition.language
    found = []
    for each, value, text in zip(answer.measures, values, measure_texts(answer, values), strict=True):
        shown = time_item(value, language) if isinstance(value, date) else Item(text)
        found.append(MeasureView(label_of(each.label), value, shown))
    return tuple(found)


def _group_link(desk: Desk, plan: Plan, answer: Answer, group: Group) -> Href:
    """Return the link to the page about a group: its own, or that of the term or the entry it is of."""
    pages = desk.book.pages_of_group(answer, group)
    for page in pages:
        if desk.may_show(page.rule.private):
            return desk.root.link(page.address)
    key, ref = group.keys[-1], plan.groups[-1].field
    if key is None or len(group.keys) > 1:
        return NOWHERE
    if ref.type.type is Type.TERM and isinstance(ref.source, Stored):
        return desk.row(terms_of(ref.type.taxonomy), str(key)).address
    if ref.type.type is Type.ENTRY:
        return desk.row(ENTRIES, str(key)).address
    return NOWHERE


def choice_links(desk: Desk, plan: Plan, choices: Choices) -> Iterator[Link]:
    """Yield what can be chosen where a listing cannot be asked without it, with the pages about it."""
    kinds = desk.site.library.get(plan.name).parameters if plan.name else {}
    rule = kinds[choices.parameter][0] if choices.parameter in kinds else None
    subject = terms_of(rule.type.taxonomy) if rule and rule.type else ENTRIES
    for choice in choices.choices:
        if choice.count:
            href = desk.row(subject, choice.value).address if subject.is_terms else NOWHERE
            yield Link(f"{choice.label} ({choice.count})", href, depth=choice.depth)
