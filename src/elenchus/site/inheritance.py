"""What a listing is in the end: its own clauses and settings over those that it is based on."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.errors import Place, Problem, in_file, respelling
from elenchus.frozen import Frozen, Working, member, names_of_members, replace
from elenchus.language.nodes import Question
from elenchus.language.parser import parse, read, read_changes
from elenchus.language.printer import print_question
from elenchus.language.tree import CLAUSES_OF, changed, parameters_in
from elenchus.site.keys import LISTING
from elenchus.values.kept import cached_property
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Mapping

    from elenchus.language.nodes import Changes
    from elenchus.site.listings import Expectation, ListingRule, ParameterRule, Rules

__all__ = ["Library", "Listing", "Origin", "changed_by", "listing_of"]

_INHERITED = (
    "title",
    "layout",
    "per_row",
    "show",
    "summary_words",
    "if_empty",
    "empty_message",
    "fill_from",
    "at_least",
)


_DEFAULTS = {key.name: key.default for key in LISTING.keys}


class Origin(Frozen):
    """Where a clause or a setting comes from: a listing by name, or what else gives it, and its place."""

    name: str
    place: Place


class Listing(Working):
    """A listing with all that it inherits.

    ``question`` is parsed from ``text``; ``clauses`` are the origins of its clauses by the fields of
    Question, several where conditions are joined. ``settings`` and ``parameters`` have their origins
    beside them. ``at`` is where the text stands in a file, None where it is put together. ``idle`` are
    changes that change nothing; with ``problems`` the listing cannot be asked (those of texts that went
    into another one have no span, for it would point into the wrong text).
    """

    name: str
    place: Place
    text: str = ""
    question: Question = member(default_factory=Question)
    clauses: Mapping[str, tuple[Origin, ...]] = member(default_factory=dict)
    settings: Mapping[str, tuple[Any, Origin]] = member(default_factory=dict)
    parameters: Mapping[str, tuple[ParameterRule, Origin]] = member(default_factory=dict)
    expect: tuple[Expectation, ...] = ()
    bases: tuple[str, ...] = ()
    at: Place | None = None
    idle: tuple[Problem, ...] = ()
    problems: tuple[Problem, ...] = ()

    def setting(self, name: str) -> Any:
        """Return the value of a setting, what it is by itself where nobody says."""
        return self.settings[name][0] if name in self.settings else _DEFAULTS[name]

    @property
    def title(self) -> str:
        """The heading under which its rows stand: what it says, or its name as words."""
        return str(self.setting("title") or self.name.replace("-", " ").replace("_", " ").capitalize())

    @property
    def asks(self) -> str:
        """The question on one line, without its comments; the text as it is where that cannot be read."""
        return " ".join(self.text.split()) if self.problems else print_question(self.question)

    @cached_property
    def parameter_names(self) -> dict[str, bool]:
        """The parameters of its question, each with whether it may be left out."""
        return parameters_in(self.question)

    @property
    def asked_at(self) -> Place:
        """The place of its question, the last part of it where it is inherited."""
        last = next((origins[-1] for origins in reversed(list(self.clauses.values())) if origins), None)
        return self.at or (last.place if last else self.place)

    def located(self, problem: Problem) -> Problem:
        """Return a problem of the question with its file and line."""
        if problem.place:
            return problem
        problem = in_file(self.text, problem)
        if self.at and problem.span:
            line = self.at.line + self.text.count("\n", 0, problem.span.start)
            return replace(problem, place=Place(self.at.file, line))
        clause = self.clause_at(problem.span.start) if problem.span else ""
        origins = self.clauses.get(clause, ())
        if problem.setting in self.settings:
            origins = (self.settings[problem.setting][1],)
        return replace(problem, place=origins[-1].place if origins else self.place)

    def clause_at(self, position: int) -> str:
        """Return the clause, by its field of Question, in which a place of the text lies."""
        for name in names_of_members(Question):
            node = getattr(self.question, name)
            if node and node.span.start <= position < node.span.end:
                return name
        return ""


class Library:
    """The listings of a site, put together when they are first asked for."""

    def __init__(self, rules: Rules) -> None:
        self.rules = rules.listings
        self.problems = rules.problems
        self.clashes = rules.clashes
        self.made: dict[str, Listing] = {}

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The names of all listings, in the order of their files."""
        return tuple(self.rules)

    def get(self, name: str) -> Listing:
        """Return a listing that there is, with all that it inherits."""
        if name not in self.made:
            self.made[name] = self.make(name, ())
        return self.made[name]

    def make(self, name: str, above: tuple[str, ...]) -> Listing:
        """Return a listing; ``above`` are those that are based on it."""
        rule = self.rules[name]
        if not rule.based_on:
            return listing_of(rule)
        place = rule.at("based_on")
        chain = (*above, name)
        if rule.based_on in chain:
            loop = " → ".join([*chain[chain.index(rule.based_on) :], rule.based_on])
            message = f"the listing {name} is based on itself: {loop}"
            problem = Problem("listing-cycle", message, "Cut the chain at one place.", place=place)
            return Listing(name, rule.place, problems=(problem,))
        if rule.based_on not in self.rules:
            near = nearest(rule.based_on, self.rules)
            message = f"there is no listing {quoted(rule.based_on)}"
            cure = respelling(rule.based_on, near)
            hint = f"Listings: {', '.join(self.rules)}."
            problem = Problem("unknown-listing", message, hint, place=place, near=near, cure=cure)
            return Listing(name, rule.place, problems=(problem,))
        return changed_by(self.make(rule.based_on, chain), rule)


