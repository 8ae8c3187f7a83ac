"""One question from text to answer: parsed, checked against a site, run."""

from __future__ import annotations

import shlex
from pathlib import PurePath
from typing import TYPE_CHECKING

from elenchus.engine.describe import Block, about, everything, found_by
from elenchus.engine.explain import explain
from elenchus.engine.run import run
from elenchus.engine.verdict import judge
from elenchus.errors import NoSuchName, Problem, QuestionError
from elenchus.language.parameters import bind
from elenchus.language.parser import read
from elenchus.plan.check import check
from elenchus.values.dates import from_instant
from elenchus.values.texts import either, fold, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.engine.answer import Answer
    from elenchus.engine.explain import Explanation
    from elenchus.engine.verdict import Verdict
    from elenchus.plan.nodes import Plan
    from elenchus.site.site import Site
    from elenchus.table.dataset import Dataset

__all__ = ["ask", "describe", "plan_of", "row_of", "why", "why_entry"]


def ask(
    site: Site, question: str, *, page: int | str = 1, given: Mapping[str, str | Sequence[str]] | None = None
) -> Answer:
    """Return one page of the answer to a question about a site.

    ``given`` holds the values of the question's parameters, a text or several for each name.
    Raises QuestionError with every problem of form and meaning at once, NoSuchPage for a page outside
    1 … pages, SiteError when the content cannot be read.
    """
    return run(plan_of(site, question, given), site.dataset, site.clock, question, page)


def why(site: Site, question: str, *, given: Mapping[str, str | Sequence[str]] | None = None) -> Explanation:
    """Return why the answer to a question is as it is: what each step leaves and removes.

    Raises QuestionError, SiteError.
    """
    return explain(plan_of(site, question, given), site.dataset, site.clock, question)


def why_entry(
    site: Site, question: str, name: str, *, given: Mapping[str, str | Sequence[str]] | None = None
) -> Verdict:
    """Return what becomes of one entry (or term, where the rows are terms) in the answer to a question.

    ``name`` is an id, a slug or kind/slug. Raises NoSuchName, QuestionError, SiteError.
    """
    plan = plan_of(site, question, given)
    return judge(plan, site.dataset, site.clock, row_of(site.dataset, plan.taxonomy, name))


def describe(site: Site, text: str | None = None) -> list[Block]:
    """Return what a site holds; with a text, what it names, or else what has it in its name.

    Raises NoSuchName when the text is found nowhere, SiteError when the content cannot be read.
    """
    data, now = site.dataset, site.clock.now
    if text is None:
        return [site_block(site), *everything(data, now)]
    found = about(data, now, text.strip()) or found_by(data, now, text.strip())
    if found:
        return found
    names = [*data.kind_names, *data.taxonomies, *data.schema.fields, *data.schema.conditions, *data.names]
    labels = [label for taxonomy in data.taxonomies.values() for label in taxonomy.labels]
    words = (word for label in labels for word in label.split("-"))
    near = nearest(text, [*names, *labels]) or nearest(text, words)
    hint = f"Did you mean {either(near)}?" if near else "elenchus describe alone lists kinds and taxonomies."
    raise NoSuchName([Problem("unknown-name", f"nothing on the site is called {quoted(text)}", hint)])


def site_block(site: Site) -> Block:
    """Return what a site is: where, when, from which sources, with how many problems."""
    made, data = site.definition, site.dataset
    now = f"{from_instant(site.clock.now, site.clock.zone):%Y-%m-%d %H:%M} {site.clock.zone.key}"
    pinned = " (pinned by the site)" if made.clock == site.clock.now else ""
    sources = [(f"source {spec.name}", f"{spec.read} in {spec.path}") for spec in made.sources]
    wrong = f"{len(data.problems)} in the content" if data.problems else "none"
    facts = [("folder", str(made.folder)), ("now", now + pinned), *sources, ("problems", wrong)]
    return Block(made.title or "A site without a title", tuple(facts))


def row_of(data: Dataset, taxonomy: str, name: str) -> int:
    """Return the row of an entry or a term by its name. Raises NoSuchName."""
    rows = data.taxonomies[taxonomy].find(name) if taxonomy else data.find_entry(name)
    if len(rows) == 1:
        return rows[0]
    what = taxonomy or "entry"
    if rows:
        labels = data.taxonomies[taxonomy].labels if taxonomy else data.entries.ids
        hint = f"Write {either(labels[row] for row in rows)}."
        raise NoSuchName([Problem("ambiguous-name", f"{quoted(name)} may be {len(rows)} of them", hint)])
    stem = fold(name.rpartition("/")[2])
    for problem in data.problems:
        if problem.place and fold(PurePath(problem.place.file).stem) == stem:
            message = f"no {what} is called {quoted(name)}, for its file cannot be used: {problem.message}"
            raise NoSuchName([Problem("left-out", message, problem.hint, place=problem.place)])
    near = data.taxonomies[taxonomy].suggest(name) if taxonomy else nearest(name, data.names)
    hint = (
        f"Did you mean {either(near)}?"
        if near
        else f"elenchus describe {shlex.quote(name)} looks everywhere."
    )
    raise NoSuchName([Problem("unknown-name", f"no {what} is called {quoted(name)}", hint)])


def plan_of(site: Site, question: str, given: Mapping[str, str | Sequence[str]] | None = None) -> Plan:
    """Return the checked plan of a question. Raises QuestionError."""
    tree, problems = read(question)
    texts = {name: [value] if isinstance(value, str) else value for name, value in (given or {}).items()}
    tree, unbound = bind(tree, texts)
    plan, wrong = check(tree, site.dataset, site.clock, salt=site.definition.seed)
    if problems or unbound or wrong:
        raise QuestionError(question, [*problems, *unbound, *wrong])
    return plan
