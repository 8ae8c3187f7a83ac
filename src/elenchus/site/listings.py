"""Reading listings: what a file says of each, every problem with its line."""

from __future__ import annotations

import tomllib
from typing import TYPE_CHECKING, Any

from elenchus.errors import Near, Place, Problem, QuestionError
from elenchus.frozen import Frozen, member, replace
from elenchus.language.parser import parse_condition, parse_order
from elenchus.language.words import is_keyword
from elenchus.schema.types import FieldType, Type
from elenchus.site.files import read_named, take_named
from elenchus.site.keys import EXPECT, LISTING, PARAMETER
from elenchus.site.names import can_be_called
from elenchus.site.toml import TomlFile
from elenchus.values.texts import either, nearest, quoted
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping
    from pathlib import Path

    from elenchus.language.nodes import Condition, OrderKey
    from elenchus.schema.types import Schema

__all__ = [
    "Expectation",
    "ListingRule",
    "ParameterRule",
    "Rules",
    "given_of",
    "listings_of_file",
    "read_listings",
]

_DATES = "dates"  # the type of a parameter for days, spans of time and relative dates


class ParameterRule(Frozen):
    """What a listing says of one of its parameters.

    ``choices`` stand for values, ``conditions`` for a condition (None for none at all), ``orders`` for an
    order; at most one of the three has anything in it. ``absent`` is what happens without a value.
    """

    name: str
    place: Place
    type: FieldType | None = None
    many: bool = False
    label: str = ""
    choices: Mapping[str, tuple[str, ...]] = member(default_factory=dict)
    conditions: Mapping[str, Condition | None] = member(default_factory=dict)
    orders: Mapping[str, tuple[OrderKey, ...]] = member(default_factory=dict)
    default: tuple[str, ...] = ()
    absent: str = "error"

    @property
    def words(self) -> tuple[str, ...]:
        """The names of the declared choices, whatever they stand for."""
        return (*self.choices, *self.conditions, *self.orders)


class Expectation(Frozen):
    """What must be true of a listing before it is published.

    Without ``ask`` the numbers are about all its rows, with it about those that meet the condition.
    """

    place: Place
    ask: str = ""
    given: Mapping[str, tuple[str, ...]] = member(default_factory=dict)
    count: int | None = None
    at_least: int | None = None
    at_most: int | None = None
    includes: tuple[str, ...] = ()
    excludes: tuple[str, ...] = ()


class ListingRule(Frozen):
    """A listing as its file has it. ``lines`` are the places of its keys.

    ``misread`` are the problems of keys that cannot be what somebody meant: it is not asked without them.
    """

    name: str
    place: Place
    ask: str = ""
    based_on: str = ""
    settings: Mapping[str, Any] = member(default_factory=dict)
    parameters: Mapping[str, ParameterRule] = member(default_factory=dict)
    expect: tuple[Expectation, ...] = ()
    lines: Mapping[str, Place] = member(default_factory=dict)
    misread: tuple[Problem, ...] = ()

    def at(self, key: str) -> Place:
        """Return the place of a key, or of the listing where it has none."""
        return self.lines.get(key, self.place)


class Rules(Frozen):
    """The listings of a site by name, and what is wrong in their files.

    ``clashes`` are the places of listings that are none, because their name means something else already.
    """

    listings: Mapping[str, ListingRule]
    problems: tuple[Problem, ...] = ()
    clashes: Mapping[str, Place] = member(default_factory=dict)


def read_listings(folder: Path, schema: Schema) -> Rules:
    """Return all listings of a site; a file that cannot be read is a problem beside the others."""
    clashes: dict[str, Place] = {}
    found, problems = read_named(
        folder, "listings", "listing", lambda file, name: _read_rule(file, name, schema, clashes)
    )
    return Rules(found, problems, clashes)


def listings_of_file(name: str, text: str, schema: Schema) -> Rules:
    """Return the listings of the text of one file."""
    file = TomlFile(name, text, tomllib.loads(text))
    found: dict[str, ListingRule] = {}
    clashes: dict[str, Place] = {}
    take_named(file, "listing", lambda file, key: _read_rule(file, key, schema, clashes), found)
    return Rules(found, tuple(file.problems), clashes)


