"""Values for the parameters of a listing: what is given, what is chosen, what is absent."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.asking.here import HERE
from elenchus.errors import About, Place, Problem, Span
from elenchus.frozen import Frozen, Working, member, replace
from elenchus.language.nodes import Literal, Parameter
from elenchus.language.parameters import Given, bind
from elenchus.language.tree import walk
from elenchus.plan.check import Ground
from elenchus.plan.listings import Asked
from elenchus.plan.nodes import FieldRef
from elenchus.plan.values import Refused, Resolver
from elenchus.values.texts import either, fold, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.language.nodes import Condition, OrderKey
    from elenchus.site.inheritance import Listing
    from elenchus.site.listings import ParameterRule
    from elenchus.site.site import Site

__all__ = ["absent_choice", "ground", "settled"]


class _SiteListings(Frozen):
    """The listings of a site, as the check of a question asks for them."""

    site: Site

    def names(self) -> Sequence[str]:
        """Return the names of all listings."""
        return self.site.library.names

    def clash(self, name: str) -> Place | None:
        """Return where a listing stands that has the name of something else."""
        return self.site.library.clashes.get(name)

    def asked(self, name: str, given: Mapping[str, Sequence[str]]) -> Asked:
        """Return the question of a listing, with the values given for its parameters."""
        return settled(self.site, self.site.library.get(name), given)


def ground(site: Site) -> Ground:
    """Return what the questions of a site are checked against."""
    return Ground(site.dataset, site.clock, site.definition.seed, _SiteListings(site), site.watch)


def settled(site: Site, listing: Listing, given: Mapping[str, Sequence[str]]) -> Asked:
    """Return the question of a listing with values for its parameters.

    Given beats default beats ``?`` beats what the listing says of absence. A text that is empty is not
    given. What the page gives (``here`` and ``here.FIELD``) may be given without being asked for.
    """
    here = {name: texts for name, texts in given.items() if name.split(".")[0] == HERE}
    values = _Values(site, listing)
    for name, texts in given.items():
        found = [text for text in texts if text]
        if found and (name in values.asked or name not in here):
            values.give(name, found)
    for name, (rule, _) in listing.parameters.items():
        if rule.default and name not in values.given and name in values.asked:
            values.give(name, rule.default)
    reason = values.absence(given)
    if values.asked or values.given:
        question, problems = bind(listing.question, values.bound)
    else:  # nothing is to be bound
        question, problems = listing.question, []
    return Asked(
        question=question,
        name=listing.name,
        fill_from=listing.setting("fill_from"),
        at_least=listing.setting("at_least"),
        empty=reason,
        problems=(*listing.problems, *values.problems, *problems),
        here=here,
        show=listing.setting("show"),
    )


class _Values(Working):
    """Values for the parameters of one listing, as they are given one after the other."""

    site: Site
    listing: Listing
    values: dict[str, Sequence[str]] = member(default_factory=dict)
    conditions: dict[str, Condition | None] = member(default_factory=dict)
    orders: dict[str, tuple[OrderKey, ...]] = member(default_factory=dict)
    given: set[str] = member(default_factory=set)
    lacking: set[str] = member(default_factory=set)
    problems: list[Problem] = member(default_factory=list)

    @property
    def asked(self) -> dict[str, bool]:
        """The parameters of the listing."""
        return self.listing.parameter_names

    @property
    def bound(self) -> Given:
        """What the question is bound with."""
        return Given(self.values, self.conditions, self.orders, frozenset(self.lacking))

    def span_of(self, name: str) -> Span | None:
        """Return where a parameter stands in the question first."""
        found = (node for node in walk(self.listing.question) if isinstance(node, Parameter))
        return next((node.span for node in found if node.name == name), None)

    def report(self, name: str, problem: Problem) -> None:
        """Add a problem of a parameter, at its place; what it would stand for is then left out."""
        self.problems.append(replace(problem, span=self.span_of(name), parameter=name))
        self.lacking.add(name)

    def give(self, name: str, texts: Sequence[str]) -> None:
        """Give values to a parameter."""
        self.given.add(name)
        rule = self.listing.parameters[name][0] if name in self.listing.parameters else None
        if rule is None:
            self.values[name] = texts
        elif len(texts) > 1 and not rule.many:
            message = f":{name} takes one value, and {len(texts)} are given"
            self.report(
                name, Problem("many-given", message, "The listing may say many = true.", about=About.VALUE)
            )
        elif rule.words:
            self.choose(rule, texts)
        elif self.fits(rule, texts):
            self.values[name] = texts

    def choose(self, rule: ParameterRule, texts: Sequence[str]) -> None:
        """Give what choices stand for."""
        words = {fold(word): word for word in rule.words}
        for text in texts:
            if fold(text) not in words:
                near = nearest(text, rule.words)
                hint = f"It can be {either(rule.words)}."
                message = f":{rule.name} cannot be {quoted(text)}"
                self.report(rule.name, Problem("unknown-choice", message, hint, near=near, about=About.VALUE))
                return
        chosen = [words[fold(text)] for text in texts]
        if rule.choices:
            found = [value for word in chosen for value in rule.choices[word]]
            if self.fits(rule, found):
                self.values[rule.name] = found
        elif rule.conditions:
            self.conditions[rule.name] = rule.conditions[chosen[0]]
        else:
            self.orders[rule.name] = rule.orders[chosen[0]]

    def fits(self, rule: ParameterRule, texts: Sequence[str]) -> bool:
        """Say whether values are of the type that the listing declares; report those that are not."""
        if rule.type is None:
            return True
        resolver = Resolver(self.site.dataset, self.site.clock)
        for text in texts:
            try:
                resolver.value(FieldRef(rule.name, rule.type), Literal(text))
            except Refused as refused:
                message = f"{refused.problem.message}, given for :{rule.name}"
                self.report(rule.name, replace(refused.problem, message=message))
                return False
        return True

    def absence(self, given: Mapping[str, Sequence[str]]) -> str:
        """Return why there are no rows although nothing is wrong; nothing where a value is there for all.

        An empty list is given by a page whose row has no value; what a user leaves empty is an empty text.
        """
        reasons = []
        for name, optional in self.asked.items():
            if name in self.given or optional:
                continue
            rule = self.listing.parameters[name][0] if name in self.listing.parameters else None
            if name in given and not given[name]:
                reasons.append(f"the row of the page has no {name.partition('.')[2] or f'value for :{name}'}")
            elif rule and rule.absent != "error":
                reasons.append(f":{name} is not given")
            else:
                continue
            self.lacking.add(name)
        return " and ".join(reasons)


def absent_choice(listing: Listing, given: Mapping[str, Sequence[str]]) -> ParameterRule | None:
    """Return the parameter whose absence asks for a list of its choices; None where there is none."""
    for name, optional in listing.parameter_names.items():
        rule = listing.parameters[name][0] if name in listing.parameters else None
        is_given = any(given.get(name, ()))
        if rule and rule.absent == "choices" and not (is_given or rule.default or optional):
            return rule
    return None
