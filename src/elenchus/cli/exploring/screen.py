"""Exploring on a whole screen: the question above, its answer in the middle, one line to type in below.

All that takes time runs in one thread beside that of the keys; what is typed meanwhile is not held up.
While a text is incomplete, the last whole answer stays.
"""

from __future__ import annotations

import asyncio
import gc
import sys
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import TYPE_CHECKING, Any

from prompt_toolkit.application import Application
from prompt_toolkit.buffer import Buffer
from prompt_toolkit.completion import CompleteEvent
from prompt_toolkit.data_structures import Point
from prompt_toolkit.filters import Always, Condition, Filter, completion_is_selected, has_completions
from prompt_toolkit.key_binding import KeyBindings
from prompt_toolkit.layout import (
    BufferControl,
    ConditionalContainer,
    Dimension,
    Float,
    FloatContainer,
    FormattedTextControl,
    HSplit,
    Layout,
    VSplit,
    Window,
)
from prompt_toolkit.layout.menus import CompletionsMenu
from prompt_toolkit.layout.processors import BeforeInput, Processor
from prompt_toolkit.output import ColorDepth
from prompt_toolkit.styles import Style

from elenchus.cli.exploring.styles import COLOURS, SHAPES, lines_of, painted
from elenchus.cli.exploring.typed import OffersMenu, WrongMarked
from elenchus.cli.printing import has_colours, show
from elenchus.errors import ElenchusError
from elenchus.exploring.workbench import Said
from elenchus.pieces.piece import Piece, Role, printable, width_of
from elenchus.pieces.problems import plain_problems
from elenchus.report.exploring import answer_told, flowed, lines_told, said_told, written_told
from elenchus.values.dates import from_instant, to_minute

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from prompt_toolkit.formatted_text import StyleAndTextTuples

    from elenchus.errors import Problem
    from elenchus.exploring.keeping import Keeping
    from elenchus.exploring.looking import Look
    from elenchus.exploring.workbench import Workbench

__all__ = ["explore_on_screen"]

_Lines = list["StyleAndTextTuples"]

_NARROWEST_PANEL = 34
_DRAWN = 0.01  # seconds in which a key is drawn: two threads of Python only hold each other up
_KEYS = (
    "Tab complete · Enter do · ↑↓ rows · Ctrl-N/P lines · Ctrl-T off/on · Ctrl-Z undo · F1 help · Ctrl-Q end"
)
_HELP = """\
Tab, ↓           complete what is typed; the number is that of the rows it would leave
Enter            do what is typed; with nothing typed: why the chosen row is here
↑ ↓              choose a row          PgUp PgDn    turn the page
Ctrl-N Ctrl-P    choose a line of the question
Ctrl-T           switch it off or on   Ctrl-O       write it anew
Alt-↑ Alt-↓      move it               Del          take it away (nothing typed)
Ctrl-Z Ctrl-Y    undo, redo            Esc          close what is open, clear the line
Ctrl-Q           end; nothing is written but by keep
"""


