"""The language: texts to trees and back, and every error as the user reads it."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import elenchus
from conftest import cases
from elenchus.language import nodes
from elenchus.language.parser import read
from elenchus.layout.problems import question_problems
from elenchus.operators import Operands, all_operators

NAMES = st.text(min_size=1, max_size=8) | st.sampled_from(
    ["where", "last", "today", "newest", "a.b", "last 3 days", "2026-05-18T09:00+01:00"]
)
LITERALS = st.builds(nodes.Literal, NAMES)
PATHS = st.builds(
    nodes.Path,
    st.lists(st.sampled_from(["a", "date", "x-y", "from", "is", "2026", "été"]), min_size=1, max_size=3).map(
        tuple
    ),
) | st.builds(lambda name: nodes.Path((name,)), NAMES)
COUNTS = {Operands.NONE: (0, 0), Operands.ONE: (1, 1), Operands.PAIR: (2, 2), Operands.SOME: (1, 4)}
COMPARES = st.sampled_from(all_operators()).flatmap(
    lambda record: st.builds(
        nodes.Compare,
        PATHS,
        st.just(record.name),
        st.lists(LITERALS, min_size=COUNTS[record.operands][0], max_size=COUNTS[record.operands][1]).map(
            tuple
        ),
        st.booleans(),
    )
)
CONDITIONS = st.recursive(
    COMPARES | st.builds(nodes.Flag, PATHS),
    lambda inner: (
        st.builds(nodes.Not, inner)
        | st.builds(nodes.And, st.lists(inner, min_size=2, max_size=3).map(tuple))
        | st.builds(nodes.Or, st.lists(inner, min_size=2, max_size=3).map(tuple))
    ),
    max_leaves=8,
)
NUMBERS = st.integers(0, 999_999_999)
KEYS = st.builds(nodes.OrderKey, st.sampled_from(["newest", "oldest"])) | st.builds(
    nodes.OrderKey, st.just("field"), PATHS, st.booleans()
)
QUESTIONS = st.builds(
    nodes.Question,
    source=st.none() | st.builds(nodes.From, st.lists(LITERALS, min_size=1, max_size=3).map(tuple)),
    where=st.none() | st.builds(nodes.Where, CONDITIONS),
    order=st.none() | st.builds(nodes.Order, st.lists(KEYS, min_size=1, max_size=3).map(tuple)),
    offset=st.none() | st.builds(nodes.Offset, NUMBERS),
    limit=st.none() | st.builds(nodes.Limit, st.none() | NUMBERS),
    per_page=st.none() | st.builds(nodes.PerPage, st.integers(1, 999)),
)


@given(QUESTIONS)
@settings(max_examples=300, deadline=None)
def test_print_then_parse(question: nodes.Question) -> None:
    """A printed tree parses to an equal tree."""
    assert elenchus.parse(elenchus.print_question(question)) == question


@pytest.mark.parametrize("case", cases("errors.toml"), ids=lambda case: case["question"])
def test_error_text(reference: elenchus.Site, case: dict[str, Any]) -> None:
    """All errors of a question come at once, each with its caret, in the words that the case shows."""
    with pytest.raises(elenchus.QuestionError) as caught:
        elenchus.ask(reference, case["question"])
    text = "".join(piece.text for piece in question_problems(caught.value.text, caught.value.problems))
    assert text == case["text"].lstrip("\n")


@pytest.mark.parametrize(
    ("text", "same"),
    [
        ("FROM guide WHERE pinned ORDER BY title DESC", "from guide where pinned order by title desc"),
        ("limit 3\n\nfrom   guide", "from guide limit 3"),
        ("where 'a' = \"b\"", "where a = b"),
        ("where a not = b", "where a != b"),
        ("where a in (b)", "where a in b"),
        ("where ((a = b))", "where a = b"),
        ("where a is not set", "where a not is set"),
        ("where a in last 3 days", 'where a in "last 3 days"'),
        ('where a = "it\\"s\\n"', "where a = 'it\"s\n'"),
        ("order by title asc", "order by title"),
    ],
)
def test_same_tree(text: str, same: str) -> None:
    """Spelling, quotes, case and the order of clauses make no difference."""
    assert elenchus.parse(text) == elenchus.parse(same)


def test_comments() -> None:
    """In files # begins a comment; on the command line it is an error."""
    tree, problems = read("from guide # all of them\nlimit 3", comments=True)
    assert (tree, problems) == (elenchus.parse("from guide limit 3"), [])
    with pytest.raises(elenchus.QuestionError, match="Comments stand in files only"):
        elenchus.parse("from guide # all of them")


LARGE_CODES = {
    "too-long",
    "too-deep",
    "too-many",
    "no-clause",
    "clause-twice",
    "expected",
    "not-a-number",
    "left-over",
}

WORDS = [
    "from", "where", "order by", "per page", "limit", "not", "and", "or", "(", ")", ",", "=", "<", "in", "under",
    "between", "is set", "contains", "habitat", "date", "title", "individuals", "shore", "2026", "today", "'", '"',
    "last 3 days", "#", "\\", "\u202e", "\0", "9" * 400, "é", "🦭", "now",
]  # fmt: skip


@given(st.lists(st.sampled_from(WORDS) | st.text(max_size=6), max_size=40).map(" ".join))
@settings(max_examples=500, deadline=None)
def test_any_text(reference: elenchus.Site, text: str) -> None:
    """Whatever the text, there is an answer or an error whose spans lie inside it, with a printable caret."""
    try:
        elenchus.ask(reference, text)
    except elenchus.QuestionError as error:
        assert all(
            problem.span and 0 <= problem.span.start <= problem.span.end <= len(text)
            for problem in error.problems
        )
        assert (
            "".join(piece.text for piece in question_problems(text, error.problems))
            .replace("\n", "")
            .isprintable()
        )


@pytest.mark.parametrize(
    "text",
    [
        "where " + "(" * 15_000,
        "where " + "not " * 4_900 + "pinned",
        "where " + "pinned and " * 1_800 + "pinned",
        "where id in (" + "s1, " * 4_000 + "s1)",
        "where title contains '" + "a" * 19_000 + "'",
        "where " * 3_000,
        "where individuals = " + "9" * 19_000,
        "x" * 1_000_000,
    ],
    ids=lambda text: text[:20],
)
def test_large_texts(reference: elenchus.Site, text: str) -> None:
    """Deep, long and huge questions end in an answer or an error with a code, never in a fault."""
    try:
        assert elenchus.ask(reference, text).pages >= 1
    except elenchus.QuestionError as error:
        assert {problem.code for problem in error.problems} <= LARGE_CODES