def _read_rule(file: TomlFile, name: str, schema: Schema, clashes: dict[str, Place]) -> ListingRule | None:
    """Return one listing; None, with a problem, where its name means something else already."""
    if is_keyword(name) and name != "lead":
        hint = "It is a word of the language; take another."
        file.report("bad-name", (name,), f"{quoted(name)} cannot be the name of a listing", hint)
        return None
    if meaning := _meaning_of(name, schema):
        clashes[name] = file.place((name,))
        message = f"{quoted(name)} is {meaning} already"
        file.report("name-clash", (name,), message, "Give the listing another name.")
        return None
    return _rule_of(file, name, schema)


def _meaning_of(name: str, schema: Schema) -> str:
    """Return what a name means on the site already."""
    spaces = {"a kind": schema.kinds, "a taxonomy": schema.taxonomies, "a condition": schema.conditions}
    return next((what for what, names in spaces.items() if name in names), "")


def _rule_of(file: TomlFile, name: str, schema: Schema) -> ListingRule:
    """Return one listing."""
    path, before = (name,), len(file.problems)
    found = file.known(path, LISTING)
    misread = tuple(file.problems[before:])
    for key in ("per_row", "summary_words", "at_least"):
        if key in found and found[key] < 1:
            file.report("bad-number", (name, key), f"{key} is at least 1, not {found.pop(key)}")
    if not found["ask"].strip() and "based_on" not in found:
        file.report("missing-key", path, f"[{name}] asks nothing: it has neither ask nor based_on")
    shown = file.texts((name, "show"), found["show"])
    settings = {key: value for key, value in found.items() if key not in _OWN_PARTS}
    if "show" in settings:
        settings["show"] = shown
    parameters = {
        key: _parameter_of(file, (name, "parameters", key), schema)
        for key in found["parameters"]
        if file.fits((name, "parameters", key), found["parameters"][key], dict)
    }
    return ListingRule(
        name=name,
        place=file.place(path),
        ask=found["ask"],
        based_on=found["based_on"],
        settings=settings,
        parameters=parameters,
        expect=tuple(_expectations(file, (name, "expect"), found["expect"])),
        lines={key: file.place((name, key)) for key in found} | {"ask": file.text_place((name, "ask"))},
        misread=misread,
    )


_OWN_PARTS = ("ask", "based_on", "parameters", "expect")


# Parameters


def _parameter_of(file: TomlFile, path: tuple[str, ...], schema: Schema) -> ParameterRule:
    """Return one parameter."""
    found = file.known(path, PARAMETER)
    standing = [key for key in ("choices", "conditions", "orders") if key in found]
    if len(standing) > 1:
        message = f"{path[-1]} has both {standing[0]} and {standing[1]}"
        file.report(
            "idle-key", path, message, "A parameter stands for values, for a condition or for an order."
        )
        for key in standing[1:]:
            del found[key]
    if not can_be_called(path[-1]) or path[-1] == "here":
        file.report("bad-name", path, f"{quoted(path[-1])} cannot be the name of a parameter")
    default = found["default"]
    rule = ParameterRule(
        name=path[-1],
        place=file.place(path),
        type=_type_of(file, path, found["type"], schema) if "type" in found else None,
        many=found["many"],
        label=found["label"],
        choices=_choices_of(file, path, found["choices"]),
        conditions=_read_choices(file, (*path, "conditions"), found["conditions"], _condition_of),
        orders=_read_choices(file, (*path, "orders"), found["orders"], parse_order),
        default=tuple(as_text(value) for value in (default if isinstance(default, list) else [default]))
        if "default" in found
        else (),
        absent=found["absent"],
    )
    return rule if _check_parameter(file, path, rule, found) else replace(rule, default=())


