"""An answer from tables: its page, its counts, its groups and what is to be said beside them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.decode import Values as DecodedValues
from elenchus.engine.notices import notices
from elenchus.engine.run import SHOWN_OF_ENTRIES, Cut, Overlaps, too_many
from elenchus.plan.answer import Answer, Row
from elenchus.plan.nodes import FieldRef
from elenchus.tables.groups import grouped_tables
from elenchus.tables.noticed import TablesNoticed
from elenchus.tables.shown import small_view
from elenchus.values.dates import from_instant
from elenchus.values.numbers import counting_number

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.plan.nodes import Plan
    from elenchus.tables.filling import FoundRows
    from elenchus.values.dates import Clock

__all__ = ["answer_of_tables"]


def answer_of_tables(
    plan: Plan, found: FoundRows, clock: Clock, question: str, page: int | str = 1, *, in_public: bool = False
) -> Answer:
    """Return one page of the answer to a plan. Raises NoSuchPage, NotSupported."""
    scope = found.stages.scope
    known = {name: FieldRef(name, field.type) for name, field in scope.data.schema.fields.items()}
    fields = (*(known[name] for name in SHOWN_OF_ENTRIES), *plan.fields, *plan.show)
    grouping, ids = grouped_tables(found.stages, found.total) if plan.groups else (None, {})
    if grouping:
        cut = Cut(plan, grouping, found.total, page)
        places = [int(grouping.place_of[at]) for at in cut.chosen.tolist()] if len(cut.chosen) else []
        names = list(dict.fromkeys(ids[place] for place in places))
        view = small_view(scope, names, fields)
    elif plan.fill:
        cut = Cut(plan, None, found.total, page)
        names = found.between(*cut.bounds)
        view = small_view(scope, names, fields)
    else:  # one statement for the rows, their values and how many there are
        number, size = counting_number(str(page)), plan.per_page
        first, last = ((number - 1) * size, number * size) if size and number > 0 else (0, None)
        names = []

        def fetch(columns: Sequence[str]) -> list[tuple[Any, ...]]:
            rows = found.own_rows(first, last, columns)
            names.extend(row[0] for row in rows)
            return rows

        view = small_view(scope, (), fields, fetch=fetch)
        cut = Cut(plan, None, found.total, page)
    rows = np.arange(len(names))
    values = DecodedValues(view, plan.subject, {field.name: field for field in fields}, rows)
    return Answer(
        question=question,
        matched=found.matched,
        total=found.total,
        offset=plan.offset,
        page=cut.page,
        pages=cut.pages,
        per_page=plan.per_page,
        rows=tuple(map(Row, names, values.each())),
        at=from_instant(clock.now, clock.zone),
        subject=plan.subject,
        shown=SHOWN_OF_ENTRIES,
        mentioned=tuple(field.name for field in plan.fields),
        columns=tuple(field.name for field in plan.show),
        notices=(
            *plan.notices,
            *notices(plan, TablesNoticed(found), in_public=in_public),
            *too_many(grouping),
        ),
        groups=cut.groups(grouping, ids) if grouping else None,  # type: ignore[arg-type]
        grouped_by=tuple(key.field.name for key in plan.groups),
        placements=int(grouping.counts.sum()) if grouping else None,
        overlap=Overlaps(grouping, ids) if grouping else {},  # type: ignore[arg-type]
        unpublished=plan.unpublished,
    )
