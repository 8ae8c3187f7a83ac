"""The bench at which a question is made: its sketches one after the other, and what the words do to them."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.asking.here import with_here
from elenchus.asking.query import resolved
from elenchus.errors import ElenchusError, OptionError, Problem, QuestionError, moved
from elenchus.exploring.keeping import Keeping, keeping
from elenchus.exploring.looking import MOST_ROWS, Basis, Look, looked
from elenchus.exploring.offers import Offers, offers
from elenchus.exploring.sketch import Line, Sketch
from elenchus.frozen import Frozen, Working, member, replace
from elenchus.language.parser import read_changes
from elenchus.language.tree import parts_of
from elenchus.site.site import interval_of
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

    from elenchus.plan.answer import Answer
    from elenchus.plan.explanation import Verdict
    from elenchus.site.site import Site

__all__ = ["WORDS", "Attempt", "OnBench", "Said", "Workbench"]

_AND = "and where "
_JOINT = re.compile(r"\s*(and\s+)?(where\s+)?", re.IGNORECASE)  # before a condition that is written anew
_MOVES = "Conditions are moved among themselves."
_MOST_UNDONE = 200
_UNDONE = "undo takes back what was changed here, redo makes it again."
_MOST_KNOWN = 500  # counts, and lists of values


class OnBench(Frozen):
    """What is on the bench at one moment; undoing goes back from one to the one before."""

    sketch: Sketch
    given: Mapping[str, tuple[str, ...]] = member(default_factory=dict)
    shown: tuple[str, ...] = ()


class _Word(NamedTuple):
    """A word that does something: how it is written, and what it does."""

    usage: str
    does: str


# The words besides clauses; those of the screen's keys do the same.
WORDS = {
    "off": _Word("off N", "switch line N off, to see what it does"),
    "on": _Word("on N", "switch it on again"),
    "drop": _Word("drop N", "take line N away"),
    "move": _Word("move N up", "let condition N come earlier; or down"),
    "edit": _Word("edit N CLAUSE", "write line N anew"),
    "undo": _Word("undo", "take the last change back"),
    "redo": _Word("redo", "and make it again"),
    "why": _Word("why ENTRY", "what becomes of one entry, and what would list it"),
    "chart": _Word("chart [FIELD]", "the months as bars, or another field"),
    "page": _Word("page N", "another page of the answer"),
    "show": _Word("show FIELDS", "which fields the rows show"),
    "with": _Word("with NAME=VALUE", "a value for the parameter :NAME"),
    "at": _Word("at TIME", "look as of another time: at 2026-06-01"),
    "copy": _Word("copy", "print the question"),
    "keep": _Word("keep [NAME]", "write it into listings.toml; the difference is shown first"),
    "help": _Word("help", "these words"),
    "quit": _Word("quit", "end, and write nothing"),
}


class Said(Working):
    """What came of a line that was entered: at most one of these, or problems.

    ``keeping`` is not written yet: somebody is to see the difference and agree.
    """

    problems: tuple[Problem, ...] = ()
    verdict: Verdict | None = None
    chart: Answer | None = None
    copied: str = ""
    keeping: Keeping | None = None
    helps: bool = False
    ends: bool = False


class Attempt(Working):
    """What would come of a line that is being written: a look, or what is wrong so far.

    The spans of ``problems`` count from the first character of the line; one that begins at its end says only
    that something is still to come.
    """

    look: Look | None = None
    problems: tuple[Problem, ...] = ()


class Workbench:
    """A question in the making on a site. It knows nothing of screens."""

    def __init__(
        self,
        site: Site,
        text: str,
        given: Mapping[str, Sequence[str]] | None = None,
        most: int = MOST_ROWS,
    ) -> None:
        """Begin with a question, or with a listing by its name; nothing is all entries.

        ``most`` rows, or groups, are shown of an answer without pages.
        Raises NoSuchName, QuestionError for a text that cannot be read.
        """
        self.site, self.most = site, most
        self.base = resolved(site, text)
        if self.base.problems:
            raise QuestionError(self.base.text, self.base.problems)
        first = {name: tuple(texts) for name, texts in (given or {}).items()}
        self.moments = [OnBench(Sketch.of(self.base.question), first)]
        self.known: dict[Any, Any] = {}
        self.looked: tuple[Any, Look] | None = None
        self.undone: list[OnBench] = []
        self.page: int | str = 1
        self.edited: int | None = None  # the line that is being written anew
        self.is_kept = True

    # What there is

    @property
    def moment(self) -> OnBench:
        """What is on the bench."""
        return self.moments[-1]

    @property
    def sketch(self) -> Sketch:
        """The question as it is."""
        return self.moment.sketch

    def basis(self, moment: OnBench | None = None) -> Basis:
        """Return what sketches are asked of."""
        moment = moment or self.moment
        return Basis(self.site, self.base, moment.given, moment.shown, most=self.most, known=self.known)

    def look(self) -> Look:
        """Return what comes of the question as it is."""
        return self.look_at(self.moment, self.page)

    def look_at(self, moment: OnBench, page: int | str = 1) -> Look:
        """Return what comes of a question, the last one from memory: who enters a line has looked at it."""
        if len(self.known) >= _MOST_KNOWN:
            self.known.clear()
        key = moment, page
        if self.looked is None or self.looked[0] != key or self.looked[1].basis.site is not self.site:
            self.looked = key, looked(moment.sketch, self.basis(moment), page)
        return self.looked[1]

    def attempt(self, text: str) -> Attempt:
        """Return what would come of a line."""
        if not text.strip():
            return Attempt(self.look())
        if self.word_of(text):
            return Attempt()
        sketch, problems = self.applied(text)
        if sketch is None:
            return Attempt(problems=tuple(problems))
        look = self.look_at(replace(self.moment, sketch=sketch))
        if look.answer is None:
            return Attempt(problems=tuple(self._in_text(look, text)))
        return Attempt(look)

    def offers(self, text: str) -> Offers:
        """Return what may be written at the end of a line."""
        words = text.split()
        word = self.word_of(text)
        if word and (len(words) > 1 or text.endswith(" ")):
            return self._offers_of_word(word, text)
        sketch, lead = self.sketch, 0
        if self.edited is not None and self.sketch.lines[self.edited].is_condition:
            sketch = sketch.put(self.edited, [])
            text, lead = _joined(text)
        found = offers(sketch, self.basis(), text)
        return replace(found, at=max(found.at + lead, 0))

    def _offers_of_word(self, word: str, text: str) -> Offers:
        """Return what may follow a word: rows after why, fields after show and chart."""
        first = text.lower().index(word) + len(word) + 1
        if word == "why":
            plain = "lead with " if not self.look().query.plan.subject.is_terms else ""
        else:
            plain = {"show": "order by ", "chart": "group by "}.get(word, "")
        if not plain or len(text) < first:
            return Offers(len(text), ())
        start = max(first, text.rfind(",") + 1) if word == "show" else first
        start += len(text[start:]) - len(text[start:].lstrip())
        found = offers(self.sketch, self.basis(), plain + text[start:])
        known = tuple(each for each in found.offers if each.note)
        return Offers(start + max(found.at - len(plain), 0), known)

    @staticmethod
    def word_of(text: str) -> str:
        """Return the word that a line begins with, nothing where it is a clause."""
        words = text.lower().split()
        if not words or words[:2] == ["at", "most"] or (words == ["at"] and not text.endswith(" ")):
            return ""
        return words[0] if words[0] in WORDS else ""

    def applied(self, text: str) -> tuple[Sketch | None, Sequence[Problem]]:
        """Return the sketch that a line makes, or what is wrong with its form."""
        number = self.edited
        line = self.sketch.lines[number] if number is not None else None
        if number is not None and line and line.is_condition:
            joined, lead = _joined(text)
            changes, problems = read_changes(joined)
            if problems or changes.also is None:
                return None, [moved(each, lead) for each in problems]
            parts = parts_of(changes.also.condition)
            rest = self.sketch.put(number, [Line("where", part) for part in parts])
            return rest.changed(replace(changes, also=None)), ()
        changes, problems = read_changes(text)
        if problems:
            return None, problems
        sketch = self.sketch
        if number is not None:
            sketch = sketch.put(number, [])
        return sketch.changed(changes), ()

    def _in_text(self, look: Look, text: str) -> list[Problem]:
        """Return the problems of a look at the places of the text that was written."""
        found = []
        written = look.sketch.written.text
        for problem in look.problems:
            span = problem.span
            word = written[span.start : span.end] if span else ""
            at = text.rfind(word) if word else -1
            found.append(
                replace(
                    problem, span=replace(span, start=at, end=at + len(word)) if span and at >= 0 else None
                )
            )
        return found

    # What is done

    def enter(self, text: str) -> Said:
        """Do what a line says. What is wrong changes nothing."""
        word = self.word_of(text)
        try:
            if word:
                rest = text.strip()[len(word) :].strip()
                return _further(_DOES[word](self, rest), len(text.rstrip()) - len(rest))
            return self._changed(text)
        except QuestionError as error:
            return Said(problems=tuple(replace(each, span=None, place=None) for each in error.problems))
        except ElenchusError as error:
            return Said(problems=tuple(replace(each, span=None) for each in error.problems))

    def _changed(self, text: str) -> Said:
        """Make a change that is written as clauses."""
        if not text.strip():
            return Said()
        sketch, problems = self.applied(text)
        if sketch is None:
            return Said(problems=tuple(_with_words(text, problems)))
        look = self.look_at(replace(self.moment, sketch=sketch))
        if look.answer is None and self.look().answer is not None:
            return Said(problems=tuple(self._in_text(look, text)))
        self.edited = None
        return self.put(replace(self.moment, sketch=sketch))

    def put(self, moment: OnBench) -> Said:
        """Put something else on the bench."""
        if moment != self.moment:
            self.moments = [*self.moments[-_MOST_UNDONE:], moment]
            self.undone.clear()
            self.page, self.is_kept, self.edited = 1, False, None
        return Said()

    def line(self, text: str) -> int:
        """Return the line, from 0, that a number names. Raises OptionError."""
        if text.isascii() and text.isdigit() and 1 <= int(text) <= len(self.sketch.lines):
            return int(text) - 1
        message = f"there is no line {quoted(text)}" if text else "the number of a line is missing"
        raise OptionError([Problem("no-such-line", message, f"Lines go from 1 to {len(self.sketch.lines)}.")])

    def switch(self, text: str, *, on: bool | None = None) -> Said:
        """Switch a line off or on."""
        return self.put(replace(self.moment, sketch=self.sketch.switched(self.line(text), on=on)))

    def drop(self, text: str) -> Said:
        """Take a line away."""
        return self.put(replace(self.moment, sketch=self.sketch.put(self.line(text), [])))

    def move(self, text: str) -> Said:
        """Move a condition."""
        number, _, way = text.partition(" ")
        steps, way = {"up": -1, "down": 1}, way.strip()
        if way not in steps:
            near, hint = nearest(way, steps), "Write move 3 up, or move 3 down."
            raise OptionError(
                [Problem("no-such-way", f"a condition moves up or down, not {quoted(way)}", hint, near=near)]
            )
        line = self.line(number)
        found = self.sketch.moved(line, line + steps[way])
        if found == self.sketch:
            ends = "the last" if steps[way] > 0 else "the first"
            what = (
                f"{ends} condition"
                if self.sketch.lines[line].is_condition
                else "a clause, which has its place"
            )
            raise OptionError([Problem("no-such-way", f"line {number} is {what}", _MOVES)])
        return self.put(replace(self.moment, sketch=found))

    def edit(self, text: str) -> Said:
        """Write a line anew."""
        number, _, rest = text.partition(" ")
        self.edited = self.line(number)
        try:
            return _further(self._changed(rest), len(text) - len(rest))
        finally:
            self.edited = None

    def undo(self, _text: str = "") -> Said:
        """Take the last change back."""
        if len(self.moments) > 1:
            self.undone.append(self.moments.pop())
            self.page, self.edited = 1, None
            return Said()
        return Said(problems=(Problem("nothing-to-undo", "nothing was changed", _UNDONE),))

    def redo(self, _text: str = "") -> Said:
        """Make a change again that was taken back."""
        if self.undone:
            self.moments.append(self.undone.pop())
            self.page, self.edited = 1, None
            return Said()
        return Said(problems=(Problem("nothing-to-undo", "nothing was taken back", _UNDONE),))

    def why(self, text: str) -> Said:
        """Tell what becomes of an entry."""
        return Said(verdict=self.look().verdict(text))

    def chart(self, text: str) -> Said:
        """Show the rows by month, or by another field."""
        changes, problems = read_changes(
            f"no order group by {text or 'date.month'} no limit no offset no per page"
        )
        if problems:
            return Said(problems=tuple(replace(each, span=None) for each in problems))
        kept = ("source", "unpublished", "where")
        sketch = Sketch(tuple(line for line in self.sketch.lines if line.name in kept)).changed(changes)
        query = self.basis().query(sketch)
        bars = replace(query.plan, per_group=0)
        return Said(chart=query.finished(self.site.executor.run(bars, query.listing.text)))

    def turn(self, text: str) -> Said:
        """Turn to a page."""
        self.look().query.answer(text)
        self.page = text
        return Said()

    def show(self, text: str) -> Said:
        """Let rows show other fields, those of the listing where none is named."""
        moment = replace(self.moment, shown=tuple(name.strip() for name in text.split(",") if name.strip()))
        _ = self.basis(moment).query(self.sketch).plan
        return self.put(moment)

    def give(self, text: str) -> Said:
        """Give a value to a parameter; take it away where the value is empty."""
        name, equals, value = text.partition("=")
        name = name.strip().removeprefix(":").removesuffix("?")
        if not name or not equals:
            hint = "Write with habitat=dunes; with habitat= takes it away."
            raise OptionError([Problem("no-value", f"with takes NAME=VALUE, not {quoted(text)}", hint)])
        given = {key: texts for key, texts in self.moment.given.items() if key != name}
        if value.strip():
            values = tuple(part.strip() for part in value.split(",") if part.strip())
            given[name] = values
        moment = replace(self.moment, given=given)
        with_here(self.site, self.base, given)  # raises where nothing is called so
        _ = self.basis(moment).query(self.sketch).plan if value.strip() else None
        return self.put(moment)

    def go(self, text: str) -> Said:
        """Look as of another time."""
        self.site = self.site.at(interval_of(self.site.definition, text, "at").start)
        self.known.clear()
        return Said()

    def copy(self, _text: str = "") -> Said:
        """Give the question as a text."""
        return Said(copied=self.sketch.written.text)

    def keep(self, text: str) -> Said:
        """Prepare to write the question as a listing."""
        _ = self.basis().query(self.sketch).plan  # raises where it cannot be asked
        found = keeping(self.site, self.sketch.question, self.base, text, self.moment.shown)
        return Said(keeping=found)

    def write(self, kept: Keeping) -> None:
        """Write a listing, and go on with it. Raises FolderError."""
        if not kept.is_idle:
            kept.write()
        self.is_kept = True
        self.site = kept.after()
        self.known.clear()
        self.base = self.site.library.get(kept.name)

    def help(self, _text: str = "") -> Said:
        """Show the words."""
        return Said(helps=True)

    def quit(self, _text: str = "") -> Said:
        """End."""
        return Said(ends=True)


_DOES: dict[str, Callable[[Workbench, str], Said]] = {
    "off": lambda bench, text: bench.switch(text, on=False),
    "on": lambda bench, text: bench.switch(text, on=True),
    "drop": Workbench.drop,
    "move": Workbench.move,
    "edit": Workbench.edit,
    "undo": Workbench.undo,
    "redo": Workbench.redo,
    "why": Workbench.why,
    "chart": Workbench.chart,
    "page": Workbench.turn,
    "show": Workbench.show,
    "with": Workbench.give,
    "at": Workbench.go,
    "copy": Workbench.copy,
    "keep": Workbench.keep,
    "help": Workbench.help,
    "quit": Workbench.quit,
}


def _joined(text: str) -> tuple[str, int]:
    """Return a condition that is written anew as one that joins others, and how far its places moved back.

    It may be written as its line is shown: with the word before it, or without.
    """
    found = _JOINT.match(text)
    own = found.end() if found else 0
    return _AND + text[own:], own - len(_AND)


def _further(said: Said, by: int) -> Said:
    """Return what came of a part of a line, its problems at their places in the whole."""
    return replace(said, problems=tuple(moved(each, by) for each in said.problems))


def _with_words(text: str, problems: Sequence[Problem]) -> list[Problem]:
    """Return the problems of a line, whose first word may be meant for one that does something."""
    first = text.split(maxsplit=1)[0]
    near, at = nearest(first, WORDS), text.index(first)
    return [
        replace(each, near=near) if near and not each.near and each.span and each.span.start == at else each
        for each in problems
    ]
