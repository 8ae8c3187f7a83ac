"""Changing a section with the page in sight: its question as lines and as a text, kept when it is right.

Nothing is written before somebody has seen the difference. Only who has the key that the preview printed,
on this machine, from a page of the preview itself, can do any of this.
"""

from __future__ import annotations

import json
import re
from hashlib import sha256
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import parse_qsl, urlencode

from elenchus.errors import ElenchusError, NoSuchName, Problem
from elenchus.exploring.keeping import Keeping, keeping, keeping_section
from elenchus.exploring.looking import Basis, Look, looked
from elenchus.exploring.offers import offers
from elenchus.exploring.sketch import Line, Sketch
from elenchus.frozen import Frozen, replace
from elenchus.language.parser import read, read_changes
from elenchus.language.tree import parts_of
from elenchus.pages.sections import placed
from elenchus.pieces.problems import plain_problems
from elenchus.preview.live import Scene
from elenchus.preview.pages import page_named, page_reply, sentence
from elenchus.preview.preview import TOOLS, pieces_html
from elenchus.preview.reply import HTML, Reply, redirect
from elenchus.report.exploring import kept_told
from elenchus.values.numbers import counting_number
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from markupsafe import Markup

    from elenchus.pages.book import Page
    from elenchus.pages.section import Section

__all__ = ["change_page", "changed_page", "offers_data", "refused"]

_AND = "and where "
_MOST_OFFERS = 40
_LEAD = re.compile(r"\s*(where|and)\s+(?!where)", re.IGNORECASE)
_SCRIPT = re.compile(r"<script\b[^>]*></script>")  # none runs in a page that is only looked at
_STEP = re.compile(r"(up|down|drop)-(\d{1,3})")


class _OnPage(NamedTuple):
    """A section of a page."""

    page: Page
    section: Section


class _Asked(Frozen):
    """What somebody has written: lines, which of them are on, one more, or the whole as a text.

    Each line has its clause, its text, and whether it is on.
    """

    lines: tuple[tuple[str, str, bool], ...] = ()
    more: str = ""
    text: str = ""
    was: str = ""
    does: str = "look"
    seen: str = ""


class _Read(Frozen):
    """What was read of that: a sketch, what is wrong, and what could not be read, so that nothing is lost.

    ``unread`` are lines by their places, each with its clause and its text.
    """

    sketch: Sketch
    problems: tuple[Problem, ...] = ()
    unread: tuple[tuple[int, str, str], ...] = ()
    more: str = ""
    text: str | None = None


def refused(message: str) -> Reply:
    """Return the reply to those who may not change anything."""
    text = f"{message}\n".encode()
    return Reply(text, "text/plain; charset=utf-8", 403)


def change_page(scene: Scene, query: str) -> Reply:
    """Return the form for a section as it is. Raises NoSuchName."""
    asked = dict(parse_qsl(query))
    place = _place_of(scene, asked.get("page", ""), asked.get("section", ""))
    sketch = Sketch.of(place.section.asked.listing.question)
    return _drawn(scene, place, _Read(sketch), looked(sketch, _basis_of(scene, place, sketch)))


def changed_page(scene: Scene, body: str) -> Reply:
    """Return the form after something was done in it; what is kept is written.

    Raises NoSuchName, FolderError, SiteError.
    """
    asked = dict(parse_qsl(body, keep_blank_values=True))
    place = _place_of(scene, asked.get("page", ""), asked.get("section", ""))
    form = _form_of(asked)
    found = _read(form)
    found = replace(found, sketch=_stepped(found.sketch, form.does))
    look = looked(found.sketch, _basis_of(scene, place, found.sketch))
    if form.does not in ("keep", "write") or found.problems or look.answer is None:
        return _drawn(scene, place, found, look)
    kept = _keeping(scene, place, found.sketch)
    if form.does == "write" and form.seen == _digest(kept):
        if not kept.is_idle:
            kept.write()
        return redirect(f"/{place.page.address}#{place.section.slug}")
    said = "The file was changed meanwhile: look again." if form.does == "write" else ""
    return _drawn(scene, place, found, look, keeping=kept, said=said)


