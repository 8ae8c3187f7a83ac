"""Why a database refuses something, in plain words: by the codes that the servers document."""

from __future__ import annotations

import os
import re
from typing import TYPE_CHECKING

from elenchus.values.addresses import without_password
from elenchus.values.lazily import pattern

if TYPE_CHECKING:
    from elenchus.sources._spec import SourceSpec

__all__ = ["said_by_database"]

_TABLE = pattern(
    r"(?:for (?:table|relation|view)|permission denied for (?:table|view|relation)) [`'\"]?([^\s`'\"]+)",
    re.IGNORECASE,
)
_QUALIFIED = pattern(r"`([^`]+)`\.`([^`]+)`")
_LONGEST = 300  # characters of what the database says in its own words
_WRONG_LOGIN = "it refuses this user or password"
_NO_DATABASE = "there is no database of that name"
_NO_RIGHT = "this user may not read"
_LOCKED = "the table is locked by somebody else"
_TOO_LONG = "the query took longer than allowed (timeout)"
_CUT = "the connection was lost in the middle"
_UNREACHABLE = "no server answers at this address"

# Error numbers of MariaDB and MySQL, and the classes and states of SQL:2023 as PostgreSQL has them.
_NUMBERS = {
    1044: _NO_RIGHT, 1045: _WRONG_LOGIN, 1049: _NO_DATABASE, 1142: _NO_RIGHT, 1143: _NO_RIGHT,
    1205: _LOCKED, 1227: _NO_RIGHT, 1317: _TOO_LONG, 1345: _NO_RIGHT, 1698: _WRONG_LOGIN, 1969: _TOO_LONG,
    2002: _UNREACHABLE, 2003: _UNREACHABLE, 2005: _UNREACHABLE, 2006: _CUT, 2013: _CUT, 3024: _TOO_LONG,
}  # fmt: skip
_STATES = {
    "28000": _WRONG_LOGIN, "28P01": _WRONG_LOGIN, "3D000": _NO_DATABASE, "42501": _NO_RIGHT,
    "55P03": _LOCKED, "57014": _TOO_LONG, "57P01": _CUT, "57P02": _CUT,
    "57P03": "the server is starting or stopping",
}  # fmt: skip
# What drivers and SQLite say in words only.
_WORDS = {
    "database is locked": _LOCKED,
    "file is not a database": "the file is not a database of SQLite",
    "database disk image is malformed": "the file is damaged",
    "interrupted": _TOO_LONG,
    "password authentication failed": _WRONG_LOGIN,
    "no password supplied": "it wants a password: write password_from",
    "connection refused": _UNREACHABLE,
    "could not translate host name": "no server has this name",
    "failed to resolve host": "no server has this name",
    "name or service not known": "no server has this name",
    "connection timeout expired": _UNREACHABLE,
    "server closed the connection": _CUT,
    "connection is lost": _CUT,
    "lost connection": _CUT,
    "ssl connection has been closed": _CUT,
    "consuming input failed": _CUT,
    "timed out": _UNREACHABLE,
}


def said_by_database(spec: SourceSpec, error: Exception) -> str:
    """Return why a database refuses something, on one line and without secrets."""
    cause = getattr(error, "orig", None) or error
    said = " ".join(str(cause).split())
    state, number = getattr(cause, "sqlstate", None), cause.args[0] if cause.args else None
    found = _STATES.get(state or "", "") or (_NUMBERS.get(number, "") if isinstance(number, int) else "")
    if not found:
        lower = said.lower()
        found = next((words for sign, words in _WORDS.items() if sign in lower), "")
    if found == _NO_RIGHT:
        return _no_right(said)
    return found or _without_secrets(spec, said)


def _no_right(said: str) -> str:
    """Return which right is missing."""
    qualified, match = _QUALIFIED.search(said), _TABLE.search(said)
    table = qualified[2] if qualified else match[1] if match else ""
    what = next((word for word in ("UPDATE", "INSERT", "DELETE", "SHOW VIEW") if word in said), "SELECT")
    if not table:
        return "this user lacks a right that is needed; its administrator can GRANT it"
    return f"this user lacks a right; its administrator can GRANT {what} ON {table}"


def _without_secrets(spec: SourceSpec, said: str) -> str:
    """Return what a database says without the secrets of a source."""
    line = said[:_LONGEST]
    table = spec.table
    names = [name for name in (table.password_from, table.url_from) if name] if table else []
    for secret in (os.environ.get(name, "") for name in names):
        line = line.replace(secret, "…") if secret else line
    return without_password(line)
