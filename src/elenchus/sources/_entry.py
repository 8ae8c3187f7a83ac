"""A text file as an entry: its front matter in YAML, TOML or JSON, its title, its text."""

from __future__ import annotations

import re
import tomllib
from typing import TYPE_CHECKING

from elenchus.files import DEEPEST_VALUE, too_large
from elenchus.schema.conform import FLAGS
from elenchus.schema.record import Raw, Record
from elenchus.sources._blocks import as_block, without_markup
from elenchus.sources._encoding import decoded
from elenchus.sources._keys import decides, named, without_omitted
from elenchus.sources._names import name_of
from elenchus.sources._paths import below
from elenchus.sources._simple import Unreadable, nesting, simple_values
from elenchus.values.lazily import pattern

if TYPE_CHECKING:
    from elenchus.errors import Place
    from elenchus.sources._spec import SourceSpec

__all__ = ["Unreadable", "entry_of", "front_matter", "read_entry", "renamed", "written"]

_FENCES = {"---": "yaml", "+++": "toml"}
_CLOSING = {fence: pattern(rf"^{re.escape(fence)}[ \t]*$", re.MULTILINE) for fence in _FENCES}
_HTML = "html"
_LONGEST_FRONT = 2**20  # characters of front matter
_TOML_KEY = pattern(r"""\s*["']?([^\s"'=.\[#]+)["']?\s*=""")
# A heading that begins the text: marked by #, or underlined (CommonMark 0.31, sections 4.2 and 4.3).
_HEADING = pattern(
    r"\s*?^ {0,3}(?:#{1,6}(?:[ \t]+(?P<marked>[^\n]*?))?(?:[ \t]+#+)?[ \t]*$"
    r"|(?P<lined>[^\s#>`~*+\-|<\d][^\n]*)\n {0,3}(?:=+|-+)[ \t]*$)",
    re.MULTILINE,
)
_MARKUP = pattern(r"!?\[([^\]]*)\](?:\([^)]*\)|\[[^\]]*\])|[*_`~]+|\\(?=[!-/:-@\[-`{-~])")


def read_entry(content: bytes, spec: SourceSpec, place: Place) -> Record:
    """Return the entry of one file. Raises Unreadable."""
    values, body, line = _split(decoded(content, spec))
    values = renamed(values, spec)
    title = ""
    if not written(values, "title"):
        title, body, line = _first_heading(body, line)
    return entry_of(spec, place, values, title, Raw(body.strip("\n"), line))


def renamed(values: dict[str, Raw], spec: SourceSpec) -> dict[str, Raw]:
    """Return the values of a file under the names of their fields. Raises Unreadable."""
    found, pairs = named(values, spec)
    for first, second in pairs:
        if decides(first, spec):
            message = f"{first} and {second} are the same key, so nobody knows which of them holds"
            raise Unreadable(message, values[second].line, "Keep one of them.", "doubled-key")
    if spec.omit:
        return {
            name: raw._replace(value=without_omitted(raw.value, spec, name)) for name, raw in found.items()
        }
    return found


def entry_of(spec: SourceSpec, place: Place, values: dict[str, Raw], heading: str, body: Raw) -> Record:
    """Return the entry of a file whose values, heading and text are known. Raises Unreadable."""
    guessed: dict[str, str] = {}
    path = below(spec, place.file)
    name = name_of(spec, path)
    if not written(values, "date") and name.day:
        values["date"], guessed["date"] = Raw(name.day), "file name"
    if not written(values, "title"):
        values["title"] = Raw(heading or name.words)
        guessed["title"] = "heading" if heading else "file name"
    elif spec.titles == _HTML and isinstance(title := values["title"].value, str):
        values["title"] = values["title"]._replace(value=without_markup(title))
    if body.value:
        values["body"] = body
    if spec.bodies == _HTML and written(values, "body"):
        values["body"] = Raw(as_block(str(values["body"].value)), values["body"].line)
    if spec.missing_status and not any(
        written(values, key) for key in ("status", *FLAGS, *spec.habits.flags)
    ):
        values["status"] = Raw(spec.missing_status)
    return Record(place, _kind_of(spec, path, values), name.slug, values, spec.habits, guessed)


def written(values: dict[str, Raw], name: str) -> bool:
    """Say whether something was written for a field."""
    return name in values and values[name].value not in (None, "")


