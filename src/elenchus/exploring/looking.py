"""What comes of a sketch: the rows that each line leaves, the answer, what is wrong and where."""

from __future__ import annotations

from contextlib import suppress
from typing import TYPE_CHECKING, Any

from elenchus.asking.here import with_here
from elenchus.asking.query import Query
from elenchus.errors import ElenchusError, NoSuchPage, QuestionError, moved
from elenchus.exploring.sketch import Sketch
from elenchus.frozen import Frozen, Working, member, replace
from elenchus.plan.walking import tests_in
from elenchus.site.inheritance import Origin

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.errors import Problem
    from elenchus.plan.answer import Answer, Group
    from elenchus.plan.explanation import Boundary, Verdict
    from elenchus.site.inheritance import Listing
    from elenchus.site.site import Site

__all__ = ["MOST_ROWS", "Basis", "Look", "SeenLine", "looked"]

MOST_ROWS = 200  # that are looked at
_OF_GROUP = 3
# Lines after which rows are counted. The others put rows in an order, or in groups.
_COUNTED = frozenset({"source", "unpublished", "where", "at_most", "offset", "limit"})


class Basis(Working):
    """What a sketch is asked of: a site, the listing whose settings it has, and values for its parameters.

    ``shown`` are the fields that its rows show in place of those of the listing; ``without`` are rows that
    it leaves out, because they stand on its page already. Of an answer without pages the first ``most`` rows
    are looked at, or groups.
    """

    site: Site
    listing: Listing
    given: Mapping[str, Sequence[str]] = member(default_factory=dict)
    shown: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    most: int = MOST_ROWS
    known: dict[Any, Any] = member(default_factory=dict)  # what was counted and offered already

    def query(self, sketch: Sketch) -> Query:
        """Return what a sketch asks."""
        written = sketch.written.text
        listing = replace(self.listing, text=written, question=sketch.question, at=None, problems=())
        if self.shown:
            origin = Origin(listing.name, listing.place)
            listing = replace(listing, settings={**listing.settings, "show": (self.shown, origin)})
        given = self.given
        with suppress(QuestionError):  # what is wrong with a name was told when it was given
            given = with_here(self.site, listing, given)
        return Query(self.site, listing, given, without=self.without)

    def count(self, sketch: Sketch) -> int | None:
        """Return the number of rows of a sketch; None where it cannot be asked. Each is counted once."""
        key = sketch, *((name, *texts) for name, texts in self.given.items())
        if key not in self.known:
            try:
                self.known[key] = self.query(sketch).count()
            except ElenchusError:
                self.known[key] = None
        found: int | None = self.known[key]
        return found


class SeenLine(Frozen):
    """A line of a sketch with the rows that are left after it, and what is wrong in it.

    ``left`` is None where a line is off, cuts nothing, or cannot be asked. The spans of ``problems`` count
    from the first character of ``text``. ``boundaries`` are those of its dates.
    """

    text: str
    is_on: bool
    left: int | None
    problems: tuple[Problem, ...] = ()
    boundaries: tuple[Boundary, ...] = ()


class Look(Working):
    """What comes of a sketch: an ``answer``, or ``problems``; those of lines stand there, too.

    ``is_cut`` says that the answer, or each of its groups, has more rows than can be looked at, and only the
    first are there; ``has_more_groups`` says the same of groups.
    """

    sketch: Sketch
    basis: Basis
    lines: tuple[SeenLine, ...]
    answer: Answer | None
    is_cut: bool = False
    has_more_groups: bool = False
    problems: tuple[Problem, ...] = ()

    @property
    def query(self) -> Query:
        """What the sketch asks."""
        return self.basis.query(self.sketch)

    def verdict(self, name: str) -> Verdict:
        """Return what becomes of a row. Raises NoSuchName, QuestionError."""
        return self.query.verdict(name)


