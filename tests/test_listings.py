"""Listings: what they inherit, what their parameters take, what can be tried and added as if."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import elenchus
from conftest import HERE, Run, Write, cases, often
from elenchus.asking.query import Query
from elenchus.errors import Place
from elenchus.report.explanations import verdict
from elenchus.site.inheritance import Library
from elenchus.site.listings import ListingRule, Rules

LISTINGS = """
[by-habitat]
ask = '''
where habitat under :habitat    # comments may stand here
  and :when?
order by :order
'''
[by-habitat.parameters]
habitat = { type = "habitat", many = true, label = "Habitat", absent = "choices" }
order = { orders = { newest = "newest", "a-z" = "title" }, default = "newest" }
when = { conditions = { "any time" = "", "this month" = "date in this month" } }

[sizes]
ask = "from sighting where individuals >= :size and individuals < :most? order by individuals desc"
parameters = { size = { choices = { few = "1", many = 12 }, default = "many" }, most = { type = "integer" } }

[animals]
ask = "where species in :of"
parameters = { of = { type = "species", choices = { seals = ["grey-seal", "harbour-seal"], birds = "dunlin" } } }

[quiet]
ask = "where habitat = :habitat"
parameters = { habitat = { type = "habitat", absent = "nothing" } }

[strict]
based_on = "quiet"
parameters = { habitat = { type = "habitat" } }

[newest-three]
ask = "limit 3"

[filled]
ask = "where habitat = dunes"
fill_from = "newest-three"
at_least = 3

[round]
ask = "from square"

