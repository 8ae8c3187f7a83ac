"""Making changes of rows in the transaction that is open: each only if its row is as it was."""

from __future__ import annotations

import errno
import json
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.schema.edits import RowChange
    from elenchus.sources._tables import Shape

__all__ = ["apply", "can_apply", "value_now"]


def apply(shape: Shape, changes: Sequence[RowChange], *, is_trial: bool = False) -> None:
    """Make changes. Raises OSError if a row is not as it was.

    A trial is taken back again, and leaves alone what a database does not take back: the next number of a
    column that counts.
    """
    for change in changes:
        sql, bound, times, count = _statement(shape, change, is_trial=is_trial)
        if any(shape.run(sql, **bound).rowcount != count for _ in range(times)):
            told = ", ".join(f"{name} {value}" for name, value in change.where.items() if value is not None)
            raise OSError(errno.EBUSY, f"{change.table}: the row with {told[:200]} was changed meanwhile")
        if not change.column and change.before is None and not is_trial:
            _count_on(shape, change)


def can_apply(shape: Shape, change: RowChange) -> bool:
    """Say whether a change can be made; then it is made in the transaction that is open."""
    from sqlalchemy.exc import SQLAlchemyError

    try:
        with shape.connection.begin_nested():
            apply(shape, [change], is_trial=True)
    except (OSError, SQLAlchemyError):
        return False
    return True


def value_now(shape: Shape, change: RowChange) -> Any:
    """Return what stands now where a change wrote: a value, or how many such rows there are."""
    where, bound = _conditions(shape, change)
    column = shape.quote(change.column) if change.column else "COUNT(*)"
    row = shape.run(f"SELECT {column} FROM {shape.quote_table(change.table)} WHERE {where}", **bound).first()
    return row[0] if row else None


def _statement(shape: Shape, change: RowChange, *, is_trial: bool) -> tuple[str, dict[str, Any], int, int]:
    """Return a statement with its values, how often it is run, and how many rows each run must reach."""
    table = shape.quote_table(change.table)
    where, bound = _conditions(shape, change)
    if not change.column and change.before is None:
        values = dict(change.where)
        if is_trial and (own := shape.trial_key(change.table, values)):
            values |= own
        columns = ", ".join(map(shape.quote, values))
        marks = ", ".join(f":v{at}" for at in range(len(values)))
        bound = {f"v{at}": _bound(value) for at, value in enumerate(values.values())}
        return f"INSERT INTO {table} ({columns}) VALUES ({marks})", bound, change.after, 1
    if not change.column:
        return f"DELETE FROM {table} WHERE {where}", bound, 1, change.before
    column = shape.quote(change.column)
    was = f"{column} IS NULL" if change.before is None else f"{column} = :before"
    bound |= {"after": change.after} | ({} if change.before is None else {"before": change.before})
    new = ":after"
    if any(isinstance(each, (dict, list)) for each in (change.before, change.after)):
        found = shape.structured(change.table, change.column)
        was, new = was if change.before is None else found.compared, found.written
        if found.is_json:
            bound |= {name: _bound(bound[name]) for name in ("before", "after") if name in bound}
    return f"UPDATE {table} SET {column} = {new} WHERE {where} AND {was}", bound, 1, 1


def _conditions(shape: Shape, change: RowChange) -> tuple[str, dict[str, Any]]:
    """Return what tells the rows of a change, with its values; real numbers are not compared."""
    told = {name: value for name, value in change.where.items() if not isinstance(value, float)}
    names = {name: f"w{at}" for at, name in enumerate(told)}
    parts = [
        f"{shape.quote(name)} IS NULL" if told[name] is None else f"{shape.quote(name)} = :{mark}"
        for name, mark in names.items()
    ]
    return " AND ".join(parts), {
        names[name]: _bound(value) for name, value in told.items() if value is not None
    }


def _bound(value: Any) -> Any:
    """Return a value as statements take it."""
    return json.dumps(value, ensure_ascii=False) if isinstance(value, (dict, list)) else value


def _count_on(shape: Shape, change: RowChange) -> None:
    """Let PostgreSQL's counter of a table go on behind a key that was written down."""
    if shape.connection.dialect.name != "postgresql":
        return
    for column, value in change.where.items():
        if not isinstance(value, int):
            continue
        name = shape.run(
            "SELECT pg_get_serial_sequence(:table, :column)",
            table=shape.quote_table(change.table),
            column=column,
        ).scalar()
        if name:
            counter = "CAST(:name AS regclass)"
            count_on = f"SELECT setval({counter}, GREATEST(nextval({counter}) - 1, :value))"
            shape.run(count_on, name=name, value=value)
