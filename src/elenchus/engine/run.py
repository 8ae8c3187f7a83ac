"""From a plan to an answer: from → visible → where → order → offset → limit → pages."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.answer import SHOWN_NAMES, Answer, Row
from elenchus.engine.decode import decode
from elenchus.engine.order import ordered
from elenchus.engine.select import Selection
from elenchus.errors import NoSuchPage, Problem
from elenchus.plan.nodes import FieldRef
from elenchus.table.schema import CORE_FIELDS
from elenchus.values.dates import from_instant
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from elenchus.plan.nodes import Plan
    from elenchus.table.dataset import Dataset
    from elenchus.values.dates import Clock

__all__ = ["run"]

MOST_DIGITS = 10
SHOWN = tuple(FieldRef(name, CORE_FIELDS[name].type) for name in SHOWN_NAMES)


def run(plan: Plan, data: Dataset, clock: Clock, question: str, page: int | str = 1) -> Answer:
    """Return one page of the answer to a plan. Raises NoSuchPage."""
    entries = data.entries
    selection = Selection(data, (entries.opens <= clock.now) & (clock.now < entries.closes))
    asked = selection.visible & np.isin(entries.kinds, plan.kinds)
    mask = asked & selection.rows(plan.condition) if plan.condition else asked
    matched = ordered(selection, np.flatnonzero(mask), plan.order)
    rows = matched[plan.offset :][: plan.limit]
    pages = page_count(len(rows), plan.per_page)
    number = page_number(page, pages, plan.per_page)
    shown = rows[(number - 1) * plan.per_page :][: plan.per_page] if plan.per_page else rows
    return Answer(
        question=question,
        matched=len(matched),
        total=len(rows),
        offset=plan.offset,
        page=number,
        pages=pages,
        per_page=plan.per_page,
        rows=tuple(row_of(selection, row, plan.fields) for row in shown.tolist()),
        at=from_instant(clock.now, clock.zone),
        mentioned=tuple(field.name for field in plan.fields),
        notices=(
            *plan.notices,
            *misfits(selection, plan, asked),
            *by_absence(selection, plan, asked, len(matched)),
        ),
    )


def page_count(total: int, per_page: int | None) -> int:
    """Return the number of pages; an empty answer has one."""
    return max(1, -(-total // per_page)) if per_page else 1


def page_number(page: int | str, pages: int, per_page: int | None) -> int:
    """Return the number of a page that exists. Raises NoSuchPage."""
    text = str(page)
    if text.isascii() and text.isdigit() and len(text) < MOST_DIGITS and 1 <= int(text) <= pages:
        return int(text)
    last = "there is only page 1" if pages == 1 else f"the last page is {pages}"
    hint = "" if per_page else "A question is cut into pages by “per page N”."
    raise NoSuchPage([Problem("no-such-page", f"there is no page {quoted(text)}: {last}", hint)])


def misfits(selection: Selection, plan: Plan, asked: NDArray[np.bool_]) -> Sequence[Problem]:
    """Return a notice for each field of the question with stored values that do not fit its type."""
    found = []
    for field in plan.fields:
        wrong = [
            misfit for misfit in selection.data.misfits if misfit.field == field.name and asked[misfit.row]
        ]
        if wrong:
            values = "1 stored value" if len(wrong) == 1 else f"{len(wrong)} stored values"
            verb = "does not fit and counts" if len(wrong) == 1 else "do not fit and count"
            example = f"{quoted(wrong[0].text)} in {wrong[0].problem.place}{' …' if len(wrong) > 1 else ''}"
            found.append(Problem("misfit", f"{values} of {field.name} {verb} as missing: {example}"))
    return found


def by_absence(selection: Selection, plan: Plan, asked: NDArray[np.bool_], matched: int) -> Sequence[Problem]:
    """Return the notice of rows that match only because a value is missing."""
    if plan.condition is None:
        return ()
    surely = int(np.count_nonzero(selection.certain(plan.condition)[0] & asked))
    if surely == matched:
        return ()
    count = matched - surely
    rows, verb = ("row", "matches") if count == 1 else ("rows", "match")
    message = f"{count} {rows} {verb} only because a value is missing"
    return (Problem("match-by-absence", message, "Add “and FIELD is set” to leave them out."),)


def row_of(selection: Selection, row: int, fields: Sequence[FieldRef]) -> Row:
    """Return one entry with the fields that are always shown and those that the question names."""
    values = {field.name: decode(selection, field, row) for field in (*SHOWN, *fields)}
    return Row(selection.data.entries.ids[row], values)
