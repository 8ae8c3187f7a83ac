"""An answer as one JSON object."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from elenchus.forms._record import Form
from elenchus.pieces.piece import Piece
from elenchus.pieces.problems import problem_object
from elenchus.values.wording import plain

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.forms._record import Frame
    from elenchus.plan.answer import Answer, Choices, Group, MeasureTotal, Row

__all__ = ["FORM", "row_object"]


def _write(answer: Answer, frame: Frame) -> Iterator[Piece]:
    """Yield the object: the question, its counts, the rows of one page, the groups, the notices."""
    document = {
        "question": answer.question,
        **({} if frame.lasts else {"at": answer.at.isoformat()}),
        "unpublished": answer.unpublished,
        "matched": answer.matched,
        "total": answer.total,
        "placements": answer.placements,
        "offset": answer.offset,
        "page": answer.page,
        "pages": answer.pages,
        "per_page": answer.per_page,
        "rows": [row_object(row) for row in answer.rows],
        "grouped_by": list(answer.grouped_by),
        "groups": None
        if answer.groups is None
        else [_group_object(group, answer) for group in answer.groups],
        **({"measures": [_measure_object(each) for each in answer.measures]} if answer.measures else {}),
        "overlap": {name: list(labels) for name, labels in answer.overlap.items()},
        "choices": None if answer.choices is None else _choices_object(answer.choices),
        "notices": [problem_object(notice) for notice in answer.notices],
    }
    yield Piece(json.dumps(document, ensure_ascii=False, indent=2) + "\n")


def row_object(row: Row) -> dict[str, Any]:
    """Return a row as an object, a missing value as null."""
    return {name: plain(value) for name, value in row.values.items()}


def _measure_object(total: MeasureTotal) -> dict[str, Any]:
    """Return a measure of all rows as an object."""
    return {
        "label": total.label,
        "field": total.field,
        "value": plain(total.value),
        "missing": total.missing,
        **({"unit": total.unit} if total.unit else {}),
    }


def _group_object(group: Group, answer: Answer) -> dict[str, Any]:
    """Return a group as an object."""
    labels = [each.label for each in answer.measures]
    measures = {label: plain(value) for label, value in zip(labels, group.measures, strict=True)}
    return {
        "keys": [plain(key) for key in group.keys],
        "label": group.label,
        "count": group.count,
        "shown": group.shown,
        **({"measures": measures} if measures else {}),
        "rows": list(group.rows),
    }


def _choices_object(choices: Choices) -> dict[str, Any]:
    """Return the choices of a parameter as an object."""
    return {
        "parameter": choices.parameter,
        "label": choices.label,
        "many": choices.many,
        "choices": [
            {"value": each.value, "label": each.label, "depth": each.depth, "count": each.count}
            for each in choices.choices
        ],
    }


FORM = Form(
    name="json", label="JSON", media_type="application/json", write=_write, ending=".json", tells=True
)
