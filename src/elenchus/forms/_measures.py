"""What forms write of measures: a line for each group, and one for all rows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.values.wording import measured

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.plan.answer import Answer, Scalar

__all__ = ["measure_texts", "measured_lines"]


def measured_lines(answer: Answer) -> Iterator[tuple[str, int, Sequence[Scalar | None]]]:
    """Yield the label, the count and the measures of each group, then those of all rows."""
    for group in answer.groups or ():
        yield group.label, group.count, group.measures
    yield "all rows", answer.total, [each.value for each in answer.measures]


def measure_texts(answer: Answer, values: Sequence[Scalar | None]) -> list[str]:
    """Return the measures of some rows as people read them, a dash for what no row has."""
    pairs = zip(values, answer.measures, strict=True)
    return [measured(value, each.decimals, each.unit) or "–" for value, each in pairs]