[square]
ask = "where listed in round"
"""


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> elenchus.Site:
    """Return the reference site with listings."""
    import shutil

    folder = Path(shutil.copytree(HERE / "reference", tmp_path_factory.mktemp("listings") / "site"))
    (folder / "listings.toml").write_text(LISTINGS.replace('few = "1"', 'few = ["1"]'), encoding="utf-8")
    return elenchus.open_site(folder)


@pytest.mark.parametrize(
    "case", cases("parameters.toml"), ids=lambda case: f"{case['ask']} {case.get('with', '')}"[:70]
)
def test_parameters(site: elenchus.Site, case: dict[str, Any]) -> None:
    """A listing with values gives the rows, the choices or the error of the case."""
    if "error" in case:
        code, message = case["error"]
        with pytest.raises(elenchus.QuestionError) as raised:
            elenchus.ask(site, case["ask"], given=case.get("with"))
        assert code in [problem.code for problem in raised.value.problems]
        assert message in str(raised.value)
        return
    answer = elenchus.ask(site, case["ask"], given=case.get("with"))
    assert " ".join(row.id for row in answer.rows) == case["ids"]
    assert case.get("notice", "") in "".join(notice.message for notice in answer.notices)
    if "choices" in case:
        assert answer.choices is not None
        counts = {each.value: each.count for each in answer.choices.choices}
        assert counts | case["choices"] == counts


CLAUSES = {
    "source": ["from sighting", "from guide, report"],
    "where": ["where habitat under shore", "where pinned or species is set", "where not pinned"],
    "order": ["order by title", "order by newest"],
    "limit": ["limit 3", "limit 5"],
    "offset": ["offset 1", "offset 2"],
    "per_page": ["per page 2"],
    "group": ["group by kind"],
}
REMOVALS = {
    "source": "no from",
    "where": "no where",
    "order": "no order by",
    "limit": "no limit",
    "offset": "no offset",
}
WRITTEN = st.fixed_dictionaries(
    {}, optional={name: st.sampled_from(texts) for name, texts in CLAUSES.items()}
)
OVERRIDE = st.tuples(
    WRITTEN,
    st.none() | st.sampled_from(["and where certainty is missing", "and where pinned or date in 2026"]),
    st.lists(st.sampled_from(sorted(REMOVALS)), max_size=2, unique=True),
)


def library(texts: dict[str, tuple[str, str]]) -> Library:
    """Return listings by name: what each is based on, and what it asks."""
    place = Place("listings.toml", 1)
    rules = {name: ListingRule(name, place, ask=ask, based_on=base) for name, (base, ask) in texts.items()}
    return Library(Rules(rules))


def text_of(written: dict[str, str], also: str | None, without: list[str]) -> str:
    """Return the text of an override; where it replaces a clause it does not remove or join it as well."""
    removed = [REMOVALS[name] for name in without if name not in written]
    joined = [also] if also and "where" not in written else []
    return " ".join([*written.values(), *joined, *removed])


@settings(max_examples=often(200), deadline=None)
@given(WRITTEN, OVERRIDE, OVERRIDE, WRITTEN)
def test_inheritance(
    base: dict[str, str],
    one: tuple[dict[str, str], str | None, list[str]],
    other: tuple[dict[str, str], str | None, list[str]],
    changed: dict[str, str],
) -> None:
    """Clause by clause: the nearest that writes it wins; a base reaches only what inherits it; siblings never."""
    one_text, other_text = text_of(*one), text_of(*other)
    made = library(
        {"base": ("", " ".join(base.values())), "one": ("base", one_text), "two": ("base", other_text), "sub": ("one", "limit 9"), "alone": ("", "limit 2")}
    )  # fmt: skip
    after = library(
        {"base": ("", " ".join(changed.values())), "one": ("base", one_text), "two": ("base", other_text), "sub": ("one", "limit 9"), "alone": ("", "limit 2")}
    )  # fmt: skip
    written, also, without = one
    for name in CLAUSES:
        before = getattr(made.get("base").question, name)
        expected = getattr(elenchus.parse(written.get(name, "")), name)
        found = getattr(made.get("one").question, name)
        if name in written:
            assert found == expected
        elif name in without and not (name == "where" and also):
            assert found is None
        elif name == "where" and also:
            inherited = [] if name in without or name not in base else [base[name].removeprefix("where ")]
            parts = [*inherited, also.removeprefix("and where ")]
            joined = " and ".join(f"({part})" if " or " in part else part for part in parts)
            assert found == elenchus.parse(f"where {joined}").where
        else:
            assert found == before
            assert getattr(after.get("one").question, name) == getattr(after.get("base").question, name)
        origin = made.get("one").clauses.get(name)
        assert (origin is None) == (found is None)
        if origin and name not in written and not (name == "where" and also):
            assert [each.name for each in origin] == ["base"]
        if name not in ("limit",):
            assert getattr(made.get("sub").question, name) == found
        if name in written or (name in without and not (name == "where" and also)):
            assert getattr(after.get("one").question, name) == found
    assert (
        made.get("two").question
        == library({"base": ("", " ".join(base.values())), "two": ("base", other_text)}).get("two").question
    )
    assert after.get("alone").question == made.get("alone").question


@settings(max_examples=often(100), deadline=None)
@given(
    st.sampled_from(
        ["", "from sighting", "from guide, outing", "where habitat under shore", "where not pinned"]
    ),
    st.sampled_from(["", "order by title", "order by oldest", "order by kind, id desc"]),
    st.sampled_from(
        ["", "limit 4", "offset 2 limit 3", "per page 2", "lead with s5, g1 limit 4", "at most 1 per kind"]
    ),
    st.sampled_from(["", "where species is set", "from sighting", "order by title limit 3"]),
)
def test_rows_of_a_listing(reference: elenchus.Site, where: str, order: str, cut: str, outer: str) -> None:
    """A source has its rows in its order; listed in X and its negation part all others between them."""
    site = reference.with_entries(())
    text = f"{where} {order} {cut}"
    site.content.__dict__["library"] = library({"x": ("", text.strip() or "limit all")})
    rows = [row.id for row in elenchus.ask(site, text.replace("per page 2", "")).rows]
    assert [row.id for row in elenchus.ask(site, "from x").rows] == rows
    every = [row.id for row in elenchus.ask(site, outer).rows] if "limit" not in outer else []
    joint = "and" if "where" in outer else "where"
    found = [row.id for row in elenchus.ask(site, f"{outer} {joint} listed in x").rows] if every else []
    others = [row.id for row in elenchus.ask(site, f"{outer} {joint} not listed in x").rows] if every else []
    assert (found, others) == (
        [name for name in every if name in rows],
        [name for name in every if name not in rows],
    )
    if "from" not in outer:
        inner = [row.id for row in elenchus.ask(site, f"from x {outer}").rows]
        assert set(inner) <= set(rows)
        if not outer.startswith("order"):
            assert inner == [name for name in rows if name in every]


def test_origins(site: elenchus.Site, run: Run) -> None:
    """Describe tells of each clause, setting and parameter where it comes from."""
    done = run("describe", "shore-sidebar", "--site", str(elenchus.demo_folder()))
    lines = {line.split()[0]: line for line in done.stdout.splitlines() if line.strip()}
    assert lines["limit"].endswith("shore-sidebar (listings.toml:28)")
    assert "fresh-from-shore (listings.toml:15), shore-sidebar (listings.toml:28)" in lines["where"]
    assert lines["fill_from"].endswith("fresh-from-shore (listings.toml:21)")
    assert site.library.get("strict").parameters["habitat"][1].name == "strict"


@pytest.mark.parametrize(
    ("ask", "changes", "ids"),
    [
        ("newest-three", "limit 1", "s2"),
        ("newest-three", "from guide no limit", "g4 g2 g3 g1"),
        ("newest-three", "and where kind = report", "p1 p2 p3"),
        ("from guide where pinned", "no where limit 2", "g4 g2"),
        ("from sighting where pinned or species = limpet", "and where habitat = tide-pools", "s3"),
    ],
)
def test_try(site: elenchus.Site, ask: str, changes: str, ids: str) -> None:
    """--try replaces, joins and removes clauses for one run."""
    assert " ".join(row.id for row in elenchus.ask(site, ask, changes=changes).rows) == ids


@pytest.mark.parametrize(
    ("ask", "count", "pages", "first"),
    [
        ("per page 6", 0, 3, "s2"),
        ("per page 6", 1, 4, "as-if-1"),
        ("newest-three", 2, 1, "as-if-1"),
        ("where date in 2025 per page 2", 1, 3, "as-if-1"),
    ],
)
def test_as_if(site: elenchus.Site, ask: str, count: int, pages: int, first: str) -> None:
    """--as-if shows a pager as it will be with more entries, and never touches a file."""
    before = sorted((path, path.stat().st_mtime_ns) for path in site.definition.folder.rglob("*"))
    answer = elenchus.ask(site, ask, as_if=count)
    assert (answer.pages, answer.rows[0].id) == (pages, first)
    assert len(site.dataset.entries) == 20
    assert sorted((path, path.stat().st_mtime_ns) for path in site.definition.folder.rglob("*")) == before


def test_nothing_as_if(site: elenchus.Site) -> None:
    """Where nothing matches, nothing can be added as if; terms cannot be either."""
    for ask in ("where habitat = open-water", "from habitat"):
        with pytest.raises(elenchus.NoSuchName, match=r"as if|none to make"):
            elenchus.ask(site, ask, as_if=1)


WHY = [
    ("filled", "s2", True, "Listed: 2 of 3"),
    ("filled", "s3", False, "habitat is dunes"),
    ("from newest-three where kind = sighting", "s1", True, "is listed in newest-three"),
    ("from newest-three", "s3", False, "It takes all of this:\n  is listed in newest-three"),
    ("where not listed in newest-three", "s2", False, "It takes all of this:\n  not listed in newest-three"),
    ("quiet", "s1", False, "all parameters that it needs are given"),
]


@pytest.mark.parametrize(("ask", "entry", "listed", "said"), WHY)
def test_why_an_entry(site: elenchus.Site, ask: str, entry: str, listed: bool, said: str) -> None:
    """The verdict on an entry knows sources, fillings, conditions on listings and absent parameters."""
    found = elenchus.why_entry(site, ask, entry)
    text = "".join(piece.text for piece in verdict(found))
    assert (found.listed, said in text) == (listed, True), text


def test_why_a_listing(site: elenchus.Site) -> None:
    """The funnel of a listing tells what it is filled up with, and of a source what that leaves."""
    filled = [(step.words, step.left) for step in elenchus.why(site, "filled").steps]
    assert filled[-2:] == [("habitat is dunes", 1), ("filled up with 2 of newest-three", 3)]
    inner = [
        (step.words, step.left)
        for step in elenchus.why(site, "from newest-three where kind = sighting").steps
    ]
    assert inner == [("entries", 20), ("public", 18), ("listed in newest-three", 3), ("kind is sighting", 2)]
    assert elenchus.why(site, "quiet").steps[-1].words == ":habitat is not given"


def test_random_by_name(site: elenchus.Site) -> None:
    """Two listings with the same random order draw each for itself, the same on every machine."""
    made = site.with_entries(())
    made.content.__dict__["library"] = library(dict.fromkeys(("a", "b"), ("", "order by random limit 6")))
    first, second = ([row.id for row in elenchus.ask(made, name).rows] for name in ("a", "b"))
    assert first != second
    assert first == [row.id for row in elenchus.ask(made, "from a").rows]


@pytest.mark.parametrize("file", ["listings.toml", "listings/more.toml"])
def test_errors_name_the_line(make_site: Write, run: Run, tmp_path: Path, file: str) -> None:
    """A mistake in a listing is reported with the line of its file, also inside a text of several lines."""
    make_site(
        {
            "elenchus.toml": '[site]\n[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n[kinds.note]\n[taxonomies.topic]\n',
            "n/a.md": "---\ntitle: A\ntopic: tides\n---\n",
            file: '[one]\ntitle = "One"\nask = """\nfrom note\nwhere topic = tidse\n"""\n\n[two]\nbased_on = "one"\nask = "order by titel"\n',
        }
    )
    assert f"{file}:5: No topic is called “tidse”.  [unknown-term]" in run("ask", "one", cwd=tmp_path).stderr
    inherited = run("ask", "two", cwd=tmp_path)
    assert inherited.returncode == 3
    assert f"{file}:10: There is no field “titel”." in inherited.stderr
    assert f"{file}:4: No topic is called “tidse”." in inherited.stderr


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ("limt 3", "limt 3\n    ^^^^\n    Did you mean limit?"),
        ("limit 2 no limitt", "limit 2 no limitt\n               ^^^^^^\n    Write no limit per group"),
        ("where pinned and where title = x", "a condition is changed twice"),
        ("and where titel = x", "titel = x"),
    ],
)
def test_errors_of_changes(run: Run, changes: str, said: str) -> None:
    """The caret stands below the change where that cannot be read, else below the question that it makes."""
    done = run("ask", "lead", "--try", changes, "--site", str(elenchus.demo_folder()))
    assert done.returncode == 3
    assert said.lower() in done.stderr.lower()


def test_values_beyond_listings(site: elenchus.Site) -> None:
    """What a page gives is known to a listing within another one as well."""
    assert (
        " ".join(
            row.id
            for row in elenchus.ask(site, "where related to :here by species", given={"here": "s1"}).rows
        )
        == "o2 s7 g1"
    )


def test_choices_are_counted_by_one_question(site: elenchus.Site, demo_site: elenchus.Site) -> None:
    """What each value of a parameter leaves is what asking with that value gives, whichever way it is counted."""
    at_once = 0
    for asked, name in [
        *((site, "by-habitat"), (site, "animals"), (site, "sizes")),
        *((demo_site, name) for name in ("by-habitat", "find")),
    ]:
        listing = asked.library.get(name)
        for rule, _ in listing.parameters.values():
            for others in ({}, {"habitat": ["shore"]}, {"species": ["grey-seal"], "order": ["a-z"]}):
                known = {
                    key: value
                    for key, value in others.items()
                    if key in listing.parameters and key != rule.name
                }
                query = Query(asked, listing, known)
                at_once += len(query.rows_of_values(rule))
                for choice in query.choices(rule).choices:
                    chosen = query.given_also({rule.name: [choice.value]})
                    assert choice.count == (chosen.count() if chosen.is_askable else None), (name, choice)
    assert at_once > 30


def test_a_name_with_two_meanings(make_site: Write, run: Run) -> None:
    """A listing that is called like a kind is an error there, and in each question that uses the name."""
    make_site(
        {
            "elenchus.toml": '[site]\ntitle = "T"\n[kinds.tide]\n[sources.notes]\nread = "markdown"\npath = "n"\nkind = "tide"\n',
            "listings.toml": '[tide]\nask = "order by title"\n[all]\nask = "from tide"\n',
            "n/a.md": "---\ntitle: A\n---\n",
        }
    )
    for question in ("from tide", "where listed in tide", "all"):
        found = run("ask", question)
        assert found.returncode == 3, question
        assert "“tide” is also the name of a listing, at listings.toml:1.  [name-clash]" in found.stderr
    assert run("check").stdout.count("[name-clash]") == 1