def _check_parameter(
    file: TomlFile, path: tuple[str, ...], rule: ParameterRule, found: Mapping[str, Any]
) -> bool:
    """Report what does not go together in a parameter; say whether its default can be used."""
    usable = True
    for word in rule.default:
        if rule.words and word not in rule.words:
            near = Near(word, nearest(word, rule.words))
            hint = f"It can be {either(rule.words)}."
            message = f"the default {quoted(word)} is no choice"
            file.report("unknown-choice", (*path, "default"), message, hint, near=near)
            usable = False
    if len(rule.default) > 1 and not rule.many:
        hint = "Add many = true, or keep one."
        file.report("many-given", (*path, "default"), f"{rule.name} takes one value", hint)
        usable = False
    if rule.many and (rule.conditions or rule.orders):
        file.report("idle-key", (*path, "many"), f"many means nothing for {rule.name}: one choice is taken")
    if rule.default and "absent" in found:
        message = f"absent means nothing for {rule.name}: it has a default"
        file.report("idle-key", (*path, "absent"), message, "Keep one of the two.")
    listable = rule.words or (rule.type and rule.type.type in (Type.TERM, Type.ENTRY, Type.YESNO))
    if rule.absent == "choices" and not listable:
        hint = "Give it choices, or the type of a taxonomy or a kind."
        file.report("missing-key", path, f"{rule.name} has no choices to be listed", hint)
    return usable


def _type_of(file: TomlFile, path: tuple[str, ...], word: str, schema: Schema) -> FieldType | None:
    """Return the type of a parameter: a taxonomy, a kind, dates, or a type of fields."""
    if word in schema.taxonomies:
        return FieldType(Type.TERM, taxonomy=word, tree=schema.taxonomies[word].tree)
    if word in schema.kinds:
        return FieldType(Type.ENTRY, kinds=(word,))
    if word == _DATES:
        return FieldType(Type.DATETIME)
    plain = [kind.value for kind in Type if kind not in (Type.TERM, Type.CHOICE)]
    if word in plain:
        return FieldType(Type(word))
    known = (*schema.taxonomies, *schema.kinds, _DATES, *plain)
    near = Near(word, nearest(word, known))
    hint = f"Types: {', '.join(known)}."
    file.report("unknown-type", (*path, "type"), f"there is no type {quoted(word)}", hint, near=near)
    return None


def _choices_of(file: TomlFile, path: tuple[str, ...], written: Any) -> dict[str, tuple[str, ...]]:
    """Return choices that stand for values: a list of values, or a table from words to values."""
    if isinstance(written, list):
        return {as_text(value): (as_text(value),) for value in written}
    found = {}
    for word, value in written.items():
        values = value if isinstance(value, list) else [value]
        if not values or any(isinstance(item, dict | list) for item in values):
            message = f"the choice {quoted(word)} must stand for a value, or for a list of them"
            file.report("wrong-type", (*path, "choices"), message)
        else:
            found[word] = tuple(as_text(item) for item in values)
    return found


def _read_choices(
    file: TomlFile, path: tuple[str, ...], written: Mapping[str, Any], read: Any
) -> dict[str, Any]:
    """Return choices that stand for conditions or orders, parsed."""
    found = {}
    for word, text in written.items():
        if not isinstance(text, str):
            file.report("wrong-type", path, f"the choice {quoted(word)} must stand for a text")
            continue
        try:
            found[word] = read(text)
        except QuestionError as error:
            for problem in error.problems:
                message = f"in the choice {quoted(word)}: {problem.message}"
                file.take(path, text, replace(problem, message=message))
    return found


def _condition_of(text: str) -> Condition | None:
    """Return the condition of a choice; an empty text is none at all."""
    return parse_condition(text) if text.strip() else None


# Expectations


def _expectations(file: TomlFile, path: tuple[str, ...], written: list[Any]) -> Iterator[Expectation]:
    """Yield what a listing expects."""
    for item in written:
        if not isinstance(item, dict):
            file.report(
                "wrong-type",
                path,
                f"expect is a list of tables such as {{ count = 3 }}, not {quoted(str(item))}",
            )
            continue
        found = file.item(path, item, EXPECT)
        if not found.keys() & {"count", "at_least", "at_most", "includes", "excludes"}:
            hint = "Write count, at_least, at_most, includes or excludes."
            file.report("missing-key", path, "an expectation says nothing that could fail", hint)
            continue
        yield Expectation(
            place=file.place(path),
            ask=found["ask"],
            given=given_of(found["with"]),
            count=found["count"],
            at_least=found["at_least"],
            at_most=found["at_most"],
            includes=file.texts((*path, "includes"), found["includes"]),
            excludes=file.texts((*path, "excludes"), found["excludes"]),
        )


def given_of(table: Mapping[str, Any]) -> dict[str, tuple[str, ...]]:
    """Return values for parameters as texts."""
    return {
        name: tuple(as_text(item) for item in (value if isinstance(value, list) else [value]))
        for name, value in table.items()
    }