def looked(sketch: Sketch, basis: Basis, page: int | str = 1) -> Look:
    """Return what comes of a sketch on a page of its answer, on the last where there are not so many."""
    query = basis.query(sketch)
    answer: Answer | None = None
    problems: Sequence[Problem] = ()
    is_cut = has_more = False
    try:
        answer, is_cut = _page_of(query, page, basis.most)
        if answer.groups and len(answer.groups) > basis.most:
            answer, has_more = _with_groups(answer, answer.groups[: basis.most]), True
    except QuestionError as error:
        problems = [replace(each, place=None) for each in error.problems]  # they stand on the table now
    except ElenchusError as error:
        problems = [replace(each, span=None) for each in error.problems]
    lines = tuple(_lines(sketch, basis, problems))
    return Look(sketch, basis, lines, answer, is_cut, has_more, tuple(problems))


def _with_groups(answer: Answer, groups: Sequence[Group]) -> Answer:
    """Return an answer with some of its groups, and the rows that stand in these."""
    names = {name for group in groups for name in group.rows}
    return replace(answer, groups=tuple(groups), rows=tuple(row for row in answer.rows if row.id in names))


def _page_of(query: Query, page: int | str, most: int) -> tuple[Answer, bool]:
    """Return a page of an answer, the last where there are not so many, and whether more rows stand on it.

    Of an answer without pages the first rows will do, of groups the first of each; all are counted.
    """
    plan, executor, without = query.plan, query.site.executor, query.left_out
    is_cut = False
    if plan.groups and plan.per_group is None and query.count() > most:
        plan, is_cut = replace(plan, per_group=_OF_GROUP), True
    elif not plan.groups and (plan.per_page is None or plan.per_page > MOST_ROWS):
        most = most if plan.per_page is None else MOST_ROWS
        is_cut = query.count() > most
        plan, page = replace(plan, per_page=most) if is_cut else plan, 1
    try:
        found = executor.run(plan, query.listing.text, page, without=without)
    except NoSuchPage:
        last = executor.run(plan, without=without).pages
        found = executor.run(plan, query.listing.text, last, without=without)
    found = query.finished(found)
    is_paged = query.plan.per_page is not None
    return (found if is_paged or not is_cut else replace(found, pages=1)), is_cut


def _lines(sketch: Sketch, basis: Basis, problems: Sequence[Problem]) -> list[SeenLine]:
    """Return the lines of a sketch as they are seen."""
    written = sketch.written
    wrong: dict[int, list[Problem]] = {}
    for problem in problems:
        number = written.line_of(problem.span) if problem.span else None
        if number is not None:
            wrong.setdefault(number, []).append(problem)
    first_wrong = min(wrong, default=len(sketch.lines))
    found = []
    for number, line in enumerate(sketch.lines):
        text = sketch.shown(number)
        # Only conditions are told apart: of what stands before the first wrong one, all is known.
        left = None
        if line.is_on and line.name in _COUNTED and number < first_wrong:
            left = basis.count(sketch.upto(number))
        here = written.spans[number]
        lead = len(text) - len(line.text) - (here[0] if here else 0)
        here_wrong = tuple(moved(each, lead) for each in wrong.get(number, ()))
        boundaries = _boundaries(line.is_on and left is not None, sketch, basis, number)
        found.append(SeenLine(text, line.is_on, left, here_wrong, boundaries))
    return found


def _boundaries(known: bool, sketch: Sketch, basis: Basis, number: int) -> tuple[Boundary, ...]:  # noqa: FBT001
    """Return the instants at which the relative dates of a condition begin and end."""
    if not known or not sketch.lines[number].is_condition:
        return ()
    from elenchus.engine.explaining.explain import boundaries

    alone = Sketch((*(line for line in sketch.lines if line.name == "source"), sketch.lines[number]))
    query = basis.query(alone)
    if not query.is_askable or not any(tests_in(query.plan.condition)):
        return ()
    return tuple(dict.fromkeys(boundaries(query.plan.condition, basis.site.clock)))
