"""Memberships of subqueries as PostgreSQL runs them best."""

from __future__ import annotations

from typing import Any

from sqlglot import expressions as exp

__all__ = ["with_exists"]

_PLAIN = {"expressions", "from_", "joins", "where"}  # what a subquery has that is no more than a join


def with_exists(tree: Any) -> Any:
    """Return the tree of a statement with EXISTS in the place of memberships that are no joins.

    PostgreSQL joins a membership that a WHERE wants as it is. Of one that is negated, or one of several
    alternatives, it keeps all rows of the subquery in memory, and where they are too many for that runs
    through them for each row; whether there is a certain one is looked up in an index instead. EXISTS is
    never without a value, so that it need not be said what that means.
    """
    for node in reversed(list(tree.find_all(exp.In))):  # what stands inside others first
        query = node.args.get("query")
        select = query.this if isinstance(query, exp.Subquery) else query
        if (
            not isinstance(select, exp.Select)
            or {name for name, part in select.args.items() if part} - _PLAIN
        ):
            continue
        wanted, names = select.expressions[0], {table.alias_or_name for table in select.find_all(exp.Table)}
        names |= {inner.alias_or_name for inner in select.find_all(exp.Subquery)}
        is_hidden = any(column.table in names for column in node.this.find_all(exp.Column))
        if is_hidden or not isinstance(wanted, exp.Column) or _is_join(node):
            continue
        inner = select.copy()
        inner.set("expressions", [exp.Literal.number(1)])
        found = exp.Exists(this=inner.where(exp.EQ(this=wanted.copy(), expression=node.this.copy())))
        around = node.parent
        is_sure = isinstance(around, exp.Coalesce) and around.expressions == [exp.false()]
        (around if is_sure else node).replace(found)
    return tree


def _is_join(node: Any) -> bool:
    """Say whether a condition is one of those that a WHERE wants all of."""
    around = node.parent
    while isinstance(around, exp.And | exp.Paren):
        around = around.parent
    return isinstance(around, exp.Where) and isinstance(around.parent, exp.Select)
