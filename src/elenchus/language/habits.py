"""What people who know other notations write, and what it is here: words for the hints of errors."""

from __future__ import annotations

__all__ = ["CALLS", "CLAUSES", "DIRECTIONS", "NULLS", "NUMBERS", "OPERATORS", "PREFIXES", "SIGNS", "SORTING"]

# Words that begin a clause elsewhere.
CLAUSES = {
    "select": "A question needs no select: begin with from or where.",
    "show": "A question needs no show: begin with from or where.",
    "get": "A question needs no get: begin with from or where.",
    "list": "A question needs no list: begin with from or where.",
    "find": "A question needs no find: begin with from or where.",
    "sort": "Write “order by”.",
    "sort_by": "Write “order by”.",
    "sortby": "Write “order by”.",
    "orderby": "Write “order by”.",
    "order_by": "Write “order by”.",
    "groupby": "Write “group by”.",
    "group_by": "Write “group by”.",
    "skip": "Write “offset”.",
    "top": "Write “limit”.",
    "take": "Write “limit”.",
    "first": "Write “limit”.",
    "fetch": "Write “limit”.",
    "page": "Write “per page”; the page itself is chosen outside the question.",
    "paginate": "Write “per page”.",
    "per_page": "Write “per page”.",
    "and": "The first condition follows “where”.",
    "filter": "Write “where”.",
    "when": "Write “where”.",
    "if": "Write “where”.",
    "with": "Write “where”.",
    "join": "Follow a reference with a dot instead, such as reference.field = value.",
    "distinct": "Leave it out: each entry stands in an answer once.",
    "unique": "Leave it out: each entry stands in an answer once.",
    "count": "“group by” counts groups; elenchus ask … --format number counts all rows.",
    "union": "Name several kinds with commas: from a, b.",
    "asc": "Write “order by” and a field before it.",
    "desc": "Write “order by” and a field before it.",
}

# Words and signs that compare elsewhere.
OPERATORS = {
    "equals": "Write “=”.",
    "eq": "Write “=”.",
    "ne": "Write “!=”.",
    "neq": "Write “!=”.",
    "gt": "Write “>”.",
    "gte": "Write “>=”.",
    "ge": "Write “>=”.",
    "lt": "Write “<”.",
    "lte": "Write “<=”.",
    "le": "Write “<=”.",
    "like": "Write “contains”.",
    "ilike": "Write “contains”; case never counts.",
    "includes": "Write “contains” for a text, “=” for a term.",
    "has": "Write “=” for a term or an element of a list, “has all” for several.",
    "any": "Write “in (a, b)”.",
    "all": "Write “has all (a, b)”.",
    "within": "Write “under”.",
    "descendants": "Write “under”, or “below” without the term itself.",
    "children": "Write “below”.",
    "before": "Write “<”.",
    "after": "Write “>”.",
    "since": "Write “>=”.",
    "until": "Write “<=”.",
    "regex": "Write “matches”.",
    "regexp": "Write “matches”.",
}
NULLS = frozenset({"null", "nil", "none", "empty", "blank", "undefined"})
PREFIXES = {"exists": "is set", "empty": "is missing", "missing": "is missing", "isset": "is set"}

# Words after a field by which to order.
DIRECTIONS = {
    "descending": "Write “desc”.",
    "ascending": "Write “asc”.",
    "reverse": "Write “desc”.",
    "reversed": "Write “desc”.",
    "down": "Write “desc”.",
    "up": "Write “asc”.",
}
SORTING = {
    "rand": "random",
    "shuffle": "random",
    "latest": "newest",
    "recent": "newest",
    "earliest": "oldest",
}

# Functions, and what gives the same here.
CALLS = {
    "year": "date.year", "month": "date.month", "day": "date.day", "week": "date.week",
    "weekday": "date.weekday", "hour": "date.hour",
}  # fmt: skip

# What stands where a number should.
NUMBERS = {"none": "Leave the clause out.", "=": "Write the number without a sign.", "no": "Leave it out."}

# Signs that mean something elsewhere, with the sign or word that means it here: reading goes on with it.
SIGNS = {
    "&": ("and", "Write “and”."),
    "|": ("or", "Write “or”."),
    "!": ("not", "Write “not”, or != for “is not”."),
    "==": ("=", "Write “=” once."),
    "<>": ("!=", "Write != for “is not”."),
    "=~": ("matches", "Write “matches”."),
    "~": ("contains", "Write “contains”, or “matches” for a pattern."),
    "[": ("(", "Lists stand in parentheses: in (a, b)."),
    "]": (")", "Lists stand in parentheses: in (a, b)."),
}
