"""An answer from tables: its page, its counts, its groups and what is to be said beside them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.engine.decode import Values as DecodedValues
from elenchus.engine.notices import notices
from elenchus.engine.run import Cut, shown_of, with_measures
from elenchus.plan.answer import Row
from elenchus.plan.nodes import FieldRef
from elenchus.tables.measuring import totals_of_tables
from elenchus.tables.noticed import TablesNoticed

if TYPE_CHECKING:
    from elenchus.plan.answer import Answer
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
    fields = (*(known[name] for name in shown_of(plan)), *plan.fields, *plan.show)
    if plan.groups or plan.fill:
        cut, names = found.page(page)
        view, places = found.viewed(names, fields)
    else:
        names, view, places = found.shown(fields, page)
        cut = Cut(plan, None, found.total, page)
    values = DecodedValues(view, plan.subject, {field.name: field for field in fields}, places)
    answer = cut.answer(
        question=question,
        clock=clock,
        matched=found.matched,
        rows=tuple(map(Row, names, values.each())),
        ids=found.grouped.ids if plan.groups else {},  # type: ignore[arg-type]
        noticed=notices(plan, TablesNoticed(found), in_public=in_public),
    )
    return with_measures(answer, totals_of_tables(found))
