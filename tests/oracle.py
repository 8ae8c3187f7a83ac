"""A second answer to every question, worked out row by row as the language's description says it.

It shares nothing with the engine but the tree of the question: entries are plain dictionaries, dates
are worked out with the standard library, texts are ordered by pyuca. It is slow and meant to be plain.
"""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from fractions import Fraction
from functools import cache, cmp_to_key
from typing import Any
from zoneinfo import ZoneInfo

import pyuca

from elenchus.language import nodes

ZONE = ZoneInfo("Atlantic/Azores")
NOW = datetime(2026, 5, 20, 12, 0, tzinfo=ZONE)
LEVELS = ["low", "mid", "high"]
STATUSES = ["published", "draft", "scheduled", "withdrawn"]
TREE = ["north", "north/bay", "north/cove", "north/cove/inlet", "south", "south/bay", "west"]  # in term order
TOPICS = ["birds", "seals", "tides"]
TYPES = {
    "num": "integer", "ratio": "number", "flag": "yesno", "level": "choice", "when": "date", "name": "text",
    "tags": "text", "place": "entry", "area": "term", "topic": "term", "date": "datetime", "title": "text",
    "id": "text", "parent": "entry", "entry": "entry", "kind": "kind", "status": "status",
}  # fmt: skip
MANY = {"tags", "area", "topic"}
KINDS = {
    "a": set(TYPES),
    "b": {"num", "name", "area", "topic", "date", "title", "id", "parent", "entry", "kind", "status"},
}


def fold(text: str) -> str:
    return unicodedata.normalize("NFC", unicodedata.normalize("NFD", text).casefold())


@cache
def collator() -> Any:
    return pyuca.Collator()


@cache
def text_key(text: str) -> Any:
    return collator().sort_key(fold(text)), fold(text)


def midnight(day: date) -> datetime:
    return datetime.combine(day, time(), ZONE)


def plus(day: date, count: int, unit: str) -> date:
    if unit in ("day", "week"):
        return day + timedelta(days=count * (7 if unit == "week" else 1))
    month = day.month - 1 + count * (12 if unit == "year" else 1)
    year, month = day.year + month // 12, month % 12 + 1
    for last in (day.day, 30, 29, 28):
        try:
            return date(year, month, min(day.day, last))
        except ValueError:
            continue
    raise AssertionError


def begin(day: date, unit: str) -> date:
    first = {"day": day, "week": day - timedelta(days=day.weekday()), "month": day.replace(day=1)}
    return first.get(unit, day.replace(month=1, day=1))


def interval(text: str) -> tuple[datetime, datetime]:
    """Return the start and the end of a date as a question writes it."""
    today = NOW.date()
    if text in ("today", "yesterday", "tomorrow"):
        day = today + timedelta(days=["yesterday", "today", "tomorrow"].index(text) - 1)
        return midnight(day), midnight(day + timedelta(days=1))
    if match := re.fullmatch(r"(last|next) (\d+) (day|week|month|year)s?", text):
        count = int(match[2])
        if match[1] == "last":
            return midnight(plus(today, -count, match[3]) + timedelta(days=1)), midnight(
                today + timedelta(days=1)
            )
        return midnight(today), midnight(plus(today, count, match[3]))
    if match := re.fullmatch(r"(last|this|next) (week|month|year)", text):
        first = plus(begin(today, match[2]), ["last", "this", "next"].index(match[1]) - 1, match[2])
        return midnight(first), midnight(plus(first, 1, match[2]))
    unit = {4: "year", 7: "month", 8: "week", 10: "day"}[len(text)]
    parts = [int(part) for part in text.replace("W", "").split("-")]
    first = date.fromisocalendar(parts[0], parts[1], 1) if unit == "week" else date(*[*parts, 1, 1][:3])
    return midnight(first), midnight(plus(first, 1, unit))