def offers_data(scene: Scene, body: str) -> Reply:
    """Return what may be written at the end of a line, as data. Raises NoSuchName."""
    asked = dict(parse_qsl(body, keep_blank_values=True))
    place = _place_of(scene, asked.get("page", ""), asked.get("section", ""))
    text, number = asked.get("typed", ""), counting_number(asked.get("at", "")) - 1
    sketch = _read(_form_of({**asked, "more": ""})).sketch
    basis = _basis_of(scene, place, sketch)
    if 0 <= number < len(sketch.lines):
        sketch = sketch.put(number, [])
    match = _LEAD.match(text)
    lead = match[0] if match else ""
    rest = text[len(lead) :]
    found = [(_AND, offers(sketch, basis, _AND + rest))]
    if not lead and (number < 0 or " " in rest):
        found.insert(0, ("", offers(sketch, basis, rest)))
    data: dict[str, str] = {}
    for before, each in found:
        whole = (before + rest)[: each.at]
        for offer in each.offers if each.at >= len(before) else ():
            told = [offer.note, "" if offer.count is None else f"{offer.count} left"]
            data.setdefault(lead + (whole + offer.text).removeprefix(before), " · ".join(filter(None, told)))
    listed = [{"value": value, "label": label} for value, label in list(data.items())[:_MOST_OFFERS]]
    return Reply(json.dumps(listed, ensure_ascii=False).encode(), "application/json")


def _place_of(scene: Scene, address: str, number: str) -> _OnPage:
    """Return a section of a page. Raises NoSuchName."""
    page = page_named(scene, address)
    is_number = number == "0" or counting_number(number) > 0
    if page is None or not is_number or int(number) >= len(page.rule.sections):
        message = f"there is no section {quoted(number)} on {quoted(address)}"
        raise NoSuchName([Problem("unknown-page", message)])
    return _OnPage(page, placed(scene.book, page).sections[int(number)])


def _basis_of(scene: Scene, place: _OnPage, sketch: Sketch) -> Basis:
    """Return what a sketch of the section is asked of: the site, its listing, the values that the page gives.

    Where the page wants no repeats, the rows of sections that choose before are left out, as far as the
    sketch is for rows itself.
    """
    query = place.section.asked
    above = tuple(name for name, _ in place.section.above)
    found = Basis(scene.site, query.listing, query.given, without=above)
    whole = found.query(sketch)
    return replace(found, without=whole.left_out) if whole.is_askable else found


# What was written


def _form_of(asked: Mapping[str, str]) -> _Asked:
    """Return what a form says."""
    count = counting_number(asked.get("count", "")) if asked.get("count") != "0" else 0
    lines = tuple(
        (asked.get(f"clause-{at}", ""), asked.get(f"line-{at}", "").strip(), f"on-{at}" in asked)
        for at in range(min(count, 200))
    )
    return _Asked(
        lines=lines,
        more=asked.get("more", "").strip(),
        text=asked.get("text", "").strip(),
        was=asked.get("was", "").strip(),
        does=asked.get("do", "look"),
        seen=asked.get("seen", ""),
    )


def _read(form: _Asked) -> _Read:
    """Return the question that a form says; what cannot be read is told, and kept as it was written."""
    if " ".join(form.text.split()) != " ".join(form.was.split()):  # the text was changed, not the lines
        question, problems = read(form.text, comments=True)
        return _Read(Sketch.of(question), tuple(problems), text=form.text if problems else None)
    lines: list[Line] = []
    wrong: list[Problem] = []
    unread: list[tuple[int, str, str]] = []
    for number, (clause, text, is_on) in enumerate(form.lines):
        found, said = _lines_in(clause, text) if text else ([], ())
        lines += [Line(each.name, each.node, is_on) for each in found]
        wrong += said
        if said:
            unread.append((number, clause, text))
    sketch, more = Sketch().put(0, lines), ""
    if form.more:
        lead = _AND if read_changes(form.more)[1] else ""  # one more condition where it is no clause
        changes, problems = read_changes(lead + form.more)
        wrong += problems
        sketch, more = (sketch, form.more) if problems else (sketch.changed(changes), "")
    return _Read(sketch, tuple(wrong), tuple(unread), more)


