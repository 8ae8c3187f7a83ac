"""An answer as one JSON object."""

from __future__ import annotations

import json
from datetime import date
from typing import TYPE_CHECKING, Any

from elenchus.layout.pieces import Piece

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.answer import Answer

__all__ = ["plain", "write"]


def write(answer: Answer, _width: int | None) -> Iterator[Piece]:
    """Yield the object: the question, its counts, the rows of one page, and the notices."""
    document = {
        "question": answer.question,
        "at": answer.at.isoformat(),
        "matched": answer.matched,
        "total": answer.total,
        "offset": answer.offset,
        "page": answer.page,
        "pages": answer.pages,
        "per_page": answer.per_page,
        "rows": [{name: plain(value) for name, value in row.values.items()} for row in answer.rows],
        "groups": answer.groups,
        "notices": [
            {"code": notice.code, "message": notice.message, "hint": notice.hint} for notice in answer.notices
        ],
    }
    yield Piece(json.dumps(document, ensure_ascii=False, indent=2) + "\n")


def plain(value: Any) -> Any:
    """Return a value as JSON has it: dates as ISO 8601 texts, instants with their offset."""
    if isinstance(value, tuple):
        return [plain(item) for item in value]
    return value.isoformat() if isinstance(value, date) else value