@dataclass
class Oracle:
    """The rows of one random site: dictionaries of written values; None or a misfit is missing."""

    rows: list[dict[str, Any]]
    by_id: dict[str, dict[str, Any]] = field(default_factory=dict)
    everything: bool = False
    listed: dict[str, list[str]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.by_id = {row["id"]: row for row in self.rows}

    def public(self, row: dict[str, Any]) -> bool:
        status, day = row.get("status"), self.value(row, "date")
        if status not in (None, "published", "scheduled") or (status == "scheduled" and day is None):
            return False
        expires = row.get("expires")
        if any(isinstance(row.get(name), str) for name in ("date", "expires")):
            return False  # it cannot be read
        return (day is None or day <= NOW) and (
            expires is None or midnight(expires + timedelta(days=1)) > NOW
        )

    def seen(self, row: dict[str, Any]) -> bool:
        return self.everything or self.public(row)

    # Values: a list for every field, empty when missing

    def status(self, row: dict[str, Any]) -> list[int]:
        """Return what holds now: a public entry whose date is ahead is scheduled, one of the past is published."""
        written, day = row.get("status") or "published", self.value(row, "date")
        if written in ("published", "scheduled") and day is not None:
            written = "scheduled" if day > NOW else "published"
        return [STATUSES.index(written)]

    def value(self, row: dict[str, Any], name: str) -> Any:
        found = self.values(row, (name,))
        return found[0] if found else None

    def values(self, row: dict[str, Any], names: tuple[str, ...]) -> list[Any]:
        name, *rest = names
        if name == "entry":
            found: list[Any] = [row["id"]]
        elif name not in KINDS[row["kind"]]:
            found = []
        elif name == "status":
            return self.status(row)
        else:
            written = row.get(name)
            listed = written if isinstance(written, list) else [written]
            if rest and rest[0] == "hour":
                listed = [each for each in listed if isinstance(each, datetime)]
            found = [value for each in listed if (value := self.typed(name, each)) is not None]
        return [value for each in found for value in self.step(name, each, tuple(rest))]

    def typed(self, name: str, written: Any) -> Any:
        """Return a written value as its type compares it; None where it does not fit."""
        kind = TYPES[name]
        if written is None or (isinstance(written, str) and not written.strip()):
            return None
        if kind in ("integer", "number"):
            return written if isinstance(written, (int, float)) else None
        if kind == "choice":
            return LEVELS.index(written) if written in LEVELS else None
        if kind == "kind":
            return ["a", "b"].index(written)
        if kind in ("date", "datetime"):
            if isinstance(written, str):
                return None
            return written if isinstance(written, datetime) else midnight(written)
        if kind == "entry":
            target = self.by_id.get(written)
            fits = target is not None and (name == "parent" or target["kind"] == "b")
            return written if fits and target is not None and self.seen(target) else None
        return written

    def step(self, name: str, value: Any, rest: tuple[str, ...]) -> list[Any]:
        if not rest:
            return [value]
        part, kind = rest[0], TYPES[name]
        if kind in ("date", "datetime"):
            local = value.astimezone(ZONE)
            if part in ("year", "month", "week", "day"):
                return [midnight(begin(local.date(), part))]
            return [{"weekday": local.isoweekday(), "month_of_year": local.month, "hour": local.hour}[part]]
        if kind == "term" and part == "top":
            return [value.split("/")[0]]
        if kind == "term":
            return [value.rpartition("/")[2].title()]  # its name
        if kind == "text":
            return [first_letter(value)]
        return self.values(self.by_id[value], rest)

    # Conditions

    def holds(self, row: dict[str, Any], node: nodes.Condition) -> bool:
        match node:
            case nodes.And(parts):
                return all(self.holds(row, part) for part in parts)
            case nodes.Or(parts):
                return any(self.holds(row, part) for part in parts)
            case nodes.Not(part):
                return not self.holds(row, part)
            case nodes.Flag(path):
                return True in self.values(row, path.names)
            case nodes.Related(anchor, by):
                return self.shared(row, anchor.text, [name.text for name in by]) > 0  # type: ignore[union-attr]
            case nodes.Compare():
                if any(isinstance(value, nodes.OtherField) for value in node.values):
                    return self.beside(row, node) != node.negated
                return self.compares(row, node) != node.negated
            case nodes.Listed(listing):
                return row["id"] in self.listed[listing.text]
            case nodes.Chosen():
                raise AssertionError(node)

    def shared(self, row: dict[str, Any], other: str, by: list[str]) -> int:
        if row["id"] == other:
            return 0
        pairs = [
            (set(row.get(name) or []), set(self.by_id[other].get(name) or []))
            for name in by or ("area", "topic")
        ]
        return sum(len(one & two) for one, two in pairs)

    def compares(self, row: dict[str, Any], node: nodes.Compare) -> bool:
        if node.path.counted:
            kind, name = node.path.names
            values: list[Any] = [self.referring(row, kind, name)] if row["kind"] == "b" else []
            last = "num"
        else:
            values, last = self.values(row, node.path.names), node.path.names[-1]
        wanted = [literal.text for literal in node.values]  # type: ignore[union-attr]
        name = node.path.names[0] if last in PARTS or last == "top" else last
        if last in ("weekday", "month_of_year", "hour"):
            name = "num"
        elif (last == "name" and node.path.names[0] in ("area", "topic")) or last == "initial":
            name = "name"
        return self.operator(node.operator, name, values, wanted, part=last if last in PARTS else "")

    def beside(self, row: dict[str, Any], node: nodes.Compare) -> bool:
        """Compare a field with others of the row; dates as all of the day or the minute that is written."""
        signs = [">=", "<="] if node.operator == "between" else [node.operator]
        for sign, value in zip(signs, node.values, strict=True):
            if not isinstance(value, nodes.OtherField):
                if not self.compares(row, nodes.Compare(node.path, sign, (value,))):
                    return False
                continue
            mine, theirs = self.spans(row, node.path.names), self.spans(row, value.path.names)
            if not mine or not theirs:
                return False
            (low, high), (first, last) = mine[0], theirs[0]
            is_date = node.path.names in (("when",), ("date",))
            before, after = (high <= first, last <= low) if is_date else (low < first, low > first)
            holds = {
                "<": before,
                ">": after,
                "<=": not after,
                ">=": not before,
                "=": not before and not after,
            }
            if not holds[sign]:
                return False
        return True

    def spans(self, row: dict[str, Any], names: tuple[str, ...]) -> list[tuple[Any, Any]]:
        """Return the values of a field from where to where they last: a day, a minute, or no time at all."""
        found = self.values(row, names)
        if found and names in (("when",), ("date",)):
            start = found[0].astimezone(UTC)  # two of one zone would compare by their clocks
            is_moment = isinstance(row[names[0]], datetime)
            next_day = midnight(found[0].date() + timedelta(days=1)).astimezone(UTC)
            end = start + timedelta(minutes=1) if is_moment else next_day
            return [(start, end)]
        is_text = names[-1] in ("name", "title")
        return [(text_key(each), None) if is_text else (each, None) for each in found]

    def referring(self, row: dict[str, Any], kind: str, name: str) -> int:
        return sum(
            self.value(other, name) == row["id"]
            for other in self.rows
            if other["kind"] == kind and self.seen(other)
        )

    def operator(self, name: str, field_name: str, values: list[Any], wanted: list[str], part: str) -> bool:
        if name in ("is set", "is missing"):
            return bool(values) == (name == "is set")
        if name == "has all":
            return all(any(self.equal(field_name, value, text, part) for value in values) for text in wanted)
        if name in ("=", "in"):
            return any(self.equal(field_name, value, text, part) for value in values for text in wanted)
        if name in ("under", "below"):
            return any(self.lies(field_name, value, text, name) for value in values for text in wanted)
        if name in TEXTUAL:
            return any(TEXTUAL[name](fold(value), fold(wanted[0])) for value in values)
        if name == "matches":
            return any(re.search(wanted[0], value) for value in values)
        if not values:
            return False
        value = values[0]
        low, high = self.bounds(field_name, wanted[0], part)
        key = self.key(field_name, value)
        if name == "between":
            return bool(low <= key) and self.before(
                field_name, value, self.bounds(field_name, wanted[1], part)[1]
            )
        return {
            "<": bool(key < low),
            "<=": self.before(field_name, value, high),
            ">": not self.before(field_name, value, high),
            ">=": bool(key >= low),
        }[name]

    def key(self, name: str, value: Any) -> Any:
        return text_key(value) if TYPES[name] == "text" else value

    def before(self, name: str, value: Any, high: Any) -> bool:
        """Say whether a value lies before the end of another: for instants strictly, else at most."""
        return (
            bool(value < high) if TYPES[name] in ("date", "datetime") else bool(self.key(name, value) <= high)
        )

    def bounds(self, name: str, text: str, part: str) -> tuple[Any, Any]:
        kind = TYPES[name]
        if kind in ("date", "datetime"):
            start, end = interval(text)
            if part:
                last = begin((end - timedelta(microseconds=1)).date(), part)
                start, end = midnight(begin(start.date(), part)), midnight(plus(last, 1, part))
            return start, end
        if kind in ("integer", "number"):
            return float(text), float(text)
        if kind in ("choice", "status"):
            words = LEVELS if kind == "choice" else STATUSES
            return words.index(text), words.index(text)
        return text_key(text), text_key(text)

    def equal(self, name: str, value: Any, text: str, part: str) -> bool:
        kind = TYPES[name]
        if kind in ("date", "datetime", "integer", "number", "choice", "status"):
            low, high = self.bounds(name, text, part)
            return bool(low <= value < high) if kind in ("date", "datetime") else bool(value == low)
        if kind == "yesno":
            return bool(value == (text == "yes"))
        if kind == "kind":
            return bool(["a", "b"][value] == text)
        return fold(value) == fold(text) if kind == "text" else bool(value == text)

    def lies(self, name: str, value: str, text: str, operator: str) -> bool:
        if TYPES[name] == "term":
            return value.startswith(text + "/") or (operator == "under" and value == text)
        chain = [value]
        while (above := self.by_id[chain[-1]].get("parent")) in self.by_id:
            chain.append(str(above))
        return text in chain[1:] or (operator == "under" and value == text)

    # The pipeline

    def order(self, rows: list[dict[str, Any]], question: nodes.Question) -> list[dict[str, Any]]:
        keys = question.order.keys if question.order else (nodes.OrderKey("newest"),)

        def compare(one: dict[str, Any], two: dict[str, Any]) -> int:
            for key in keys:
                if found := self.compare(one, two, key, question):
                    return found
            return -1 if one["id"] < two["id"] else 1

        return sorted(rows, key=cmp_to_key(compare))

    def compare(
        self, one: dict[str, Any], two: dict[str, Any], key: nodes.OrderKey, question: nodes.Question
    ) -> int:
        if key.by == "relatedness":
            (likeness,) = [node for node in all_of(question.where) if isinstance(node, nodes.Related)]
            by = [name.text for name in likeness.by]
            counts = [self.shared(row, likeness.anchor.text, by) for row in (one, two)]  # type: ignore[union-attr]
            return counts[1] - counts[0]
        if key.by == "pinned first":
            return 0
        names = key.path.names if key.path else ("date",)
        down = key.descending or key.by == "newest"
        values = [self.sortable(row, names) for row in (one, two)]
        if None in values:
            return 0 if values[0] == values[1] else (1 if (values[0] is None) != key.missing_first else -1)
        sign = int(values[0] > values[1]) - int(values[0] < values[1])
        return -sign if down else sign

    def sortable(self, row: dict[str, Any], names: tuple[str, ...]) -> Any:
        found = self.values(row, names)
        if not found:
            return None
        if TYPES.get(names[-1]) == "entry" and len(names) == 1:
            title = self.value(self.by_id[found[0]], "title")
            return text_key(title) if title else None
        return text_key(found[0]) if isinstance(found[0], str) else found[0]

    def select(self, question: nodes.Question) -> tuple[list[str], list[str], list[str]]:
        """Return the ids that match, those in order before the cuts, and those left by offset and limit."""
        kinds = [name.text for name in question.source.names] if question.source else ["a", "b"]
        self.everything = question.unpublished is not None
        visible = [row for row in self.rows if self.seen(row)]
        matched = [row for row in visible if row["kind"] in kinds]
        if question.where:
            matched = [row for row in matched if self.holds(row, question.where.condition)]
        rows = self.order(matched, question)
        if question.lead:
            first = list(dict.fromkeys(value.text for value in question.lead.entries))  # type: ignore[union-attr]
            lead = [row for name in first for row in visible if row["id"] == name]
            rows = lead + [row for row in rows if row not in lead]
        if question.at_most:
            rows = self.vary(rows, question.at_most, len(lead) if question.lead else 0)
        ids = [row["id"] for row in rows]
        left = ids[question.offset.count if question.offset else 0 :]
        if question.limit and question.limit.count is not None:
            left = left[: question.limit.count]
        return [row["id"] for row in matched], ids, left

    def vary(self, rows: list[dict[str, Any]], most: nodes.AtMost, leads: int) -> list[dict[str, Any]]:
        seen: dict[Any, int] = {}
        kept = []
        for row in rows:
            found = self.values(row, most.path.names)
            key = fold(found[0]) if found and isinstance(found[0], str) else found[0] if found else None
            seen[key] = seen.get(key, 0) + 1
            if key is None or seen[key] <= most.count or sum(seen.values()) <= leads:
                kept.append(row)
        return kept

    def groups(self, ids: list[str], question: nodes.Question) -> list[tuple[tuple[Any, ...], list[str]]]:
        """Return the groups in order, each with its sort keys and its rows; missing values come last."""
        assert question.group
        found: dict[tuple[Any, ...], list[str]] = {}
        for name in ids:
            combined: list[tuple[Any, ...]] = [()]
            for key in question.group.keys:
                values = list(dict.fromkeys(self.group_values(self.by_id[name], key.path.names))) or [None]
                if key.steps and values != [None]:  # where the step begins
                    values = [Fraction(str(values[0])) // Fraction(key.steps) * Fraction(key.steps)]
                if key.under:
                    below = [value.text for value in key.under]  # type: ignore[union-attr]
                    values = [
                        each
                        for each in values
                        if each and any(f"{each}/".startswith(f"{top}/") for top in below)
                    ]
                combined = [(*before, value) for before in combined for value in values]
            for keys in combined:
                found.setdefault(keys, []).append(name)

        def rank(item: tuple[tuple[Any, ...], list[str]]) -> tuple[Any, ...]:
            ranks: list[Any] = []
            for at, key in enumerate(question.group.keys):  # type: ignore[union-attr]
                value, names = item[0][at], key.path.names
                ranks.append(value is None)
                if value is None:
                    continue
                prefix = [rows for keys, rows in found.items() if keys[: at + 1] == item[0][: at + 1]]
                size = len({name for rows in prefix for name in rows})
                dated = names[-1] in PARTS and not oldest_first(question)
                down = key.descending or (key.descending is None and key.by == "value" and dated)
                if key.by == "measure":
                    measure = self.measured(key.measure, list({name for rows in prefix for name in rows}))
                    ranks.append(measure is None)
                    if measure is not None:
                        ranks.append(Reversed(measure) if down else measure)
                elif key.by != "value":
                    called = self.called(names, value)
                    if key.steps:
                        ends = (value, value + Fraction(key.steps))
                        called = " to ".join(str(int(end) if end == int(end) else float(end)) for end in ends)
                    first = size if key.by == "count" else text_key(called)
                    ranks.append(Reversed(first) if down else first)
                order = self.group_rank(names, value)
                ranks.append(Reversed(order) if (down if key.by == "value" else dated) else order)
                ranks.append(str(value) if names[-1] == "place" else "")  # references of one title: by id
            return tuple(ranks)

        passing = sorted(found.items(), key=rank)
        if question.having:
            passing = [each for each in passing if self.passes(each[1], question.having.condition)]
        return passing

    # Measures

    def measured(self, path: nodes.Path, ids: list[str]) -> Any:
        """Return a measure of a field over some rows as a key: exact, None where no row has a value."""
        values = [value for name in ids for value in self.measurable(self.by_id[name], path.names)]
        if path.measure == "distinct":
            return len(set(values))
        if not values:
            return None
        if path.measure in ("min", "max"):
            return (min if path.measure == "min" else max)(values)
        numbers = sorted(map(Fraction, values))
        if path.measure == "sum":
            return sum(numbers)
        if path.measure == "average":
            return sum(numbers) / len(numbers)
        middle = len(numbers) // 2
        return numbers[middle] if len(numbers) % 2 else (numbers[middle - 1] + numbers[middle]) / 2

    def measurable(self, row: dict[str, Any], names: tuple[str, ...]) -> list[Any]:
        """Return the values of a row; a day stands before its first instant, texts are without their case."""
        values = self.group_values(row, names)
        if names == ("date",) and values:
            return [(values[0].astimezone(UTC), isinstance(row["date"], datetime))]
        return values

    def measures(self, ids: list[str], question: nodes.Question) -> list[Any]:
        """Return the measures that a question asks for, as an answer has them."""
        clause = question.measure
        return [
            self.told(each.path, self.measured(each.path, ids))
            for each in (clause.measures if clause else ())
        ]

    def told(self, path: nodes.Path, value: Any) -> Any:
        """Return a measure as an answer has it."""
        if value is None or path.measure == "distinct":
            return value
        if path.names == ("date",):
            local = value[0].astimezone(ZONE)
            return local if value[1] else local.date()
        if path.names[-1] in ("when", "month"):
            return value.date()
        if path.names == ("level",):
            return LEVELS[value]
        whole = path.names[-1] in ("num", "hour") and path.measure not in ("average", "median")
        return int(value) if whole else float(f"{float(value):.12g}")

    def passes(self, ids: list[str], node: nodes.Condition) -> bool:
        """Say whether a group meets a condition on groups."""
        match node:
            case nodes.And(parts):
                return all(self.passes(ids, part) for part in parts)
            case nodes.Or(parts):
                return any(self.passes(ids, part) for part in parts)
            case nodes.Not(part):
                return not self.passes(ids, part)
            case nodes.Compare(path, operator, values):
                value = self.measured(path, ids) if path.measure else len(ids)
                if operator in ("is set", "is missing"):
                    return ((value is not None) == (operator == "is set")) != node.negated
                wanted = [Fraction(each.text) for each in values]  # type: ignore[union-attr]
                if value is None:
                    return node.negated
                holds = {
                    "=": value == wanted[0], "<": value < wanted[0], "<=": value <= wanted[0], ">": value > wanted[0],
                    ">=": value >= wanted[0], "between": wanted[0] <= value <= wanted[-1],
                }  # fmt: skip
                return bool(holds[operator]) != node.negated
            case _:
                raise AssertionError(node)

    def group_values(self, row: dict[str, Any], names: tuple[str, ...]) -> list[Any]:
        values = self.values(row, names)
        return [fold(value) if TYPES.get(names[-1]) == "text" else value for value in values]

    def called(self, names: tuple[str, ...], value: Any) -> str:
        """Return what people call a group."""
        last = names[-1]
        if last in ("area", "topic", "top"):
            return str(value.rpartition("/")[2].title())
        if last == "place":
            return str(self.by_id[value].get("title") or "").strip() or str(value)
        if last in ("level", "status"):
            return str((LEVELS if last == "level" else STATUSES)[value])
        if last == "kind":
            return str("ab"[value])
        if isinstance(value, bool):
            return "yes" if value else "no"
        if isinstance(value, datetime):
            day = value.date()
            week = "{:04}-W{:02}".format(*day.isocalendar()[:2])
            known = {"year": f"{day.year:04}", "month": day.isoformat()[:7], "week": week}
            return str(known.get(last, day.isoformat()))
        return str(value)

    def group_rank(self, names: tuple[str, ...], value: Any) -> Any:
        last = names[-1]
        if last in ("area", "topic", "top"):
            return (TREE + TOPICS).index(value)
        if last == "place":
            return text_key(self.called(names, value))
        return text_key(value) if isinstance(value, str) else value


@dataclass
class Reversed:
    value: Any

    def __lt__(self, other: Reversed) -> bool:
        return bool(other.value < self.value)


PARTS = ("year", "month", "week", "day")
TEXTUAL: dict[str, Any] = {
    "contains": lambda text, part: part in text,
    "starts with": str.startswith,
    "ends with": str.endswith,
}


@cache
def plain_letters() -> dict[int, str]:
    """Return the letters and digits of ASCII by their primary weights."""
    return {collator().sort_key(char)[0]: char for char in "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"}


def first_letter(text: str) -> str:
    char = next((char for char in unicodedata.normalize("NFD", text) if char.isalnum()), "#").upper()[0]
    return plain_letters().get(collator().sort_key(char)[0], char)


def oldest_first(question: nodes.Question) -> bool:
    first = question.order.keys[0] if question.order else nodes.OrderKey("newest")
    if first.by == "oldest":
        return True
    dated = first.path and (
        first.path.names[-1] in PARTS or TYPES.get(first.path.names[-1]) in ("date", "datetime")
    )
    return bool(dated and not first.descending)


def all_of(where: nodes.Where | None) -> list[nodes.Condition]:
    """Return the parts of a condition that all must hold."""
    found = [where.condition] if where else []
    while any(isinstance(node, nodes.And) for node in found):
        found = [part for node in found for part in (node.parts if isinstance(node, nodes.And) else (node,))]
    return found
