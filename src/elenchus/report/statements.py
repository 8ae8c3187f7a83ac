"""The SQL by which tables are asked, as people read it: what each statement is for, its values, tables."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from elenchus.pieces.piece import Piece, Role, printable

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.tables.backend import Told
    from elenchus.tables.layout import TableLayout

__all__ = ["statements_told"]

_NAMES = "what names mean"


def statements_told(told: Sequence[Told], tables: Sequence[TableLayout]) -> Iterator[Piece]:
    """Yield statements with what they ask for and their values, then what they name of the tables."""
    wanted = [each for each in told if each.says != _NAMES] or list(told)
    for each in wanted:
        yield Piece(f"-- {each.says}\n", Role.FAINT)
        for number, value in enumerate(each.statement.values, start=1):
            shown = f"'{value}'" if isinstance(value, str) else str(value)
            yield Piece(f"--   {each.marker}{number} is {printable(shown)}\n", Role.FAINT)
        yield Piece(f"{each.statement.text};\n\n")
    text = "\n".join(each.statement.text for each in wanted)
    for table in tables:
        if not re.search(rf'elenchus"?[.]"?{table.name}\b', text):
            continue
        yield Piece(f"-- elenchus.{table.name}: ", Role.FAINT)
        yield Piece(f"{table.doc}\n", Role.FAINT)
        for column in table.columns:
            if re.search(rf'[.]"?{re.escape(column.name)}"?(?![\w"])', text):
                yield Piece(f"--   {column.name}: {column.doc}\n", Role.FAINT)