def _lines_in(clause: str, text: str) -> tuple[list[Line], Sequence[Problem]]:
    """Return the lines that a text says which was written in the place of one."""
    if clause == "where":
        changes, problems = read_changes(_AND + _LEAD.sub("", text, count=1))
        if changes.also is None or problems:
            hint = "Write one such as habitat = shore."
            return [], problems or [Problem("expected", f"{quoted(text)} is no condition", hint)]
        return [Line("where", part) for part in parts_of(changes.also.condition)], ()
    changes, problems = read_changes(text)
    return list(Sketch().changed(changes).lines), problems


def _stepped(sketch: Sketch, does: str) -> Sketch:
    """Return a question after a line was moved or taken away."""
    match = _STEP.fullmatch(does)
    number = int(match[2]) if match else -1
    if match is None or number >= len(sketch.lines):
        return sketch
    if match[1] == "drop":
        return sketch.put(number, [])
    return sketch.moved(number, number + (1 if match[1] == "down" else -1))


# What is shown


def _keeping(scene: Scene, place: _OnPage, sketch: Sketch) -> Keeping:
    """Return what keeping a question writes: the listing of the section, or the section's own words."""
    rule = place.section.rule
    if rule.listing and not rule.ask:
        return keeping(scene.site, sketch.question, scene.site.library.get(rule.listing))
    return keeping_section(scene.site, place.page.rule, place.section.number, sketch.question)


def _digest(kept: Keeping) -> str:
    """Return what tells one difference from another."""
    return sha256((kept.file.before or b"") + b"\0" + (kept.file.after or b"")).hexdigest()


def _drawn(
    scene: Scene, place: _OnPage, found: _Read, look: Look, *, keeping: Keeping | None = None, said: str = ""
) -> Reply:
    """Return the form with what comes of it."""
    page, section = place
    lines = list(_lines_shown(look))
    for number, clause, text in found.unread:
        lines.insert(number, {"clause": clause, "text": text, "is_on": True, "is_wrong": True})
    problems = [sentence(each) for each in (*found.problems, *(() if look.answer else look.problems))]
    written = look.sketch.written.text
    drawn = scene.renderer.templates.drawn(
        "preview/change.html",
        tools=TOOLS,
        page=page,
        section=section,
        heading=section.title or section.label,
        lines=lines,
        problems=list(dict.fromkeys(problems)),
        answer=look.answer,
        above=len(look.basis.without),
        was=written,
        text=written if found.text is None else found.text,
        more=found.more,
        said=said,
        keeping=keeping,
        difference=pieces_html(kept_told(keeping)) if keeping else "",
        digest=_digest(keeping) if keeping else "",
        shown=_shown(scene, place, look),
        again=f"{TOOLS}change?{urlencode([('page', f'/{page.address}'), ('section', section.number)])}",
    )
    return Reply(drawn.encode(), HTML, headers={"Cache-Control": "no-store"})


def _lines_shown(look: Look) -> Iterator[dict[str, Any]]:
    """Yield the lines of a question as the form has them."""
    for number, (line, seen) in enumerate(zip(look.sketch.lines, look.lines, strict=True)):
        yield {
            "clause": line.name,
            "text": look.sketch.shown(number),
            "is_on": line.is_on,
            "is_condition": line.is_condition,
            "left": seen.left,
            "is_wrong": bool(seen.problems),
            "dates": [f"{date.start} to {date.end}" for date in seen.boundaries],
        }


def _shown(scene: Scene, place: _OnPage, look: Look) -> str | Markup:
    """Return the page as it would be, as it is while the question cannot be asked."""
    try:
        there = scene
        if look.answer is not None:
            site = _keeping(scene, place, look.sketch).after()
            there = Scene(site, scene.version, scene.shown, scene.offers_all)
        return _SCRIPT.sub("", page_reply(there, place.page.address, "").body.decode())
    except ElenchusError as error:
        return pieces_html(plain_problems(error.problems))
