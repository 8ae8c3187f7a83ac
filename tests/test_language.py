"""The language: texts to trees and back, and every error as the user reads it."""

from __future__ import annotations

import shlex
import shutil
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import elenchus
from conftest import Run, cases, often
from elenchus.errors import Problem, Replacement
from elenchus.language import nodes
from elenchus.language.parser import NAMED_ORDERS, read
from elenchus.operators import Operands, all_operators
from elenchus.pieces.problems import question_problems

NAMES = st.text(min_size=1, max_size=8) | st.sampled_from(
    [
        "where",
        "last",
        "today",
        "newest",
        "a.b",
        "last 3 days",
        "2026-05-18T09:00+01:00",
        "count",
        "random",
        "with",
        ":x",
    ]
)
LITERALS = st.builds(nodes.Literal, NAMES)
VALUES = (
    LITERALS | LITERALS | st.builds(nodes.Parameter, st.sampled_from(["here", "a_b", "x-1"]), st.booleans())
)
WORDS_OF_PATHS = st.sampled_from(["a", "date", "x-y", "from", "is", "2026", "été", "given"])
PATHS = (
    st.builds(nodes.Path, st.lists(WORDS_OF_PATHS, min_size=1, max_size=3).map(tuple))
    | st.builds(lambda name: nodes.Path((name,)), NAMES)
    | st.builds(
        nodes.Path,
        st.lists(st.sampled_from("abc"), min_size=2, max_size=2).map(tuple),
        st.booleans().filter(bool),
    )
)
COUNTS = {Operands.NONE: (0, 0), Operands.ONE: (1, 1), Operands.PAIR: (2, 2), Operands.SOME: (1, 4)}


def several(
    values: st.SearchStrategy[Any], least: int = 1, most: int = 3
) -> st.SearchStrategy[tuple[Any, ...]]:
    return st.lists(values, min_size=least, max_size=most).map(tuple)


COMPARES = st.sampled_from(all_operators()).flatmap(
    lambda record: st.builds(
        nodes.Compare, PATHS, st.just(record.name), several(VALUES, *COUNTS[record.operands]), st.booleans()
    )
)
CONDITIONS = st.recursive(
    COMPARES | st.builds(nodes.Flag, PATHS) | st.builds(nodes.Related, VALUES, several(LITERALS, 0)),
    lambda inner: (
        st.builds(nodes.Not, inner)
        | st.builds(nodes.And, several(inner, 2))
        | st.builds(nodes.Or, several(inner, 2))
    ),
    max_leaves=8,
)
NUMBERS = st.integers(0, 999_999_999)
POSITIVE = st.integers(1, 999)
KEYS = st.builds(nodes.OrderKey, st.sampled_from(NAMED_ORDERS)) | st.builds(
    nodes.OrderKey, st.just("field"), PATHS, st.booleans(), st.booleans(), st.booleans()
)
GROUP_KEYS = st.builds(
    nodes.GroupKey,
    PATHS,
    several(VALUES, 0),
    st.sampled_from(["value", "count", "name"]),
    st.none() | st.booleans(),
)
QUESTIONS = st.builds(
    nodes.Question,
    source=st.none() | st.builds(nodes.From, several(LITERALS)),
    unpublished=st.none() | st.builds(nodes.Unpublished),
    where=st.none() | st.builds(nodes.Where, CONDITIONS),
    order=st.none() | st.builds(nodes.Order, several(KEYS)),
    lead=st.none() | st.builds(nodes.Lead, several(VALUES)),
    at_most=st.none() | st.builds(nodes.AtMost, POSITIVE, PATHS),
    group=st.none() | st.builds(nodes.GroupClause, several(GROUP_KEYS), st.booleans()),
    offset=st.none() | st.builds(nodes.Offset, NUMBERS),
    limit=st.none() | st.builds(nodes.Limit, st.none() | NUMBERS),
    group_limit=st.none() | st.builds(nodes.LimitGroups, st.integers(1, 99)),
    per_group=st.none() | st.builds(nodes.LimitPerGroup, NUMBERS),
    per_page=st.none() | st.builds(nodes.PerPage, POSITIVE),
)


@given(QUESTIONS)
@settings(max_examples=often(300), deadline=None)
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
    for problem in caught.value.problems:
        if isinstance(problem.cure, Replacement):  # written into the question, it puts this one right
            span, asked = problem.cure.span, case["question"]
            cured = f"{asked[: span.start]}{problem.cure.text}{asked[span.end :]}"
            left = {(each.code, each.message) for each in problems_of(reference, cured)}
            assert (problem.code, problem.message) not in left


