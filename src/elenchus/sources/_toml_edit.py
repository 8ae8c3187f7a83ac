"""Changing the keys at the top of TOML front matter in its text (TOML 1.0)."""

from __future__ import annotations

import json
import re
from typing import TYPE_CHECKING

from elenchus.schema.edits import UneditableError
from elenchus.sources._keys import as_written
from elenchus.sources._splice import Splice, as_lines, cut, joined, kept_and_new, line_start, spliced

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from elenchus.schema.edits import NewValue

__all__ = ["changed_toml"]

_FIRST = 2  # the line of the file on which front matter begins
_BLANK = re.compile(r"(?:[ \t\r\n]|#[^\r\n]*)*")
_KEY = re.compile(r"""(?:[A-Za-z0-9_-]+|"(?:[^"\\\r\n]|\\.)*"|'[^'\r\n]*')""")
_EQUALS = re.compile(r"[ \t]*=[ \t]*")
_STRINGS = tuple(
    re.compile(each, re.DOTALL)
    for each in (
        r'"""(?:[^\\]|\\.)*?"""(?:"{0,2})',
        r"'''.*?'''(?:'{0,2})",
        r'"(?:[^"\\\r\n]|\\.)*"',
        r"'[^'\r\n]*'",
    )
)
_BARE_VALUE = re.compile(r"[^\s,\]}#]+(?: \d{2}:[^\s,\]}#]+)?")  # also a date and a time with a blank between
_ALONE = re.compile(r"[ \t]*,?[ \t]*(?:#[^\r\n]*)?(?:\r\n|\n|\r)")  # behind an item that ends its line
_REST = re.compile(r"[ \t]*(?:#[^\r\n]*)?(?:\r\n|\n|\r|\Z)")
_AS_WRITTEN = {
    "number": re.compile(r"[+-]?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d+)?"),
    "yesno": re.compile(r"true|false"),
    "date": re.compile(r"\d{4}-\d{2}-\d{2}(?:[T ]\d{2}:\d{2}:\d{2}(?:\.\d+)?(?:Z|[+-]\d{2}:\d{2})?)?"),
}
_YES_NO = {"yes": "true", "no": "false", "on": "true", "off": "false"}


def changed_toml(front: str, values: Mapping[str, NewValue], separator: str, end: str) -> str:
    """Return front matter in which some keys have other values; ``end`` is how its lines end.

    Raises UneditableError where that cannot be done.
    """
    pairs, behind = _pairs(front)
    found: list[Splice] = []
    added = []
    for name, new in as_written(values, pairs).items():
        if name not in pairs:
            added += [f"{_as_key(name)} = {_written(new, '', separator)}"] if new.values else []
            continue
        begins, start, stop = pairs[name]
        if new.values:
            found += _replaced(front, start, stop, new, separator)
        else:
            found.append(Splice(line_start(front, begins), _line_end(front, stop), ""))
    if added:
        found.append(as_lines(front, behind, added, end))
    return spliced(front, found)


def _pairs(front: str) -> tuple[dict[str, tuple[int, int, int]], int]:
    """Return where the keys above all tables and their values stand, and where the next one would."""
    found: dict[str, tuple[int, int, int]] = {}
    behind = 0
    at = _after_blank(front, 0)
    while at < len(front) and front[at] != "[":
        key = _KEY.match(front, at)
        equals = _EQUALS.match(front, key.end()) if key else None
        if key is None:
            raise _wrong(front, at)
        if equals is None:  # a dotted key, which is none of ours
            equals = re.compile(r"[^=\r\n]*=[ \t]*").match(front, key.end())
            if equals is None:
                raise _wrong(front, at)
            stop = _value_end(front, equals.end())
        else:
            stop = _value_end(front, equals.end())
            found[_name(key[0])] = at, equals.end(), stop
        behind = _line_end(front, stop)
        at = _after_blank(front, behind)
    return found, behind


def _wrong(front: str, at: int) -> UneditableError:
    """Return the error of what is no TOML at a place."""
    line = len(re.findall(r"\r\n|\n|\r", front[:at])) + _FIRST
    return UneditableError("the front matter is not valid TOML", line)


def _name(key: str) -> str:
    """Return the name that a key has."""
    return json.loads(key) if key[0] == '"' else key.strip("'")


def _after_blank(front: str, at: int) -> int:
    """Return the next place at which something stands."""
    match = _BLANK.match(front, at)
    return match.end() if match else at


def _line_end(front: str, at: int) -> int:
    """Return where the line of a value ends, with a comment behind it."""
    match = _REST.match(front, at)
    if match is None:
        raise _wrong(front, at)
    return match.end()


