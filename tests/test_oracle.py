"""The engine against the oracle, on random sites and random questions."""

from __future__ import annotations

import atexit
import pickle
import re
import shutil
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any
from unittest.mock import patch
from zlib import crc32

import numpy as np
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import elenchus
from conftest import often
from elenchus.engine import driving, order, rowset
from elenchus.engine.columns.build import Since, assemble, build
from elenchus.engine.columns.column import Column, Lists, Terms, Texts
from elenchus.engine.columns.dataset import Dataset
from elenchus.engine.columns.recordtable import Intake
from elenchus.engine.executor import Engine
from elenchus.engine.explaining.state import state_of
from elenchus.errors import Edit, Place
from elenchus.frozen import replace
from elenchus.index.pack import Pack, write_pack
from elenchus.index.records import packed_records
from elenchus.index.tables import packed_tables, unpacked_tables
from elenchus.language import nodes
from elenchus.language.parser import read_changes
from elenchus.language.printer import print_condition, print_path
from elenchus.language.tree import changed
from elenchus.operators import Operator, operator
from elenchus.operators.column import KeyRange
from elenchus.plan.check import Ground, check
from elenchus.plan.listings import Asked
from elenchus.schema.record import Raw, Record
from elenchus.schema.terms import TermRow
from elenchus.schema.types import CORE_FIELDS, Field, FieldType, Kind, Schema, TaxonomyRules, Type
from elenchus.values.dates import Clock, instant
from elenchus.values.texts import fold
from oracle import LEVELS, NOW, STATUSES, TOPICS, TREE, ZONE, Oracle, all_of

CLOCK = Clock(instant(NOW), ZONE)
A_FIELDS = {
    "num": FieldType(Type.INTEGER),
    "ratio": FieldType(Type.NUMBER),
    "flag": FieldType(Type.YESNO),
    "level": FieldType(Type.CHOICE, choices=tuple(LEVELS)),
    "when": FieldType(Type.DATE),
    "name": FieldType(Type.TEXT),
    "tags": FieldType(Type.TEXT, many=True),
    "place": FieldType(Type.ENTRY, kinds=("b",)),
}
MANY = {"area", "topic", *(name for name, kind in A_FIELDS.items() if kind.many)}
KIND = Field("kind", FieldType(Type.CHOICE, choices=("a", "b")))
SCHEMA = Schema(
    kinds={
        "a": Kind("a", {name: Field(name, kind) for name, kind in A_FIELDS.items()}),
        "b": Kind("b", {name: Field(name, A_FIELDS[name]) for name in ("num", "name")}),
    },
    taxonomies={
        "area": TaxonomyRules("area", tree=True, terms="area.csv"),
        "topic": TaxonomyRules("topic", terms="topic.csv"),
    },
    fields={**CORE_FIELDS, "kind": KIND},
)
TERMS = {
    "area": [
        TermRow(
            path.rpartition("/")[2],
            path.rpartition("/")[2].title(),
            Place("area.csv", n),
            path.rpartition("/")[0],
        )
        for n, path in enumerate(TREE)
    ],
    "topic": [TermRow(name, name.title(), Place("topic.csv", n)) for n, name in enumerate(TOPICS)],
}
TEXTS = [
    "Seal",
    "seal",
    "SEALS",
    "Étang",
    "etang",
    "9 eels",
    "10 eels",
    "",
    "  ",
    "x-ray",
    "straße",
    "Zoë",
    "北",
    "Østers",
    "łódź",
    "４ winds",
]
DAYS = st.dates(date(2025, 12, 1), date(2026, 6, 30))
MOMENTS = st.builds(
    lambda day, minutes: datetime(day.year, day.month, day.day, tzinfo=ZONE) + timedelta(minutes=minutes),
    DAYS,
    st.sampled_from([0, 30, 90, 600, 1410]),
)
IDS = [f"e{number}" for number in range(12)]


def maybe(values: st.SearchStrategy[Any]) -> st.SearchStrategy[Any]:
    return st.none() | values | values


