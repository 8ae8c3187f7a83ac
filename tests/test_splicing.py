"""Changes of content in its text: what is meant is there afterwards, and every other byte is as it was."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import often
from elenchus.errors import Place
from elenchus.schema.edits import EntryEdit, NewValue, UneditableError
from elenchus.schema.record import RowBatch
from elenchus.sources import SourceSpec, content_of, source
from elenchus.sources._entry import Unreadable, read_entry
from elenchus.values.wording import as_text

SPEC = SourceSpec("notes", "markdown", ("notes",), kind="note")
NAMES = ["title", "topic", "tags", "summary", "size", "day", "odd key", "ünder"]
WORDS = st.sampled_from(
    ["tide", "low water", "no", "010", "2026-05-18", "3.5", "a: b", "#not", "x #y", "it's", 'say "x"', "🦭 seal", "null", "- dash", "[a]", "{b}", "*star", "&and", "!bang", "%p", "@at", "`tick", "a,b", "é", "back\\slash", "tab\there", "colon:", "yes", "~", "?", "> more", "| pipe", "two  blanks", " edge ", "Ⅻ", "\u2028line"]
)  # fmt: skip
LINES = st.lists(WORDS, min_size=2, max_size=3).map(lambda words: " \n".join(words).strip())
ENDS = ["\n", "\r\n"]


def single(text: str) -> str:
    """Return a text in single quotes."""
    return "'" + text.replace("'", "''") + "'"


def double(text: str) -> str:
    """Return a text in double quotes."""
    return json.dumps(text)


@st.composite
def yaml_values(draw: st.DrawFn, number: int) -> str:
    """Return a value as people write it in YAML, from behind the colon to the end of its last line."""
    comment = draw(st.sampled_from(["", "", "  # why: [not] a value", " #"]))
    word = draw(WORDS)
    several = draw(st.lists(WORDS, min_size=1, max_size=4))
    margin = draw(st.sampled_from(["", "  ", "    "]))
    sort = draw(st.sampled_from(["plain", "single", "double", "flow", "tall", "block", "folded", "literal", "none", "anchor", "alias", "table", "long"]))  # fmt: skip
    match sort:
        case "plain":
            return f" plain text {number}{comment}"
        case "single":
            return f"  {single(word)}{comment}"
        case "double":
            return f" {double(word)}{comment}"
        case "flow":
            gap = draw(st.sampled_from([", ", ",", " , "]))
            return f" [{gap.join(map(draw(st.sampled_from([single, double])), several))}]{comment}"
        case "tall":
            return " [\n  " + ",\n  ".join(map(single, several)) + "\n  ]"
        case "block":
            between = draw(st.sampled_from(["", "# between\n", "\n"]))
            return f"{comment}\n" + f"\n{between}".join(
                f"{margin}- {double(each)}{comment}" for each in several
            )
        case "folded" | "literal":
            sign = draw(st.sampled_from(["", "-", "+"]))
            return f" {'>' if sort == 'folded' else '|'}{sign}\n  first line\n\n  second line" + draw(
                st.sampled_from(["", "\n", "\n\n"])
            )
        case "none":
            return comment
        case "anchor":
            return f" &name{number} [one, two]{comment}"
        case "table":
            return "\n  inner: 1\n  other: [a]"
        case "long":
            return " a text that\n  goes on" + comment
        case _:
            return " *shared"


@st.composite
def yaml_files(draw: st.DrawFn) -> str:
    """Return a file with YAML front matter."""
    names = draw(st.lists(st.sampled_from(NAMES), unique=True, max_size=6))
    lines = ["shared: &shared [s1, s2]"]
    for number, name in enumerate(names):
        lines += draw(st.sampled_from([[], [], ["# above"], [""]]))
        lines.append(f"{name}:{draw(yaml_values(number))}")
    lines += draw(st.sampled_from([[], ["# at the end"], [""]]))
    body = draw(st.sampled_from(["", "Body\n", "# Head\n\n---\ntitle: no\n", "no end"]))
    text = "---\n" + "\n".join(lines) + "\n---\n" + body
    return text.replace("\n", draw(st.sampled_from(ENDS)))


@st.composite
def toml_files(draw: st.DrawFn) -> str:
    """Return a file with TOML front matter."""
    names = draw(st.lists(st.sampled_from(NAMES[:6]), unique=True, max_size=6))
    lines = []
    for name in names:
        word = draw(WORDS)
        several = draw(st.lists(WORDS, min_size=1, max_size=3))
        comment = draw(st.sampled_from(["", "  # why = [not]"]))
        forms = [double(word), "'plain'", '"""\nmany\nlines"""', "'''raw\n'lines'''", "12", "1.5", "true", "2026-05-18", "2026-05-18 09:00:00", f"[{', '.join(map(double, several))}]", "[\n  " + ",\n  ".join(f"{double(each)}" for each in several) + ", # last\n]", "{ a = 1, b = [2] }", "[]"]  # fmt: skip
        lines += [
            *draw(st.sampled_from([[], ["# above"], [""]])),
            f"{name} = {draw(st.sampled_from(forms))}{comment}",
        ]
    lines += draw(st.sampled_from([[], ["[table]", 'title = "inner"'], ["a.b = 1"]]))
    text = "+++\n" + "\n".join([*lines, ""]) + "+++\n" + "Body\n"
    return text.replace("\n", draw(st.sampled_from(ENDS)))


@st.composite
def json_files(draw: st.DrawFn) -> str:
    """Return a file with JSON front matter."""
    names = draw(st.lists(st.sampled_from(NAMES), unique=True, max_size=6))
    values = st.one_of(
        WORDS, st.integers(), st.booleans(), st.none(), st.lists(WORDS, max_size=3), st.just({"a": [1]})
    )
    found = {name: draw(values) for name in names}
    text = json.dumps(found, indent=draw(st.sampled_from([None, 0, 2])), ensure_ascii=draw(st.booleans()))
    return f"{text}\nBody\n"


def written(value: Any) -> list[str]:
    """Return a value as the texts that it holds."""
    items = value if isinstance(value, list) else [value]
    return [as_text(each) for each in items if each not in (None, "")]


@settings(max_examples=often(700))
@given(st.one_of(yaml_files(), toml_files(), json_files()), st.data())
def test_front_matter(text: str, data: st.DataObject) -> None:
    """Some keys get what they are meant to get; all other keys, the body and the comments stay."""
    codec = data.draw(st.sampled_from(["utf-8", "utf-8-sig", "utf-16", "utf-16-be"]))
    content = text.encode(codec) if codec != "utf-16-be" else b"\xfe\xff" + text.encode(codec)
    try:
        before = read_entry(content, SPEC, Place("a.md"))
    except Unreadable:
        return
    wanted: dict[str, NewValue] = {}
    for name in data.draw(st.lists(st.sampled_from(NAMES), unique=True, min_size=1, max_size=3)):
        many = data.draw(st.booleans())
        old = written(before.values[name].value) if name in before.values else []
        pool = st.one_of(WORDS.map(str.strip), st.sampled_from(old or ["x"]))
        values = data.draw(
            st.lists(pool, max_size=4, unique=True) if many else st.lists(st.one_of(pool, LINES), max_size=1)
        )
        wanted[name] = NewValue(values, may_be_list=many)
    try:
        new = source("markdown").edited(SPEC, "a.md", content, [EntryEdit(0, 0, wanted)])  # type: ignore[attr-defined]
    except UneditableError as error:
        assert "&" in str(error)
        return
    after = read_entry(new, SPEC, Place("a.md"))
    for name, value in wanted.items():
        found = written(after.values[name].value) if name in after.values else []
        if name != "title" or value.values:
            wanted_texts = [each for each in value.values if each]
            assert found == wanted_texts or ",".join(wanted_texts) == ",".join(found).replace(", ", ",")
    told = {*wanted, "body", "title"}  # without a title, the first heading of the body is it
    others = {name: raw.value for name, raw in before.values.items() if name not in told}
    assert {name: raw.value for name, raw in after.values.items() if name not in told} == others
    for mark in ("# above", "# at the end", "\r\n"):
        assert mark not in text or mark in new.decode(codec)
    assert new.decode(codec).endswith(
        text[text.index("\n", text.rindex("}" if text[0] == "{" else text[:3])) :]
    )
    assert codec == "utf-8" or new[:2] == content[:2]  # the mark of the encoding


CELLS = st.sampled_from(["", "plain", "a, b", 'say "x"', "two\nlines", "ünder", " edge ", "=1+1", "🦭", "semi;colon", "tab\tbed", "0", "-"])  # fmt: skip


def read_rows(name: str, content: bytes, spec: SourceSpec) -> list[dict[str, Any]]:
    """Return what a format reads of some bytes, row by row."""
    found: list[dict[str, Any]] = []
    for item in source(name).reader(spec, Path(), []).items(f"a.{name}", content_of(content)):
        if isinstance(item, RowBatch):
            found += [
                {key: values[at] for key, values in item.columns.items() if values[at] not in (None, "")}
                | {"line": item.lines[at]}
                for at in range(len(item.lines))
            ]
    return found


def as_line(cells: list[str], delimiter: str, quoting: Any, end: str) -> str:
    """Return a row of a table as some program writes it."""
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter, quoting=quoting, lineterminator=end).writerow(cells)
    return out.getvalue()


@settings(max_examples=often(400))
@given(st.data())
def test_tables(data: st.DataObject) -> None:
    """Cells of a table get what they are meant to get; all other rows stay as they stand, to the byte."""
    delimiter, end = data.draw(st.sampled_from(",;\t|")), data.draw(st.sampled_from(ENDS))
    quoting = data.draw(st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL]))
    names = [
        "id",
        "title",
        *data.draw(
            st.lists(st.sampled_from(["size", "more text", "ünder", "tags"]), unique=True, max_size=4)
        ),
    ]
    width = len(names)
    rows = [
        [f"r{at}", f"Row {at}", *(data.draw(CELLS) for _ in range(width - 2))]
        for at in range(data.draw(st.integers(1, 6)))
    ]
    lines = [as_line(row, delimiter, quoting, end) for row in [names, *rows]]
    if data.draw(st.booleans()):
        lines[-1] = lines[-1].removesuffix(end)
    mark = data.draw(st.sampled_from([b"", b"\xef\xbb\xbf"]))
    content = mark + "".join(lines).encode()
    spec = SourceSpec("rows", "csv", ("rows",), kind="row", delimiter=delimiter)
    before = read_rows("csv", content, spec)
    assert len(before) == len(rows)
    edits, wanted = [], {}
    for at in data.draw(st.lists(st.integers(0, len(rows) - 1), unique=True, min_size=1)):
        column = data.draw(st.sampled_from([*names[1:], "new"]))
        value = data.draw(CELLS)
        wanted[at] = column, value
        edits.append(EntryEdit(before[at]["line"], at, {column: NewValue([value] if value else [])}))
    new = source("csv").edited(spec, "a.csv", content, edits)  # type: ignore[attr-defined]
    after = read_rows("csv", new, spec)
    assert len(after) == len(rows)
    is_wider = any(column == "new" and value for column, value in wanted.values())
    for at, row in enumerate(before):
        column, value = wanted.get(at, ("", ""))
        expected = {key: each for key, each in row.items() if key not in ("line", column)} | (
            {column: value} if value else {}
        )
        told = {key: each for key, each in after[at].items() if key != "line"}
        if column != "title":  # one without a title is called by its slug
            assert told == expected
        if at not in wanted and not is_wider:
            assert lines[at + 1].removesuffix(end).encode() in new
    assert new.startswith(mark)


@settings(max_examples=often(400))
@given(st.data())
def test_json(data: st.DataObject) -> None:
    """Members of objects get what they are meant to get; the other objects stay as they stand, to the byte."""
    names = ["title", "tags", "size", "ünder", 'a "name"']
    values = st.one_of(
        CELLS,
        st.integers(-5, 5),
        st.booleans(),
        st.lists(CELLS.filter(bool), max_size=3),
        st.just({"in": [1.50]}),
    )
    objects = [
        {"id": f"r{at}", **data.draw(st.dictionaries(st.sampled_from(names), values, max_size=4))}
        for at in range(data.draw(st.integers(1, 5)))
    ]
    sort = data.draw(st.sampled_from(["json", "jsonl", "records", "named"]))
    gap = data.draw(st.sampled_from([(", ", ": "), (",", ":")]))
    plain = data.draw(st.booleans())
    written_as = [json.dumps(each, ensure_ascii=plain, separators=gap) for each in objects]
    records = ""
    match sort:
        case "jsonl":
            text = "\n".join(written_as) + data.draw(st.sampled_from(["", "\n"]))
        case "json":
            listed = ",\n  ".join(written_as)
            indent = data.draw(st.sampled_from([None, 2]))
            text = data.draw(st.sampled_from([f"[\n  {listed}\n]\n", json.dumps(objects, indent=indent)]))
        case "records":
            text, records = json.dumps({"data": {"items": objects}, "count": 1}, indent=1), "data.items"
        case _:
            text = json.dumps({f"k{at}": each for at, each in enumerate(objects)}, indent=2)
    name = "jsonl" if sort == "jsonl" else "json"
    spec = SourceSpec("rows", name, ("rows",), kind="row", records=records)
    at = data.draw(st.integers(0, len(objects) - 1))
    many = data.draw(st.booleans())
    texts = data.draw(st.lists(CELLS.map(str.strip).filter(bool), unique=True, max_size=3 if many else 1))
    key = data.draw(st.sampled_from([*names, "new"]))
    edit = EntryEdit(at + 1, at, {key: NewValue(texts, may_be_list=many)})
    new = source(name).edited(spec, f"a.{name}", text.encode(), [edit]).decode()  # type: ignore[attr-defined]
    read: Any = [json.loads(line) for line in new.splitlines()] if sort == "jsonl" else json.loads(new)
    found = read["data"]["items"] if sort == "records" else list(read.values()) if sort == "named" else read
    for number, (one, other) in enumerate(zip(objects, found, strict=True)):
        if number == at:
            told = written(other.get(key))
            assert told == texts or ",".join(texts) == ",".join(told).replace(", ", ",")
        rest = {name for name in one if number != at or name != key}
        assert {name: other[name] for name in rest} == {name: one[name] for name in rest}
        assert set(other) - {key} == set(one) - {key}
    if sort == "jsonl":
        assert all(line in new for number, line in enumerate(written_as) if number != at)