def _value_end(front: str, at: int) -> int:
    """Return where the value at a place ends."""
    if front[at : at + 1] in ("[", "{"):
        closing = "]" if front[at] == "[" else "}"
        at = _after_blank(front, at + 1)
        while front[at : at + 1] != closing:
            if front[at : at + 1] == ",":
                at += 1
            elif closing == "}" and (key := re.compile(r"[^={}\r\n]+=[ \t]*").match(front, at)):
                at = _value_end(front, key.end())
            else:
                at = _value_end(front, at)
            at = _after_blank(front, at)
        return at + 1
    for each in (*_STRINGS, _BARE_VALUE):
        if match := each.match(front, at):
            return match.end()
    raise _wrong(front, at)


def _replaced(front: str, start: int, stop: int, new: NewValue, separator: str) -> Iterator[Splice]:
    """Yield what gives a key another value; the items of a list that stay are left as they stand."""
    old = front[start:stop]
    if not old.startswith("["):
        yield Splice(start, stop, _written(new, old, separator))
        return
    items = _items(front, start)
    texts = [_text_of(front[first:last]) for first, last in items]
    if len(texts) == len(new.values):
        for (first, last), old_text, text in zip(items, texts, new.values, strict=True):
            if old_text != text:
                yield Splice(first, last, _scalar(text, new, front[first:last]))
        return
    change = kept_and_new(texts, new.values)
    if change and any(change[0]):
        yield from _list_changed(
            front, start, items, change[0], [_scalar(each, new, "") for each in change[1]]
        )
        return
    gap = _gap(front, start, items)
    all_new = gap.join(_scalar(each, new, "") for each in new.values)
    yield Splice(items[0][0], items[-1][1], all_new) if items else Splice(start, stop, f"[{all_new}]")


def _gap(front: str, start: int, items: list[tuple[int, int]]) -> str:
    """Return what stands between the items of a list that begins at a place."""
    lead = front[start + 1 : items[0][0]] if items else ""
    margin = re.search(r"(?:\r\n|\n|\r)[ \t]*\Z", lead)
    return f",{margin[0]}" if margin else ", "


def _list_changed(
    front: str, start: int, items: list[tuple[int, int]], stay: list[bool], more: list[str]
) -> Iterator[Splice]:
    """Yield what takes items from a list, with their lines where they have such alone, and adds some."""
    last = max(at for at, stays in enumerate(stay) if stays)
    rows = [
        (line_start(front, first), alone.end())
        for first, end in items
        if (alone := _ALONE.match(front, end)) and not front[line_start(front, first) : first].strip()
    ]
    if len(rows) == len(items):  # each stands on a line of its own
        yield from (Splice(*row, "") for row, stays in zip(rows, stay, strict=True) if not stays)
    else:
        yield from cut(items, [not stays for stays in stay])
    if more:
        gap = _gap(front, start, items)
        yield Splice(items[last][1], items[last][1], "".join(f"{gap}{each}" for each in more))


def _items(front: str, at: int) -> list[tuple[int, int]]:
    """Return where the items of the list at a place begin and end."""
    found = []
    at = _after_blank(front, at + 1)
    while front[at : at + 1] != "]":
        if front[at : at + 1] == ",":
            at = _after_blank(front, at + 1)
            continue
        end = _value_end(front, at)
        found.append((at, end))
        at = _after_blank(front, end)
    return found


def _text_of(written: str) -> str:
    """Return the text that a written value says."""
    import tomllib

    from elenchus.values.wording import as_text

    try:
        return as_text(tomllib.loads(f"a = {written}")["a"])
    except ValueError:
        return written


def _written(new: NewValue, old: str, separator: str) -> str:
    """Return a value as TOML has it, in the place of another or of none."""
    as_one = old[:1] in ('"', "'") and separator and separator in old
    if new.may_be_list and not as_one and (len(new.values) > 1 or not old):
        return f"[{', '.join(_scalar(each, new, '') for each in new.values)}]"
    text = joined(new.values, _text_of(old) if old else "", separator)
    return _scalar(text, new, old)


def _scalar(text: str, new: NewValue, old: str) -> str:
    """Return a text as TOML has it: bare where it is a number, a date, or yes or no, as the old one was."""
    bare = _YES_NO.get(text.lower(), text.lower()) if new.sort == "yesno" else text
    pattern = _AS_WRITTEN.get(new.sort)
    if pattern and pattern.fullmatch(bare) and old[:1] not in ('"', "'"):
        return bare
    if old[:1] == "'" and not re.search(r"['\x00-\x08\x0a-\x1f\x7f]", text):
        return f"'{text}'"
    if old.startswith('"""') and "\n" in text:
        inner = text.replace("\\", "\\\\").replace('"""', '""\\"')
        if not re.search(r"[\x00-\x08\x0b-\x1f\x7f]", inner) and not inner.endswith('"'):
            return f'"""\n{inner}"""'
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def _as_key(name: str) -> str:
    """Return a name as a key."""
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else json.dumps(name, ensure_ascii=False)