ROWS = st.fixed_dictionaries(
    {
        "kind": st.sampled_from("aab"),
        "status": st.none() | st.none() | st.sampled_from(STATUSES),
        "date": maybe(DAYS | MOMENTS | DAYS | MOMENTS | st.just("2027-1-5")),
        "expires": st.none() | st.none() | DAYS | st.just("soon"),
        "title": maybe(st.sampled_from(TEXTS)),
        "name": maybe(st.sampled_from(TEXTS)),
        "num": maybe(st.integers(-2, 12) | st.just("about 3")),
        "ratio": maybe(st.sampled_from([-1.5, 0.0, 0.1, 2.0, 3.25]) | st.just("n/a")),
        "flag": maybe(st.booleans()),
        "level": maybe(st.sampled_from([*LEVELS, "hihg"])),
        "when": maybe(DAYS),
        "tags": maybe(st.lists(st.sampled_from(TEXTS), max_size=3, unique=True)),
        "place": maybe(st.sampled_from([*IDS, "nobody"])),
        "parent": maybe(st.sampled_from(IDS)),
        "area": maybe(st.lists(st.sampled_from(TREE), max_size=3, unique=True)),
        "topic": maybe(st.lists(st.sampled_from(TOPICS), max_size=2, unique=True)),
    }
)


