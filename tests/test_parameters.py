"""Parameters: what is left of a question when some are given and some are not, and that values are only data."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import elenchus
from conftest import often
from elenchus.language.parameters import Given, bind


@pytest.mark.parametrize(
    ("question", "values", "left"),
    [
        ("where a = :x", {"x": ["1"]}, "where a = 1"),
        ("where a = :x", {"x": ["grey seal"]}, 'where a = "grey seal"'),
        ("where a = :x?", {}, ""),
        ("where a = :x?", {"x": [""]}, ""),
        ("where a = :x? limit 3", {"x": ["", ""]}, "limit 3"),
        ("where a = :x? and b = 2", {}, "where b = 2"),
        ("where a = :x? or b = 2 or c = 3", {}, "where b = 2 or c = 3"),
        ("where not a = :x?", {}, ""),
        ("where not (a = :x? or b = :y?)", {"y": ["2"]}, "where not b = 2"),
        ("where (a = :x? and b = :y?) or c = 3", {}, "where c = 3"),
        (
            "where (a = :x? and b = :y?) or c = 3",
            {"x": ["1"], "y": ["2"]},
            "where (a = 1 and b = 2) or c = 3",
        ),
        ("where a between :x? and :y?", {"x": ["1"]}, "where a >= 1"),
        ("where a between :x? and :y?", {"y": ["2"]}, "where a <= 2"),
        ("where a not between :x? and :y?", {"y": ["2"]}, "where a not <= 2"),
        ("where a between :x? and :y?", {"x": ["1"], "y": ["2"]}, "where a between 1 and 2"),
        ("where a between :x? and :y?", {}, ""),
        ("where a in :x", {"x": ["1", "2"]}, "where a in (1, 2)"),
        ("where a in (1, :x?, 4)", {}, "where a in (1, 4)"),
        ("where a in (:x?, :y?)", {"y": ["2", "", "3"]}, "where a in (2, 3)"),
        ("where a in (:x?, :y?)", {}, ""),
        ("where a is set and b under :x?", {}, "where a is set"),
        ("where related to :here and c = :x?", {"here": ["s1"]}, "where related to s1"),
        ("lead with :x?, g1", {}, "lead with g1"),
        ("lead with :x?", {}, ""),
        ("group by a under (:x, dunes)", {"x": ["shore"]}, "group by a under (shore, dunes)"),
    ],
)
def test_what_is_left(question: str, values: dict[str, list[str]], left: str) -> None:
    """A comparison goes with the optional parameter that nobody gave, and what it leaves empty goes too."""
    bound, problems = bind(elenchus.parse(question), Given(values))
    assert problems == []
    assert bound == elenchus.parse(left)


@pytest.mark.parametrize(
    ("question", "values", "code", "said"),
    [
        ("where a = :x", {}, "not-given", ":x has no value"),
        ("where a = :x and b = :x?", {"x": [""]}, "not-given", ":x has no value"),
        ("where a = :here", {}, "no-page-row", "there is no page here"),
        ("where a = :x", {"x": ["1", "2"]}, "many-given", "“=” takes one value, and 2 are given for :x"),
        ("related to :x", {}, None, None),
        (
            "where a = :x",
            {"x": ["1"], "habitt": ["2"]},
            "unknown-parameter",
            "the question has no parameter :habitt",
        ),
        ("limit 3", {"x": ["1"]}, "unknown-parameter", "It has none."),
        ("where a matches :x", {"x": ["1"]}, "fixed-pattern", "takes no parameter"),
    ],
)
def test_what_is_wrong(
    question: str, values: dict[str, list[str]], code: str | None, said: str | None
) -> None:
    """A value that is missing, or that nothing asks for, is an error with a name of its own."""
    if code is None or said is None:
        with pytest.raises(elenchus.QuestionError):
            elenchus.parse(question)
        return
    problem = bind(elenchus.parse(question), Given(values))[1][0]
    assert problem.code == code
    assert said in str(problem)


HOSTILE = st.text(max_size=30) | st.sampled_from(
    [
        'x" or pinned or title = "',
        "s1) or (pinned",
        "seal limit 0",
        ":here",
        "* from guide",
        "'; --",
        "\\",
        "\x00",
        "last 3 days",
    ]
)


@given(HOSTILE)
@settings(max_examples=often(300), deadline=None)
def test_values_are_data(reference: elenchus.Site, value: str) -> None:
    """Whatever a value holds, the question asks the same thing: whether the title is that text."""
    question = "from sighting where title = :value? order by title limit 2"
    found = [row["title"] for row in elenchus.ask(reference, question, given={"value": value}).rows]
    everything = ["Dunlin flock at dusk", "Eelgrass in flower"]
    assert found == (everything if value == "" else [])


def test_misspelt_value_is_no_empty_answer(reference: elenchus.Site) -> None:
    """A value that does not exist is an error; one that exists and has no entries is an empty answer."""
    question = "where habitat under :habitat"
    assert elenchus.ask(reference, question, given={"habitat": "open-water"}).rows == ()
    with pytest.raises(elenchus.QuestionError, match="Did you mean open-water"):
        elenchus.ask(reference, question, given={"habitat": "open-watr"})