def _kind_of(spec: SourceSpec, path: str, values: dict[str, Raw]) -> str:
    """Return the kind that a source gives to an entry of a file. Raises Unreadable where it cannot."""
    if not spec.kind.startswith("{"):
        return spec.kind
    column = spec.kind.strip("{}")
    if column != "folder":
        raw = values.get(column) or values.get(column.casefold())
        found = str(raw.value) if raw else ""
        return spec.kinds.get(found, found)
    if "/" in path:
        found = path.partition("/")[0]
        return spec.kinds.get(found, found)
    if spec.kind_at_root or written(values, "kind"):
        return spec.kind_at_root
    folders = ", ".join(spec.paths)
    message = f'the file stands in no folder of {folders}, and kind = "{{folder}}" takes its kind from there'
    hint = f'Move it into the folder of its kind, or write kind_at_root = "…" in [sources.{spec.name}].'
    raise Unreadable(message, 0, hint, "no-kind-at-root")


def _first_heading(body: str, line: int) -> tuple[str, str, int]:
    """Return the heading that begins a text, without its markup, then the rest and the line of that."""
    match = _HEADING.match(body)
    text = (match["marked"] or match["lined"] or "") if match else ""
    title = " ".join(_MARKUP.sub(lambda found: found[1] or "", text).split())
    if match is None or not title:
        return "", body, line
    return title, body[match.end() :], line + body.count("\n", 0, match.end())


def _split(text: str) -> tuple[dict[str, Raw], str, int]:
    """Return the front matter's values, the body, and the line where the body starts. Raises Unreadable."""
    start = text.find("\n") + 1
    fence = text[:start].rstrip()
    if fence not in _FENCES:
        return _json_front(text) if text.startswith("{") else ({}, text, 1)
    match = _CLOSING[fence].search(text, start, start + _LONGEST_FRONT)
    if match is None:
        long = len(text) > start + _LONGEST_FRONT
        more = f" in its first {_LONGEST_FRONT // 2**20} MB" if long else ""
        raise Unreadable(f"the front matter is not closed: no second {fence}{more}", 1)
    front = text[start : match.start()]
    values = _yaml_values(front) if _FENCES[fence] == "yaml" else _toml_values(front)
    return values, text[match.end() + 1 :], text.count("\n", 0, match.end()) + 2


def front_matter(text: str) -> dict[str, Raw]:
    """Return the values of front matter that stands alone. Raises Unreadable."""
    return _split(text)[0]


def _json_front(text: str) -> tuple[dict[str, Raw], str, int]:
    """Return the values of front matter in JSON, the body, and its line. Raises Unreadable.

    A text that begins with a brace and is no JSON object is a text.
    """
    from elenchus.sources._json import json_object, without_halves

    if not text[1:].lstrip().startswith(('"', "}")):
        return {}, text, 1
    values, end = json_object(without_halves(text[: 2 * _LONGEST_FRONT]), 0, most=_LONGEST_FRONT)
    rest = text[end:]
    if rest.partition("\n")[0].strip():
        raise Unreadable(
            "behind the front matter in JSON the text begins on a line of its own",
            text.count("\n", 0, end) + 1,
        )
    return values, rest.partition("\n")[2], text.count("\n", 0, end) + 2


def _yaml_values(front: str) -> dict[str, Raw]:
    """Return the values of YAML front matter. Raises Unreadable."""
    found = simple_values(front)
    if found is None:
        from elenchus.sources._yaml import yaml_values  # whose parser takes longer to load than to read

        found = yaml_values(front)
    return found


def _toml_values(front: str) -> dict[str, Raw]:
    """Return the values of TOML front matter, each with the line of its key. Raises Unreadable."""
    if nesting(front) > DEEPEST_VALUE:
        raise Unreadable(f"the front matter nests more than {DEEPEST_VALUE} lists and tables", 2)
    try:
        table = tomllib.loads(front)
        too_large(table)
    except RecursionError:
        raise Unreadable("the front matter nests too many lists and tables", 2) from None
    except ValueError as error:  # TOMLDecodeError is one, and so is a number of too many digits
        line = re.search(r"line (\d+)", str(error))
        at = int(line[1]) + 1 if line else 2
        raise Unreadable(f"the front matter is not valid TOML: {error}", at) from None
    # A key in a text of several lines may be taken for one of the table's: only lines can go wrong by that.
    lines = {match[1]: n for n, text in enumerate(front.splitlines(), 2) if (match := _TOML_KEY.match(text))}
    return {name: Raw(value, lines.get(name, 2)) for name, value in table.items()}