def listing_of(rule: ListingRule) -> Listing:
    """Return a listing that is based on no other."""
    question, problems = read(rule.ask, comments=True)
    written = [name for name in names_of_members(Question) if getattr(question, name)]
    found = Listing(
        name=rule.name,
        place=rule.place,
        text=rule.ask,
        question=question,
        clauses={name: (Origin(rule.name, rule.at("ask")),) for name in written},
        settings={key: (value, Origin(rule.name, rule.at(key))) for key, value in rule.settings.items()},
        parameters={name: (each, Origin(rule.name, each.place)) for name, each in rule.parameters.items()},
        expect=rule.expect,
        bases=(rule.name,),
        at=rule.at("ask"),
    )
    return replace(found, problems=(*rule.misread, *(found.located(problem) for problem in problems)))


def changed_by(base: Listing, rule: ListingRule) -> Listing:
    """Return a listing based on another: what the rule writes over what the base is."""
    changes, problems = read_changes(rule.ask)
    origin = Origin(rule.name, rule.at("ask"))
    own = Listing(rule.name, rule.place, rule.ask, at=rule.at("ask"))
    question = changed(base.question, changes)
    text = print_question(question) if rule.ask.strip() else base.text
    inherited = {key: found for key, found in base.settings.items() if key in _INHERITED}
    settings = {key: (value, Origin(rule.name, rule.at(key))) for key, value in rule.settings.items()}
    parameters = {name: (each, Origin(rule.name, each.place)) for name, each in rule.parameters.items()}
    return Listing(
        name=rule.name,
        place=rule.place,
        text=text,
        question=question if problems or base.problems else parse(text, comments=True),
        clauses=_clauses_of(base, changes, origin),
        settings={**inherited, **settings},
        parameters={**base.parameters, **parameters},
        expect=rule.expect,
        bases=(rule.name, *base.bases),
        at=None if rule.ask.strip() else base.at,
        idle=(*_idle_clauses(base, changes, own), *_idle_settings(base, rule)),
        problems=(
            *rule.misread,
            *(replace(problem, span=None) for problem in base.problems),
            *(replace(own.located(problem), span=None) for problem in problems),
        ),
    )


def _clauses_of(base: Listing, changes: Changes, origin: Origin) -> dict[str, tuple[Origin, ...]]:
    """Return the origins of the clauses of a changed question."""
    found = {name: origins for name, origins in base.clauses.items() if name not in changes.without}
    for name in names_of_members(Question):
        if getattr(changes.question, name):
            found[name] = (origin,)
    if changes.also:
        found["where"] = (*found.get("where", ()), origin)
    return found


def _idle_clauses(base: Listing, changes: Changes, own: Listing) -> list[Problem]:
    """Return the problems of clauses that are as they would be without being written."""
    found = []
    for name in changes.without:
        if getattr(base.question, name) is None:
            message = f"“no {CLAUSES_OF[name]}” removes nothing: {base.name} has no such clause"
            found.append(Problem("idle-change", message, place=own.at))
    for name in names_of_members(Question):
        node = getattr(changes.question, name)
        if node and node == getattr(base.question, name):
            message = f"“{CLAUSES_OF[name]}” is as {base.name} has it already"
            found.append(own.located(Problem("idle-change", message, "Leave it out.", span=node.span)))
    return found


def _idle_settings(base: Listing, rule: ListingRule) -> list[Problem]:
    """Return the problems of settings that are as they would be without being written."""
    return [
        Problem("idle-change", f"{key} is as {base.name} has it already", "Leave it out.", place=rule.at(key))
        for key, value in rule.settings.items()
        if key in _INHERITED and key in base.settings and base.setting(key) == value
    ]