def problems_of(site: elenchus.Site, question: str) -> Sequence[Problem]:
    """Return what is wrong with a question."""
    try:
        elenchus.ask(site, question)
    except elenchus.QuestionError as error:
        return error.problems
    return ()


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
    "bad-pattern",
    "too-long",
    "too-deep",
    "too-many",
    "no-clause",
    "clause-twice",
    "expected",
    "not-a-number",
    "unexpected-text",
}

WORDS = [
    "from", "where", "order by", "per page", "limit", "not", "and", "or", "(", ")", ",", "=", "<", "in", "under",
    "between", "is set", "contains", "habitat", "date", "title", "individuals", "shore", "2026", "today", "'", '"',
    "group by", "with empty", "related to", "lead with", "at most 2 per", ":here", ":x?", "count of", "sighting.station",
    "matches", "(a+)+$", "random", "natural", "including unpublished", "last 3 days", "#", "\\", "\u202e", "\0", "9" * 400, "é", "🦭", "now",
]  # fmt: skip


@given(st.lists(st.sampled_from(WORDS) | st.text(max_size=6), max_size=40).map(" ".join))
@settings(max_examples=often(500), deadline=None)
def test_any_text(reference: elenchus.Site, text: str) -> None:
    """Whatever the text, there is an answer or an error whose spans lie inside it, with a printable caret."""
    try:
        elenchus.ask(reference, text)
    except elenchus.NoSuchName as error:  # a single word may be the name of a listing
        assert error.problems[0].code == "unknown-listing"
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
        "where title matches '" + "(a?){50}" * 2_000 + "'",
        "where title matches '(" + "a{1,999}" * 100 + ")'",
        "group by " + "habitat, " * 2_000 + "kind",
        "where related to s1 by " + "habitat, " * 2_000 + "species",
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


@pytest.mark.parametrize("record", all_operators(), ids=lambda record: record.name)
def test_laws(reference: elenchus.Site, record: Any) -> None:
    """A negated operator holds exactly where the plain one does not; with a missing value it holds."""
    fields = reference.dataset.schema.fields_of("sighting") | reference.dataset.schema.fields_of("outing")
    taken = [field for field in fields.values() if record.fits(field.type) and field.name in WORD_OF]
    assert taken
    for field in taken:
        words = [
            "(" if record.operands is Operands.SOME else "",
            WORD_OF[field.name],
            ")" * (record.operands is Operands.SOME),
        ]
        value = {Operands.NONE: "", Operands.PAIR: f"{WORD_OF[field.name]} and {WORD_OF[field.name]}"}.get(
            record.operands, "".join(words)
        )
        sentence = f"{field.name} {record.name} {value}"
        plain, negated, missing = (
            {row.id for row in elenchus.ask(reference, f"where {text}").rows}
            for text in (
                sentence,
                sentence.replace(f" {record.name} ", f" not {record.name} ", 1),
                f"{field.name} is missing",
            )
        )
        assert plain | negated == {row.id for row in elenchus.ask(reference, "").rows}
        assert not plain & negated
        if record.name == "is missing":
            assert plain == missing
        else:
            assert missing <= negated


WORD_OF = {
    "individuals": "9", "starts": "2026-06-13", "date": "2026-05", "status": "published", "title": "seal",
    "habitat": "rocky-shore", "species": "limpet", "pinned": "yes", "parent": "s1", "author": "s1",
}  # fmt: skip


@pytest.mark.parametrize("record", all_operators(), ids=lambda record: record.name)
def test_examples(demo_site: elenchus.Site, record: Any) -> None:
    """Every example of an operator's record is asked of the demo, and finds something."""
    assert record.examples
    for example in record.examples:
        assert elenchus.ask(demo_site, example.question).matched > 0, example.question
        assert record.name in example.question or record.opposite in example.question


def test_random_orders(demo_site: elenchus.Site) -> None:
    """A lot is the same all day and for everybody, another on the next day; a fixed one stays."""
    folder = elenchus.demo_folder()
    later, tomorrow = (elenchus.open_site(folder, at=at) for at in ("2026-06-15T23:00", "2026-06-16"))

    def drawn(site: elenchus.Site, order: str) -> list[str]:
        return [
            row.id for row in elenchus.ask(site, f"from sighting where date < 2026-06 order by {order}").rows
        ]

    assert drawn(demo_site, "random") == drawn(later, "random") != drawn(tomorrow, "random")
    assert drawn(demo_site, "random fixed") == drawn(tomorrow, "random fixed") != drawn(demo_site, "random")
    assert drawn(demo_site, "random")[:3] == [
        "sighting/dune-pansies",
        "sighting/shore-crabs-under-the-kelp",
        "sighting/limpets-before-the-storm",
    ]
    few = [
        row.id for row in elenchus.ask(demo_site, "from sighting where date < 2026-03 order by random").rows
    ]
    assert few == [name for name in drawn(demo_site, "random") if name in few]  # others do not reshuffle them


