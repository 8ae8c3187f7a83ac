"""Running all checks: what they find, how bad it is, what the site has accepted."""

from __future__ import annotations

from collections import defaultdict
from contextlib import nullcontext
from typing import TYPE_CHECKING, TypeAlias

from elenchus.checks.finders import finders
from elenchus.checks.records import LEVELS, RENAMED, costs_itself, record
from elenchus.errors import About, Edit, OwnName, Problem, Replacement, SiteError
from elenchus.frozen import Frozen, replace
from elenchus.pages.survey import Survey

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator
    from contextlib import AbstractContextManager

    from elenchus.checks.records import Level
    from elenchus.site.definition import Acceptance
    from elenchus.site.site import Site

__all__ = ["Finding", "Report", "check_site"]

_Progress: TypeAlias = "Callable[[int], AbstractContextManager[Callable[[], None]]]"

_MANY_VALUES = 3  # from so many others on, they are told by their number


def _no_progress(_: int) -> AbstractContextManager[Callable[[], None]]:
    """Return what tells nobody."""
    return nullcontext(lambda: None)


class Finding(Frozen):
    """A problem with its level; ``accepted`` is why the site lives with it, empty where it does not."""

    problem: Problem
    level: Level
    accepted: str = ""


class Report(Frozen):
    """All findings, by file and line."""

    findings: tuple[Finding, ...]

    def count(self, level: Level) -> int:
        """Return how many findings of a level are not accepted."""
        return sum(each.level == level and not each.accepted for each in self.findings)

    def fails(self, *, strict: bool) -> bool:
        """Say whether the site should not be published: errors, and warnings too if it is strict."""
        return bool(self.count("error") or (strict and self.count("warning")))

    def stops(self, *, strict: bool) -> list[Finding]:
        """Return the findings that keep a site from being published.

        These are errors, but not those that cost one entry and nothing else. If it is strict they are all
        errors and warnings.
        """
        levels = ("error", "warning") if strict else ("error",)
        found = [each for each in self.findings if each.level in levels and not each.accepted]
        return [each for each in found if strict or not costs_itself(each.problem)]


def check_site(site: Site, progress: _Progress = _no_progress, survey: Survey | None = None) -> Report:
    """Return all that is wrong with a site, or odd about it, before it is published.

    ``progress`` is given the number of pages, and gives what is to be called for each; ``survey`` is one
    that is looked at further.
    Raises SiteError where the site file itself cannot be used.
    """
    if survey is None:
        work = site.content.work
        survey = Survey(site if work.lenient else site.working(replace(work, lenient=True)))
    try:
        count = len(survey.book.pages)
    except SiteError:  # told below
        count = 0
    with progress(count) as tick:
        survey.tick = tick
        return _surveyed(survey)


def _surveyed(survey: Survey) -> Report:
    """Return what all finders find, each finding once."""
    found: dict[Problem, None] = {}
    for finder in finders():
        try:
            for problem in finder(survey):
                if problem.about is About.CLASH:  # told once, and not for each question with the name
                    continue
                found[_of_site(survey.site, problem)] = None
        except SiteError as error:  # a file of terms that cannot be read stops all that needs it
            found.update(dict.fromkeys(error.problems))
    accepted = survey.site.definition.accepted
    findings = [_judged(problem, accepted) for problem in _values_once(found)]
    findings += _idle_acceptances(accepted, found)
    return Report(tuple(sorted(findings, key=_in_order)))


def _values_once(found: Iterable[Problem]) -> Iterator[Problem]:
    """Yield problems; where many values of one parameter are wrong in one way, the first, and how many more.

    A set of pages gives its parameter a value for each page: where its type is wrong, all of them are.
    """
    alike: dict[object, list[Problem]] = defaultdict(list)
    for problem in found:
        of_value = problem.about is About.VALUE and problem.parameter and problem.place
        alike[(problem.place, problem.code, problem.parameter) if of_value else problem].append(problem)
    for first, *others in alike.values():
        if len(others) < _MANY_VALUES:
            yield from (first, *others)
        else:
            yield replace(first, message=f"{first.message}, and {len(others)} other values are wrong like it")


def _of_site(site: Site, problem: Problem) -> Problem:
    """Return a problem as one of a site: at its file and line, without what is told from within a text."""
    cure = None if isinstance(problem.cure, Replacement) else problem.cure
    if isinstance(cure, Edit):
        cure = site.content.offered(cure)
    elif isinstance(cure, OwnName) and not all(map(site.content.is_in_a_file, cure.records)):
        cure = None
    return replace(problem, span=None, cure=cure)


def _judged(problem: Problem, accepted: Iterable[Acceptance]) -> Finding:
    """Return a problem with its level, and why it is accepted."""
    why = next((each.why for each in accepted if each.covers(problem)), "")
    return Finding(problem, record(problem.code).level, why)


def _idle_acceptances(accepted: Iterable[Acceptance], found: Iterable[Problem]) -> list[Finding]:
    """Return a finding for each acceptance that covers nothing any more."""
    problems = list(found)
    return [
        _judged(
            Problem(
                "idle-acceptance",
                f"nothing is {each.code} there any more",
                f"It is called {RENAMED[each.code]} now." if each.code in RENAMED else "Take it away.",
                place=each.place,
            ),
            (),
        )
        for each in accepted
        if not any(each.covers(problem) for problem in problems)
    ]


def _in_order(finding: Finding) -> tuple[bool, int, str, int, str]:
    """Return what findings are sorted by: those that count first, by level, file and line."""
    place = finding.problem.place
    level = LEVELS.index(finding.level)
    return (
        bool(finding.accepted),
        level,
        place.file if place else "",
        place.line if place else 0,
        finding.problem.message,
    )