class _Screen:
    """The screen of one bench."""

    def __init__(self, bench: Workbench) -> None:
        self.bench = bench
        self.pool = ThreadPoolExecutor(1)
        self.shown: Look = bench.look()  # the last one with an answer
        self.seen: Look = self.shown  # the one whose lines are shown
        self.tried = ""  # the line that `wrong` is about
        self.wrong: tuple[Problem, ...] = ()
        self.message: list[Piece] = []
        self.panel: list[Piece] = []
        self.keeping: Keeping | None = None
        self.line: int | None = None
        self.row: int | None = None
        self.is_trying = False
        self.drawn: tuple[Look | None, int, _Lines] = (None, 0, [])
        self.buffer = Buffer(
            completer=OffersMenu(lambda text: self.beside(partial(self.bench.offers, text))),
            complete_while_typing=True,
            multiline=False,
            on_text_changed=lambda _: self.try_soon(),
        )
        coloured = has_colours(sys.stdout)
        self.app: Application[None] = Application(
            layout=Layout(self._layout(), focused_element=self.buffer),
            key_bindings=self._keys(),
            style=Style.from_dict(COLOURS if coloured else SHAPES),
            color_depth=None if coloured else ColorDepth.DEPTH_1_BIT,
            full_screen=True,
        )
        # Seconds after which Esc is no beginning of another key: of its bytes, and of two keys in a row.
        self.app.ttimeoutlen = self.app.timeoutlen = 0.04

    # Beside the keys

    async def beside(self, work: Callable[[], Any]) -> Any:
        """Return what some work gives that is done in the thread beside the keys, once the key is drawn."""
        await asyncio.sleep(_DRAWN)
        return await asyncio.get_running_loop().run_in_executor(self.pool, work)

    def do(self, work: Callable[[], Any], then: Callable[[Any], None]) -> None:
        """Let some work be done beside the keys, and go on with what it gives."""

        async def run() -> None:
            try:
                then(await self.beside(work))
            except Exception as error:
                self._at_fault(error)
            self.app.invalidate()

        self.app.create_background_task(run())

    def try_soon(self) -> None:
        """Look what would come of the line that is typed; what is typed meanwhile is looked at after that."""
        if not self.is_trying:
            self.is_trying = True
            self.app.create_background_task(self._try())

    async def _try(self) -> None:
        """Look at the line that is typed until it stays the same."""
        text = None
        while text != self.buffer.text:
            text = self.buffer.text
            try:
                attempt = await self.beside(partial(self.bench.attempt, text))
            except Exception as error:
                self._at_fault(error)
                break
            self.tried, self.wrong = text, attempt.problems
            if attempt.look:
                self.seen = attempt.look
                if attempt.look.answer is not None:
                    self.shown = attempt.look
            self.message = self._told_wrong(text) if text.strip() else []
            self.app.invalidate()
        self.is_trying = False

    def _at_fault(self, error: Exception) -> None:
        """Say that the program itself is at fault; what was built is still there."""
        said = f"Elenchus itself is at fault: {type(error).__name__}: {error}. Your question is as it was."
        self.message = [Piece(printable(said), Role.ERROR)]

    def wrong_in(self, text: str) -> Sequence[Problem]:
        """Return what is known to be wrong in a text that is typed."""
        return self.wrong if text == self.tried else ()

    def _told_wrong(self, text: str) -> list[Piece]:
        """Return what is wrong with the line that is typed: faint where it may only be incomplete."""
        for problem in self.wrong[:1]:
            is_open = problem.span is not None and problem.span.end >= len(text.rstrip())
            role = Role.FAINT if is_open and not problem.near else Role.NOTICE
            said = problem.sentences
            return [Piece(f"… {printable(said)}" if role is Role.FAINT else printable(said), role)]
        return []

    def refresh(self) -> None:
        """Show the question as it is."""

        def then(look: Look) -> None:
            self.seen = look
            if look.answer is not None:
                self.shown = look
            count = len(look.answer.rows) if look.answer else 0
            self.row = min(self.row, count - 1) if self.row is not None and count else None
            lines = len(look.sketch.lines)
            self.line = min(self.line, lines - 1) if self.line is not None and lines else None

        self.do(self.bench.look, then)

    # What is done

    def enter(self, text: str) -> None:
        """Do what a line says."""
        self.do(lambda: self.bench.enter(text), lambda said: self._entered(said, text))

    def _entered(self, said: Said, text: str) -> None:
        """Show what came of a line."""
        if said.ends:
            self.app.exit()
            return
        self.keeping = said.keeping if said.keeping and not said.keeping.is_idle else None
        told = list(flowed(said_told(said, text, self.panel_width), self.panel_width - 1))
        self.message = []
        if said.problems:
            first = said.problems[0]
            self.message = [Piece(printable(first.sentences), Role.ERROR)]
            if not self.buffer.text:
                self.buffer.text = text  # to be put right
                self.buffer.cursor_position = len(text)
            return
        self.panel = [*told, Piece(_HELP)] if said.helps else told
        self.refresh()

    def write(self, kept: Keeping) -> None:
        """Write a listing."""

        def work() -> list[Piece]:
            try:
                self.bench.write(kept)
            except ElenchusError as error:
                return list(plain_problems(error.problems))
            return list(written_told(kept))

        def then(told: list[Piece]) -> None:
            self.keeping, self.panel, self.message = None, [], told
            self.refresh()

        self.do(work, then)

    def judge(self) -> None:
        """Show why the chosen row is here."""
        answer = self.shown.answer
        if answer and self.row is not None and self.row < len(answer.rows):
            name = answer.rows[self.row].id
            self.do(lambda: self.bench.enter(f"why {name}"), lambda said: self._entered(said, ""))

    def word(self, text: str) -> None:
        """Do what a word says, as a key asks for it."""

        def then(said: Said) -> None:
            self.message = [Piece(printable(each.message), Role.NOTICE) for each in said.problems[:1]]
            self.refresh()

        self.do(lambda: self.bench.enter(text), then)

    # What is seen

    @property
    def columns(self) -> int:
        """The columns of the screen."""
        return self.app.output.get_size().columns

    @property
    def panel_width(self) -> int:
        """The columns of what opens beside the rows."""
        return max(min(self.columns // 2, 64), _NARROWEST_PANEL)

    @property
    def table_width(self) -> int:
        """The columns of the rows."""
        return max(self.columns - (self.panel_width + 1 if self.panel else 0) - 2, 20)

    def _head(self) -> StyleAndTextTuples:
        """Return the first line: the site, the time, the listing."""
        site, name = self.bench.site, self.bench.base.name
        now = to_minute(from_instant(site.clock.now, site.clock.zone))
        left = f" {printable(site.definition.title)} · as of {now} {site.clock.zone.key}"
        changed = "" if self.bench.is_kept or len(self.bench.moments) == 1 else " (changed)"
        right = f"{name or 'a question'}{changed} "
        gap = " " * max(self.columns - width_of(left) - width_of(right), 1)
        return [("class:bar", f"{left}{gap}{right}"[: self.columns])]

    def _question(self) -> StyleAndTextTuples:
        """Return the lines of the question."""
        now = self.bench.sketch if self.seen.sketch != self.bench.sketch else None
        return painted(lines_told(self.seen, self.columns, self.line, now))

    def _answer(self) -> _Lines:
        """Return the lines of the answer, made once for each look and width."""
        look, width, lines = self.drawn
        if look is not self.shown or width != self.table_width:
            lines = lines_of(answer_told(self.shown, self.table_width))
            self.drawn = self.shown, self.table_width, lines
        return lines

    def _rows(self) -> StyleAndTextTuples:
        """Return the answer, its chosen row marked."""
        lines = self._answer()
        chosen = self._chosen_line(lines)
        found: StyleAndTextTuples = []
        for number, line in enumerate(lines):
            if number == chosen:
                found += [("class:chosen", f"▸ {''.join(text for _, text, *_ in line)}"), ("", "\n")]
            else:
                found += [("", "  "), *line, ("", "\n")]
        return found

    def _chosen_line(self, lines: _Lines) -> int:
        """Return the line of the chosen row, -1 for none; rows of groups are those that are indented."""
        answer = self.shown.answer
        if answer is None or self.row is None or self.row >= len(answer.rows):
            return -1
        if answer.groups is None:
            return self.row + 1  # below the headings
        rows = [number for number, line in enumerate(lines) if line and line[0][1].startswith("  ")]
        shown = [name for group in answer.groups for name in group.rows]
        places = dict(
            zip(reversed(shown), reversed(rows[: len(shown)]), strict=False)
        )  # each where it is first
        return places.get(answer.rows[self.row].id, -1)

    def _cursor(self) -> Point:
        """Return the line of the answer that must be seen."""
        lines = self._answer()
        return Point(0, max(self._chosen_line(lines), 0))

    def _status(self) -> StyleAndTextTuples:
        """Return the last line: what the keys do now."""
        if self.keeping:
            text = f"Enter writes {self.keeping.file.path} · Esc does not"
        elif self.bench.edited is not None:
            text = f"writing line {self.bench.edited + 1} anew · Enter does it · Esc leaves it as it is"
        elif self.panel:
            text = "Esc closes what is open beside"
        else:
            text = _KEYS
        return [("class:bar", f" {text}".ljust(self.columns)[: self.columns])]

    def _layout(self) -> FloatContainer:
        """Return what the screen is made of."""
        question = Window(
            FormattedTextControl(self._question),
            height=lambda: Dimension(preferred=self._height_of_question(), max=self._height_of_question()),
            dont_extend_height=True,
        )
        rows = Window(
            FormattedTextControl(self._rows, get_cursor_position=self._cursor), always_hide_cursor=True
        )
        panel = ConditionalContainer(
            VSplit(
                [
                    Window(width=1, char="│"),
                    Window(
                        FormattedTextControl(lambda: painted(self.panel)),
                        width=lambda: Dimension.exact(self.panel_width),
                        wrap_lines=True,
                    ),
                ]
            ),
            Condition(lambda: bool(self.panel)),
        )
        said = FormattedTextControl(lambda: painted(self.message))
        message = ConditionalContainer(
            Window(said, wrap_lines=True, height=Dimension(max=3), dont_extend_height=True),
            Condition(lambda: bool(self.message)) & ~has_completions,
        )
        prompt: list[Processor] = [BeforeInput("› ", "class:strong")]
        line = BufferControl(self.buffer, lexer=WrongMarked(self.wrong_in), input_processors=prompt)
        body = HSplit(
            [
                Window(FormattedTextControl(self._head), height=1),
                question,
                Window(height=1, char="─"),
                VSplit([rows, panel]),
                message,
                Window(height=1, char="─"),
                Window(line, height=1),
                Window(FormattedTextControl(self._status), height=1),
            ]
        )
        menu = CompletionsMenu(max_height=10, scroll_offset=1)
        return FloatContainer(body, [Float(menu, xcursor=True, ycursor=True)])

    def _height_of_question(self) -> int:
        """Return the lines that the question takes: less than half of the screen."""
        wanted = sum(1 + len(line.problems) for line in self.seen.lines) or 1
        return min(wanted, max(self.app.output.get_size().rows // 2 - 2, 3))

    # Keys

    def _keys(self) -> KeyBindings:
        """Return what the keys do."""
        keys = KeyBindings()
        is_empty = Condition(lambda: not self.buffer.text)
        does: list[tuple[tuple[str, ...], Filter, Callable[[], object]]] = [
            (("enter",), completion_is_selected, self._take_offer),
            (("enter",), ~completion_is_selected, self._enter),
            (("tab",), Always(), self._complete),
            (("s-tab",), Always(), self.buffer.complete_previous),
            (("escape",), Always(), self._close),
            (("c-t",), Always(), lambda: self._with_line(lambda line: self.word(self._switch(line)))),
            (("c-o",), Always(), lambda: self._with_line(self._edit)),
            (("delete",), is_empty, lambda: self._with_line(lambda line: self.word(f"drop {line + 1}"))),
            (("c-z",), Always(), lambda: self.word("undo")),
            (("c-y",), Always(), lambda: self.word("redo")),
            (("f1",), Always(), lambda: self.enter("help")),
            (("c-q",), Always(), self._end),
            (("c-c",), Always(), self._end),
        ]
        for up, step in ((True, -1), (False, 1)):
            arrow = "up" if up else "down"
            does += [
                ((arrow,), has_completions, partial(self._in_menu, step)),
                ((arrow,), ~has_completions, partial(self._choose_row, step)),
                (("escape", arrow), Always(), partial(self._move_line, step)),
                (("c-p" if up else "c-n",), Always(), partial(self._choose_line, step)),
                (("pageup" if up else "pagedown",), Always(), partial(self._turn, step)),
            ]
        for names, where, do in does:
            keys.add(*names, filter=where)(lambda _event, work=do: work())
        return keys

    def _end(self) -> None:
        """End."""
        self.app.exit()

    def _take_offer(self) -> None:
        """Take the chosen offer, which stands in the line already, and offer what may follow it."""
        self.buffer.complete_state = None
        self.buffer.start_completion(complete_event=CompleteEvent(text_inserted=True))

    def _enter(self) -> None:
        """Do what is typed; else write what is to be kept, else tell why the chosen row is here."""
        text = self.buffer.text
        self.buffer.reset()
        if text.strip():
            self.enter(text)
        elif self.keeping:
            self.write(self.keeping)
        else:
            self.judge()

    def _complete(self) -> None:
        """Offer what may be written, or go on to the next offer."""
        if self.buffer.complete_state:
            self.buffer.complete_next()
        else:
            self.buffer.start_completion(select_first=True)

    def _close(self) -> None:
        """Close the menu, else clear the line, else close what is open beside."""
        if self.buffer.complete_state:
            self.buffer.cancel_completion()
            return
        self.bench.edited = None
        if self.buffer.text:
            self.buffer.reset()
            self.try_soon()
        else:
            self.panel, self.keeping, self.message = [], None, []

    def _in_menu(self, by: int) -> None:
        """Go on in the menu of what may be written."""
        (self.buffer.complete_next if by > 0 else self.buffer.complete_previous)()

    def _choose_row(self, by: int) -> None:
        """Choose another row; a verdict that is open is then that of this one."""
        answer = self.shown.answer
        count = len(answer.rows) if answer else 0
        if count:
            self.row = min(max((-1 if self.row is None else self.row) + by, 0), count - 1)

    def _choose_line(self, by: int) -> None:
        """Choose another line of the question."""
        count = len(self.seen.sketch.lines)
        if count:
            start = (-1 if by > 0 else count) if self.line is None else self.line
            self.line = min(max(start + by, 0), count - 1)

    def _with_line(self, then: Callable[[int], None]) -> None:
        """Do something with the chosen line; say how one is chosen where none is."""
        if self.line is None or self.line >= len(self.bench.sketch.lines):
            self.message = [Piece("Choose a line first, with Ctrl-N and Ctrl-P.", Role.NOTICE)]
        else:
            then(self.line)

    def _switch(self, line: int) -> str:
        """Return the words that switch a line to what it is not."""
        return f"{'off' if self.bench.sketch.lines[line].is_on else 'on'} {line + 1}"

    def _edit(self, line: int) -> None:
        """Put a line where it can be written anew."""
        self.bench.edited = line
        self.buffer.text = self.bench.sketch.lines[line].text
        self.buffer.cursor_position = len(self.buffer.text)

    def _move_line(self, by: int) -> None:
        """Move the chosen condition."""

        def move(line: int) -> None:
            if self.bench.sketch.moved(line, line + by) != self.bench.sketch:
                self.word(f"move {line + 1} {'down' if by > 0 else 'up'}")
                self._choose_line(by)

        self._with_line(move)

    def _turn(self, by: int) -> None:
        """Turn to another page; the rows go on where there is one only."""
        answer = self.shown.answer
        if answer and 1 <= answer.page + by <= answer.pages:
            self.row = None
            self.word(f"page {answer.page + by}")
        else:
            self._choose_row(by * 10)


def explore_on_screen(bench: Workbench) -> None:
    """Show a bench until somebody ends it; a question that was changed and not kept is printed then."""
    screen = _Screen(bench)
    gc.collect()
    gc.freeze()  # what was read stays: to look through it for circles would hold up a key
    try:
        screen.app.run()
    finally:
        screen.pool.shutdown(wait=False, cancel_futures=True)
    if not bench.is_kept:
        show(said_told(Said(copied=bench.sketch.written.text), "", None))