@pytest.mark.parametrize("case", cases("habits.toml"), ids=lambda case: case["question"])
def test_habits(demo_site: elenchus.Site, case: dict[str, Any]) -> None:
    """Whoever writes as another notation has it is told what to write here."""
    with pytest.raises(elenchus.QuestionError) as caught:
        elenchus.ask(demo_site, case["question"])
    assert [problem.hint for problem in caught.value.problems] == case["hints"]


@pytest.mark.parametrize(
    ("command", "code", "says"),
    [
        ("ask 'from guide' --format ids", 2, "It is called lines now."),
        ("ask 'from guide' --format count", 2, "It is called number now."),
        ("ask 'from guide' --pretend 3", 2, "--pretend is called --as-if now."),
        ("why find --pretend 3", 2, "No such option '--pretend'"),
        ("publish --all", 2, "--all is called --in-full now."),
        ("ask 'from habitat where total > 3'", 3, "It is called with_below now."),
        ("ask 'from habitat where count > 3'", 3, "It is called own now."),
        ("check --about misfit", 7, "It is called unfit-value now."),
        ("check --about unpublished-choices", 7, "It is called choices-on-preview-only now."),
        ("ask 'from guide' --at foo", 2, "--at “foo” is not a date."),
        ("ask 'from guide group by date.month' --chart x.gif", 2, "the file x.gif ends neither in .svg nor in .png"),
        ("ask by-habitat --with habitat=quarry", 3, "--with habitat: No habitat is called “quarry”"),
        ("ask 'where date in next week'", 0, "cannot be seen now: 1 scheduled"),
        ("ask 'where date.weekday = 8' --format number", 0, "no date has the weekday 8"),
        ("ask 'where parent = :here' --with here=guide/birds-at-nigt", 3, "Did you mean guide/birds-at-night"),
        ("ask 'where level = :here.level' --with here=guide/birds-at-nigt", 3, "--with here: No entry or term is called"),
        ("ask 'from guide where level = :here.level' --with here=guide/birds-at-night -f number", 0, "3"),
        ("ask 'from guide where level = :here.level' --with here=dunes", 0, "because the row of the page has no level"),
        ("ask 'from guide where level = :here.level'", 3, "there is no page here"),
        ("ask 'where title = \"Birds at night\"' --as-if 2 --format number", 0, "3"),
        ("ask 'where slug = birds-at-night' --as-if 2", 7, "No further entry could match: slug is “birds-at-night”"),
        ("ask 'where title = \"As if 1\"' --as-if 2", 7, "No entry matches"),
    ],
)  # fmt: skip
def test_words(run: Run, demo_site: elenchus.Site, command: str, code: int, says: str) -> None:
    """Names that were given up say the new one; what was asked wrongly is said where it stands."""
    done = run(*shlex.split(command), cwd=demo_site.definition.folder)
    assert done.returncode == code
    assert says in done.stdout + done.stderr


@pytest.mark.parametrize(
    ("file", "old", "new", "says"),
    [
        ("pages.toml", "address = ", "path = ", "It is called address now."),
        ("listings.toml", "layout = \"cards\"", "layout = \"cards\"\ncolumns = 2", "It is called per_row now."),
        ("elenchus.toml", "at_least", "least", "It is called at_least now."),
        ("notebook/guide/birds-at-night.md", "title:", "status: pending\ntitle:", "Write draft."),
        ("templates/page.html", "", "x", "is called sheet.html now"),
        ("templates/sheet.html", "", "{{ page.heading }}", "page is called sheet now"),
        ("templates/rows.html", "", "{{ part.empty }}", "empty is called empty_message now"),
    ],
)  # fmt: skip
def test_words_in_files(run: Run, tmp_path: Path, file: str, old: str, new: str, says: str) -> None:
    """So do those in files, with the file."""
    path = Path(shutil.copytree(elenchus.demo_folder(), tmp_path / "site")) / file
    path.parent.mkdir(exist_ok=True)
    text = path.read_text(encoding="utf-8") if path.exists() else ""
    assert old in text
    path.write_text(text.replace(old, new, 1) if old else new, encoding="utf-8")
    done = run("check", cwd=tmp_path / "site")
    said = done.stdout + done.stderr
    assert done.returncode in (0, 1, 4)
    assert says in " ".join(said.split())
    assert file in said