def numbered(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Give the rows their ids, and leave out of them what would be a cycle of parents."""
    for number, row in enumerate(rows):
        row["id"] = IDS[number]
        if row["parent"] is not None and int(row["parent"][1:]) >= number:
            row["parent"] = None
    return rows


SITES = st.lists(ROWS, max_size=8).map(numbered)


def written(value: Any) -> Any:
    """Return a value as a source would hand it over."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return [written(each) for each in value]
    return (
        value
        if value is None or isinstance(value, str)
        else (value.isoformat() if isinstance(value, date) else str(value))
    )


def dataset(rows: list[dict[str, Any]], edits: dict[str, dict[str, Raw]] | None = None) -> Dataset:
    """Return the engine's reading of the rows, some of them with other values."""
    records = [
        Record(
            Place(row["id"]),
            row["kind"],
            row["id"],
            {
                **{
                    name: Raw(written(value))
                    for name, value in row.items()
                    if name != "kind" and (name in SCHEMA.fields_of(row["kind"]))
                },
                **(edits or {}).get(row["id"], {}),
            },
        )
        for row in rows
    ]
    return kept(records)


FOLDER = Path(tempfile.mkdtemp())
atexit.register(shutil.rmtree, FOLDER)


def kept(records: list[Record]) -> Dataset:
    """Return the dataset of records: now and then patched where some were others, read from files, or both."""
    way = crc32(repr(records).encode()) % 40
    if way not in (1, 2, 3):
        return build(SCHEMA, records, TERMS, ZONE)
    written, since = Intake.of(records), None
    if way > 1:
        first = dict(records[0].values) if records else {}
        others = [replace(each, values=first | {"id": each.values["id"]}) for each in records[1::4]]
        before = Intake.of([*others, *records[::2]])
        written = before.with_more(Intake.of(records[1::2]))
        live = np.ones(len(written), np.bool_)
        live[: len(others)] = False
        since = Since(live, assemble(SCHEMA, before, TERMS, ZONE))
    data = assemble(SCHEMA, written, TERMS, ZONE, (), since)
    if way == 2:  # patched, and not read from files
        return data
    told, sections, shared = packed_records(written)
    for name, (meta, part) in {"records": (told, sections), "tables": packed_tables(data, shared)}.items():
        write_pack(FOLDER / name, meta, part)
    return unpacked_tables(Pack(FOLDER / "tables"), Pack(FOLDER / "records"), SCHEMA, ZONE)


def literal(*values: str) -> st.SearchStrategy[nodes.Literal]:
    return st.sampled_from(values).map(nodes.Literal)


DATES = literal(
    "2026",
    "2026-05",
    "2026-W21",
    "2026-03-29",
    "2026-05-20",
    "today",
    "yesterday",
    "last 30 days",
    "next 2 weeks",
    "this month",
    "last month",
    "last 3 months",
    "this week",
)
WORDS = literal("seal", "Seal", "ETANG", "étang", "eels", "10 eels", "x", "m")
NUMBERS = literal("-1", "0", "2.5", "3", "10")
AREAS = literal(*TREE)
ENTRIES = literal(*IDS)
ORDERED = ["=", "in", "<", "<=", ">", ">=", "between", "is set", "is missing"]
TEXTUAL = ["contains", "starts with", "ends with"]
COMPARABLE: list[tuple[tuple[str, ...], Any, list[str]]] = [
    (("num",), NUMBERS, ORDERED),
    (("ratio",), NUMBERS, ORDERED),
    (("level",), literal(*LEVELS), ORDERED),
    (("flag",), literal("yes", "no"), ["=", "in", "is set"]),
    (("when",), DATES, ORDERED),
    (("date",), DATES, ORDERED),
    (("date", "month"), DATES, ORDERED),
    (("date", "week"), DATES, ORDERED),
    (("date", "day"), DATES, ORDERED),
    (("when", "month_of_year"), NUMBERS, ORDERED),
    (("when", "year"), DATES, ORDERED),
    (("date", "weekday"), NUMBERS, ORDERED),
    (("date", "hour"), NUMBERS, ORDERED),
    (("name",), WORDS, [*ORDERED, *TEXTUAL]),
    (("name", "initial"), literal("s", "E", "o", "Ø", "l", "4", "x"), ["=", "is set"]),
    (("tags",), WORDS, ["=", "in", "has all", "is missing", *TEXTUAL]),
    (("area",), AREAS, ["=", "in", "has all", "under", "below", "is set"]),
    (("area", "top"), literal("north", "south", "west"), ["=", "in", "has all"]),
    (("area", "name"), WORDS, ["=", *TEXTUAL]),
    (("topic",), literal(*TOPICS), ["=", "in", "has all", "is missing"]),
    (("place",), ENTRIES, ["=", "in", "is set", "is missing"]),
    (("place", "num"), NUMBERS, ORDERED),
    (("place", "area"), AREAS, ["=", "under", "is missing"]),
    (("entry",), ENTRIES, ["=", "in", "under", "below"]),
    (("parent",), ENTRIES, ["=", "under", "is set"]),
    (("parent", "title"), WORDS, ["contains", "is missing"]),
    (("kind",), literal("a", "b"), ["=", "in"]),
    (("status",), literal(*STATUSES), ORDERED),
    (("count of", "a", "place"), NUMBERS, ORDERED),
]
HOW_MANY = {"is set": 0, "is missing": 0, "between": 2, "in": 3, "has all": 2, "under": 2, "below": 2}


@st.composite
def comparisons(draw: Any) -> nodes.Condition:
    path, values, operators = draw(st.sampled_from(COMPARABLE))
    operator = draw(st.sampled_from(operators))
    count = HOW_MANY.get(operator, 1)
    if operator in ("in", "has all", "under", "below"):
        count = draw(st.integers(1, count))
    picked = tuple(draw(values) for _ in range(count))
    counted = path[0] == "count of"
    return nodes.Compare(nodes.Path(path[counted:], counted), operator, picked, draw(st.booleans()))


# Two fields that go together, each with the operators between them.
SIDES = [
    (("num",), ("ratio",)), (("ratio",), ("num",)), (("num",), ("place", "num")), (("when",), ("date",)), (("date",), ("when",)),
    (("name",), ("title",)), (("title",), ("name",)), (("title",), ("parent", "title")), (("place",), ("parent",)), (("entry",), ("parent", "place")),
    (("date", "month"), ("when", "month")), (("when", "weekday"), ("date", "weekday")), (("num",), ("date", "hour")),
]  # fmt: skip
OF_REFERENCES = {("place",), ("entry",)}


@st.composite
def besides(draw: Any) -> nodes.Condition:
    """Draw a comparison of two fields, or one between a value and a field."""
    path, other = draw(st.sampled_from(SIDES))
    operator = draw(
        st.sampled_from(["="] if path in OF_REFERENCES else ["=", "<", "<=", ">", ">=", "between"])
    )
    values: list[nodes.Value] = [nodes.OtherField(nodes.Path(other))]
    if operator == "between":
        known = {"num": NUMBERS, "ratio": NUMBERS, "when": DATES, "date": DATES}.get(path[-1], NUMBERS)
        bound = WORDS if path[-1] in ("name", "title") else DATES if path[-1] == "month" else known
        values.insert(draw(st.integers(0, 1)), draw(bound | st.just(values[0])))
    return nodes.Compare(nodes.Path(path), operator, tuple(values), draw(st.booleans()))


LIKENESS = st.builds(nodes.Related, ENTRIES, st.sampled_from([(), (nodes.Literal("area"),)]))
LEAVES = (
    comparisons()
    | comparisons()
    | comparisons()
    | besides()
    | LIKENESS
    | st.just(nodes.Flag(nodes.Path(("flag",))))
)
CONDITIONS = st.recursive(
    LEAVES,
    lambda inner: (
        st.builds(nodes.Not, inner)
        | st.builds(nodes.And, st.lists(inner, min_size=2, max_size=3).map(tuple))
        | st.builds(nodes.Or, st.lists(inner, min_size=2, max_size=3).map(tuple))
    ),
    max_leaves=5,
)
ORDER_FIELDS = [
    ("num",),
    ("ratio",),
    ("level",),
    ("when",),
    ("title",),
    ("name",),
    ("place",),
    ("place", "num"),
    ("date", "month"),
    ("date", "year"),
    ("date", "hour"),
    ("when", "weekday"),
    ("kind",),
    ("status",),
]
ORDER_KEYS = st.builds(nodes.OrderKey, st.sampled_from(["newest", "oldest", "pinned first"])) | st.builds(
    nodes.OrderKey,
    st.just("field"),
    st.sampled_from(ORDER_FIELDS).map(nodes.Path),
    st.booleans(),
    missing_first=st.booleans(),
)
GROUP_FIELDS = [
    ("area",),
    ("area", "top"),
    ("topic",),
    ("level",),
    ("flag",),
    ("kind",),
    ("place",),
    ("date", "month"),
    ("date", "year"),
    ("date", "weekday"),
    ("date", "day"),
    ("date", "week"),
    ("date", "hour"),
    ("when", "month_of_year"),
    ("name", "initial"),
    ("tags",),
    ("when", "week"),
    ("status",),
]
MEASURED = [
    ("sum", ("num",)), ("sum", ("place", "num")), ("average", ("num",)), ("average", ("ratio",)), ("median", ("num",)), ("median", ("ratio",)),
    ("min", ("when",)), ("max", ("date",)), ("min", ("level",)), ("max", ("num",)), ("min", ("date", "month")), ("max", ("date", "hour")),
    ("distinct", ("tags",)), ("distinct", ("topic",)), ("distinct", ("area", "top")), ("distinct", ("name",)), ("distinct", ("place",)), ("distinct", ("flag",)),
]  # fmt: skip
MEASURES = st.sampled_from(MEASURED).map(lambda pair: nodes.Path(pair[1], measure=pair[0]))
ORDERS = {
    "by": st.sampled_from(["value", "value", "count", "name", "measure"]),
    "descending": st.none() | st.booleans(),
    "measure": MEASURES,
}


@st.composite
def havings(draw: Any) -> nodes.Condition:
    """Draw a comparison of a group's count, or of a measure that is a number."""
    path = draw(st.just(nodes.Path(("count",))) | MEASURES)
    if path.measure and (path.names[-1] in ("when", "date", "level", "month") and path.measure != "distinct"):
        path = nodes.Path(("count",))
    operator = draw(st.sampled_from(["=", "<", "<=", ">", ">=", "between", "is set", "is missing"]))
    values = tuple(draw(NUMBERS) for _ in range(HOW_MANY.get(operator, 1)))
    return nodes.Compare(path, operator, values, draw(st.booleans()))


HAVING = havings() | st.builds(nodes.Or, st.tuples(havings(), havings())) | st.builds(nodes.Not, havings())
GROUP_KEYS = st.builds(nodes.GroupKey, st.sampled_from(GROUP_FIELDS).map(nodes.Path), **ORDERS) | st.builds(
    nodes.GroupKey,
    st.sampled_from([("area",), ("area", "top")]).map(nodes.Path),
    under=st.lists(AREAS, min_size=1, max_size=2).map(tuple),
    **ORDERS,
)
GROUP_KEYS |= st.builds(
    nodes.GroupKey,
    st.sampled_from([("num",), ("ratio",), ("place", "num")]).map(nodes.Path),
    steps=st.sampled_from(["2", "5", "0.5", "0.1"]),
    **ORDERS,
)
SMALL = st.integers(0, 6)


def optional(node: Any, *parts: Any) -> st.SearchStrategy[Any]:
    return st.none() | st.none() | st.builds(node, *parts)


QUESTIONS = st.builds(
    nodes.Question,
    source=st.none() | st.sampled_from(["a", "b"]).map(lambda kind: nodes.From((nodes.Literal(kind),))),
    unpublished=st.sampled_from([None, None, None, nodes.Unpublished()]),
    where=st.none() | st.builds(nodes.Where, CONDITIONS),
    order=optional(nodes.Order, st.lists(ORDER_KEYS, min_size=1, max_size=2).map(tuple)),
    lead=optional(nodes.Lead, st.lists(ENTRIES, min_size=1, max_size=2).map(tuple)),
    at_most=optional(
        nodes.AtMost,
        st.integers(1, 2),
        st.sampled_from([("level",), ("num",), ("name",), ("date", "month")]).map(nodes.Path),
    ),
    group=optional(nodes.GroupClause, st.lists(GROUP_KEYS, min_size=1, max_size=2).map(tuple)),
    having=optional(nodes.Having, HAVING),
    measure=optional(
        nodes.MeasureClause,
        st.lists(MEASURES, min_size=1, max_size=3, unique=True).map(
            lambda each: tuple(map(nodes.Measured, each))
        ),
    ),
    offset=optional(nodes.Offset, SMALL),
    limit=optional(nodes.Limit, SMALL),
    group_limit=optional(nodes.LimitGroups, st.integers(1, 3)),
    per_group=optional(nodes.LimitPerGroup, st.integers(0, 2)),
    per_page=optional(nodes.PerPage, st.integers(1, 4)),
)


def related_first(question: nodes.Question, *, wanted: bool) -> nodes.Question:
    """Return the question ordered by relatedness where it can be, and without a limit that means nothing."""
    if wanted and sum(isinstance(node, nodes.Related) for node in all_of(question.where)) == 1:
        question = replace(
            question, order=nodes.Order((nodes.OrderKey("relatedness"), nodes.OrderKey("oldest")))
        )
    if question.group is None:
        return replace(question, per_group=None, group_limit=None, having=None)
    keys = (replace(key, measure=key.measure if key.by == "measure" else None) for key in question.group.keys)
    return replace(question, group=replace(question.group, keys=tuple(keys)))


ASKED = st.builds(related_first, QUESTIONS, wanted=st.booleans())
ALLOWED = {"never-true", "reversed-bounds", "unknown-entry", "unknown-field", "bad-path"}


# From how many rows on the engine goes other ways than on small sites: with these, it takes them at once.
LARGE = {
    driving: {"_SMALL": 0, "_FEW": 1},
    order: {"_FEW": 0, "_SHARE": 1, "_SPARSE": 99, "_STEP": 1},
    rowset: {"_STEP": 1},
}


@contextmanager
def ways_of_large_sites(*, wanted: bool) -> Iterator[None]:
    """Let the engine go the ways of large sites."""
    before = {module: {name: getattr(module, name) for name in values} for module, values in LARGE.items()}
    for module, values in (LARGE if wanted else {}).items():
        vars(module).update(values)
    try:
        yield
    finally:
        for module, values in before.items():
            vars(module).update(values)


@given(SITES, ASKED, st.booleans())
@settings(max_examples=often(400), deadline=None)
def test_engine_agrees(rows: list[dict[str, Any]], question: nodes.Question, large: bool) -> None:
    """Ids, their order, counts, pages and groups are those that the description gives."""
    with ways_of_large_sites(wanted=large):
        agrees(rows, question)


@given(st.lists(ROWS, min_size=6, max_size=8).map(numbered), besides(), st.booleans())
@settings(max_examples=often(250), deadline=None)
def test_two_fields(rows: list[dict[str, Any]], condition: nodes.Compare, near: bool) -> None:
    """A comparison of two fields holds where the description says so; of days that lie near one another, too."""
    for number, row in enumerate(rows if near else []):
        row["when"] = date(2026, 3, 28 + number % 3)
        start = datetime(2026, 3, 28 + number // 3, tzinfo=ZONE) + timedelta(
            minutes=[90, 1439, 600][number % 3]
        )
        row["date"] = start if number % 2 else start.date()
        row["name"] = (rows[number - number % 3 // 2]["title"] or "").upper() if number % 3 else "Seal"
        row["ratio"], row["num"] = float(number % 2), number % 3
    agrees(rows, nodes.Question(where=nodes.Where(condition)))
    turned = {"<": ">=", "<=": ">", ">": "<=", ">=": "<"}.get(condition.operator)
    if turned:
        data, sides = dataset(rows), [condition.path, condition.values[0].path]  # type: ignore[union-attr]
        both = " and ".join(f"{print_path(side)} is set" for side in sides)
        one, other = (
            ids_of(data, f"where {print_condition(replace(condition, operator=each, negated=False))}")
            for each in (condition.operator, turned)
        )
        assert one.isdisjoint(other)
        assert one | other == ids_of(data, f"where {both}")


def ids_of(data: Dataset, text: str) -> set[str]:
    """Return the ids of the rows of a question."""
    plan, problems = check(Asked(elenchus.parse(text)), Ground(data, CLOCK))
    assert not problems
    return set(Engine(data, CLOCK).ids(plan))


def agrees(rows: list[dict[str, Any]], question: nodes.Question) -> None:
    """Compare the answer to a question on all its pages with the description's; ask twice, as pages do."""
    data = dataset(rows)
    text = elenchus.print_question(question)
    plan, problems = check(Asked(elenchus.parse(text)), Ground(data, CLOCK))
    assert {problem.code for problem in problems} <= ALLOWED, text
    assume(not problems)
    oracle = Oracle(rows)
    matched, _, left = oracle.select(question)
    engine = Engine(data, CLOCK)
    first = engine.run(plan, text)
    assert (first.matched, first.total) == (len(matched), len(left)), text
    engine.kept.results.clear()
    pages = [engine.run(plan, text, page) for page in range(1, first.pages + 1)]
    if question.group is None:
        assert [row.id for page in pages for row in page.rows] == left, text
        return
    assert [each.value for each in first.measures] == oracle.measures(left, question), text
    groups = oracle.groups(left, question)
    told = {group.keys: group for page in pages for group in page.groups or ()}
    if question.per_page is None and question.group_limit is None:
        assert [list(group.measures) for group in told.values()] == [
            oracle.measures(ids, question) for _, ids in groups
        ], text
    assert first.placements == sum(len(ids) for _, ids in groups)
    joined: list[tuple[Any, int, list[str]]] = []
    for page in pages:
        for group in page.groups or ():
            if joined and joined[-1][0] == group.keys:
                joined[-1][2].extend(group.rows)
            else:
                joined.append((group.keys, group.count, list(group.rows)))
    kept = question.per_group.count if question.per_group else None
    values = list(dict.fromkeys(keys[0] for keys, _ in groups))
    first_ones = values[: question.group_limit.count if question.group_limit else None]
    expected = [(len(ids), ids[:kept]) for keys, ids in groups if keys[0] in first_ones]
    assert [(count, ids) for _, count, ids in joined] == expected, text
    several = {name for name in left if sum(name in ids for _, ids in groups) > 1}
    assert set(first.overlap) == several


def shown(answer_pages: list[elenchus.Answer]) -> set[str]:
    """Return the ids that stand on the pages of an answer; where groups show no rows, those that they count."""
    return {row.id for page in answer_pages for row in page.rows}


def asked(data: Dataset, question: nodes.Question) -> set[str] | None:
    """Return the ids that a question shows, None where it cannot be asked."""
    per_group = question.per_group if question.per_group and question.per_group.count else None
    question = replace(question, per_page=None, per_group=per_group)
    plan, problems = check(Asked(question), Ground(data, CLOCK))
    return None if problems else shown([Engine(data, CLOCK).run(plan)])


@given(SITES, ASKED)
@settings(max_examples=often(150), deadline=None)
def test_why_agrees(rows: list[dict[str, Any]], question: nodes.Question) -> None:
    """The verdict on each entry says listed exactly for those that the answer shows; the funnel ends at its total."""
    data = dataset(rows)
    text = elenchus.print_question(question)
    plan, problems = check(Asked(elenchus.parse(text)), Ground(data, CLOCK))
    assume(not problems)
    _, _, left = Oracle(rows).select(question)
    verdicts = [Engine(data, CLOCK).judge(plan, row["id"]) for row in rows]
    assert {verdict.id for verdict in verdicts if verdict.listed} == asked(data, question), text
    assert all(verdict.ways or verdict.needs for verdict in verdicts if not verdict.listed), text
    assert Engine(data, CLOCK).explain(plan, text).steps[-1].left == len(left) or plan.lead or plan.at_most


def after(values: dict[str, Raw], edit: Edit) -> Raw:
    """Return what is written in a field after an edit."""
    if edit.operator == "=":
        return Raw(edit.value.split(",") if edit.field in MANY and edit.value else edit.value or None)
    old = values[edit.field].value if edit.field in values else None
    have = [each for each in (old if isinstance(old, list) else [old]) if each]
    wanted = edit.value.split(",")
    if edit.operator == "+=":
        return Raw([*have, *wanted])
    return Raw([each for each in have if not any(f"/{each}".endswith(f"/{name}") for name in wanted)])


@given(SITES, ASKED)
@settings(max_examples=often(180), deadline=None)
def test_cures_work(rows: list[dict[str, Any]], question: nodes.Question) -> None:
    """What would list an entry does: written into its file and the question, it is there in the answer."""
    data = dataset(rows)
    plan, problems = check(Asked(question), Ground(data, CLOCK))
    assume(not problems)
    by_id = {row["id"]: row for row in rows}
    for name in by_id:
        verdict = Engine(data, CLOCK).judge(plan, name)
        for way in verdict.ways:
            row = {name: Raw(written(value)) for name, value in by_id[verdict.id].items() if name != "kind"}
            edits: dict[str, Raw] = {}
            then = question
            for change in way:
                if change.edit:
                    edits[change.edit.field] = after(row, change.edit)
                else:
                    changes, wrong = read_changes(change.clause)
                    assert not wrong, change
                    then = changed(then, changes)
            found = asked(dataset(rows, {verdict.id: edits}), then)
            assert found is not None, (elenchus.print_question(then), way)
            assert verdict.id in found, (elenchus.print_question(then), verdict.id, way)


@given(SITES, MOMENTS)
@settings(max_examples=often(150), deadline=None)
def test_state(rows: list[dict[str, Any]], now: datetime) -> None:
    """What keeps an entry back is named exactly where it cannot be seen, at any time."""
    data, at = dataset(rows), instant(now)
    visible = Engine(data, Clock(at, ZONE)).view().visible
    for row in range(len(data.entries)):
        assert state_of(data, at, row).is_public == visible[row], data.entries.ids[row]


@given(SITES)
@settings(max_examples=often(150), deadline=None)
def test_terms_count(rows: list[dict[str, Any]]) -> None:
    """A term counts the public entries that have it, its total those that have it or one below, each once."""
    data, oracle = dataset(rows), Oracle(rows)
    plan, _ = check(Asked(elenchus.parse("from area order by latest")), Ground(data, CLOCK))
    found = {row["path"]: row for row in Engine(data, CLOCK).run(plan).rows}
    public = [row for row in rows if oracle.public(row)]
    for path in TREE:
        direct = [row for row in public if path in (row["area"] or [])]
        below = [
            row
            for row in public
            if any(area == path or area.startswith(path + "/") for area in row["area"] or [])
        ]
        assert (found[path]["own"], found[path]["with_below"]) == (len(direct), len(below))
        dates = [moment for row in below if (moment := oracle.value(row, "date"))]
        latest = found[path]["latest"]
        assert (latest is None) == (not dates)
        if dates:  # a moment that the clocks skip is the one after the gap
            expected = max(each.astimezone(UTC) for each in dates).astimezone(ZONE)
            assert latest == (expected if isinstance(latest, datetime) else expected.date())


@given(SITES, QUESTIONS.filter(lambda question: question.group is not None))
@settings(max_examples=often(150), deadline=None)
def test_with_empty(rows: list[dict[str, Any]], question: nodes.Question) -> None:
    """“with empty” adds groups without rows and changes nothing else; terms and choices are then complete."""
    group = question.group
    assert group
    data = dataset(rows)
    question = replace(question, per_page=None, per_group=None, group_limit=None, having=None)
    answers = []
    for with_empty in (False, True):
        asked = replace(question, group=replace(group, with_empty=with_empty))
        plan, problems = check(Asked(asked), Ground(data, CLOCK))
        assume(not problems)
        answers.append(Engine(data, CLOCK).run(plan))
    plain, full = (
        [(group.keys, group.count, group.rows) for group in answer.groups or ()] for answer in answers
    )
    assert [group for group in full if group[1]] == plain
    assert answers[0].placements == answers[1].placements
    if len(group.keys) == 1 and not group.keys[0].under:
        path = group.keys[0].path.names
        sizes: dict[tuple[str, ...], int] = {
            ("area",): len(TREE),
            ("topic",): len(TOPICS),
            ("level",): len(LEVELS),
            ("flag",): 2,
            ("kind",): 2,
        }
        present = [keys for keys, _, _ in full if keys != (None,)]
        assert len(present) == sizes.get(path, len(present))


class Plain:
    """A column as a list of cells for each row, in plain Python; its masks are whole numbers, a bit a row."""

    def __init__(self, column: Column) -> None:
        self.rows = [cells(column, row) for row in range(len(column.valid))]

    def where(self, test: Callable[[Any, Any], bool]) -> int:
        met = (at for at, row in enumerate(self.rows) if any(test(key, text) for key, text in row))
        return sum(2**at for at in met)

    def present(self) -> int:
        return self.where(lambda _key, _text: True)

    def missing(self) -> int:
        return ~self.present()

    def equal(self, value: KeyRange) -> int:
        if any(text is not None for row in self.rows for _, text in row):
            return self.where(lambda _, text: fold(text) == value.text)
        return self.between(value.low, value.high)

    def between(self, low: float, high: float) -> int:
        return self.where(lambda key, _: low <= key < high)

    def contains(self, part: str) -> int:
        return self.where(lambda _, text: part in fold(text))

    def starts_with(self, part: str) -> int:
        return self.where(lambda _, text: fold(text).startswith(part))

    def ends_with(self, part: str) -> int:
        return self.where(lambda _, text: fold(text).endswith(part))

    def matches(self, pattern: str) -> int:
        return self.where(lambda _, text: re.search(pattern, text) is not None)


def cells(column: Column, row: int) -> list[tuple[Any, str | None]]:
    """Return the keys of a row's values, each with its text where it is one."""
    match column:
        case Lists():
            span = range(column.starts[row], column.starts[row + 1])
            return [cell for at in span for cell in cells(column.elements, int(at))]
        case Terms():
            return [(key, None) for key in column.item(row)]
        case Texts():
            text = column.item(row)
            return [] if text is None else [(int(column.keys[row]), text)]
        case _:
            key = column.item(row)
            return [(each, None) for each in (key if isinstance(key, list) else [key]) if each is not None]


def in_both(name: str) -> Operator:
    """Return the record of an operator that compares what it finds with what it finds in plain Python."""
    record = operator(name)

    def rows(column: Any, values: Sequence[KeyRange]) -> Any:
        found = record.rows(column, values)
        bits = record.rows(Plain(column), values)
        assert found.tolist() == [bool(bits >> at & 1) for at in range(len(found))], (name, values)
        return found

    return replace(record, rows=rows)


@given(SITES, ASKED)
@settings(max_examples=often(200), deadline=None)
def test_records_need_no_arrays(rows: list[dict[str, Any]], question: nodes.Question) -> None:
    """What an operator's record means is the same over any column that keeps the protocol."""
    plan, problems = check(Asked(question), Ground(data := dataset(rows), CLOCK))
    assume(not problems)
    with patch("elenchus.engine.select.operator", in_both):
        Engine(data, CLOCK).run(plan)


@given(SITES, ASKED)
@settings(max_examples=often(200), deadline=None)
def test_plans_know_no_rows(rows: list[dict[str, Any]], question: nodes.Question) -> None:
    """A plan that was checked against one content means the same on another, in which rows have other numbers."""
    assume(question.unpublished is None)
    drafts = [{"kind": "a", "id": f"draft{at}", "date": NOW.date(), "status": "draft"} for at in range(3)]
    numbered_rows = [*rows[::-1], *drafts]
    first, second = dataset(rows), dataset(numbered_rows)
    plan, problems = check(Asked(question), Ground(first, CLOCK))
    other, others = check(Asked(question), Ground(second, CLOCK))
    assume(not problems)
    assert not others
    assert (plan, hash(plan), repr(plan)) == (other, hash(other), repr(other))
    assert pickle.loads(pickle.dumps(plan)) == plan  # noqa: S301 - written a moment ago
    assert Engine(second, CLOCK).ids(plan) == Engine(first, CLOCK).ids(plan)


def test_no_row_is_wanted(reference: elenchus.Site) -> None:
    """Where the limit is none, no order is looked through, however large the site."""
    with ways_of_large_sites(wanted=True):
        for _ in range(3):
            reference.engine.kept.results.clear()
            assert elenchus.ask(reference, "order by oldest limit 0").rows == ()
