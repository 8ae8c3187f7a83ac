"""Checks of the content itself: values, terms, references, statuses, names that are there twice."""

from __future__ import annotations

import re
from collections import defaultdict
from itertools import combinations
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.editing.columns import bad_edits
from elenchus.engine.columns.column import Lists, Numbers, Texts, narrowed
from elenchus.engine.columns.sensitive import private_column, texts_of
from elenchus.errors import Edit, KeyEdit, Place, Problem
from elenchus.rendering.bodies import LONGEST, body_of, is_readable
from elenchus.schema.conform import says_yes_or_no
from elenchus.schema.types import CORE_FIELDS, STATUSES, Type
from elenchus.site.keys import SITE_FILE
from elenchus.site.toml import open_toml
from elenchus.values.addresses import given_href, origin_of
from elenchus.values.dates import from_instant, to_minute
from elenchus.values.private import private_text
from elenchus.values.texts import fold, nearest, quoted, slips, with_article

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from numpy.typing import NDArray

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.view import View
    from elenchus.pages.survey import Survey
    from elenchus.schema.taxonomy import Taxonomy
    from elenchus.schema.types import Field
    from elenchus.site.site import Site

__all__ = ["find"]

_FEW = 4
_FEWEST_SIGNS = 1_000  # characters of a text that could have too many brackets
_FEWEST = 4  # entries of a kind from which on a habit can be seen
_HABIT = 0.75  # of a kind's entries that have a term, so that those without one are remarkable
_SHORTEST_KEY = 4  # letters of a key that may be another, misspelt
_LONG_KEY = 6  # letters of a key in which there may be two slips
_FEW_OF = 0.1  # of the entries of a kind that may have a misspelt key
_SHORTEST = 6  # letters of terms whose spellings can be nearly the same
_MOST_ALIKE = 40  # terms that share a form
_SHOWS = re.compile(r"!\[|<\s*img\b", re.IGNORECASE)  # what can show a picture
_NUMBER = re.compile(r"\s*[+-]?\d+([.,]\d+)?\s*")
_DATE = re.compile(r"\s*\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}.*)?\s*")
# Dates that no declared type reads: 5.3.2024, 05/03/2024, March 5, 2024, 5 mars 2024.
_OTHER_DATE = re.compile(
    r"\s*(\d{1,4}[./-]\d{1,2}[./-]\d{1,4}|[^\W\d]+\.? \d{1,2},? \d{4}|\d{1,2}\.? [^\W\d]+\.?,? \d{4})\s*"
)
_MOST_ALIKE = 5  # titles that several entries have, each of which is told
# Keys by which other programs keep entries back, whatever their separators.
_LIKE_FLAGS = frozenset(
    [
        "active",
        "archived",
        "deleted",
        "disabled",
        "enabled",
        "expired",
        "hidden",
        "hide",
        "inactive",
        "internal",
        "invisible",
        "isdraft",
        "ishidden",
        "isprivate",
        "ispublished",
        "live",
        "offline",
        "online",
        "private",
        "public",
        "secret",
        "unlisted",
        "unpublished",
        "visible",
        "wip",
    ]
)


def find(survey: Survey) -> Iterator[Problem]:
    """Yield what is wrong with the content, or odd about it."""
    data, view = survey.site.dataset, survey.site.engine.view()
    yield from survey.site.content.failures
    yield from data.problems
    yield from data.notes
    yield from _without_changes(survey)
    yield from bad_edits(survey.site)
    yield from _statuses(data, view)
    yield from _twice(data, view)
    yield from _hidden_references(data, view)
    yield from _numbers_as_text(data)
    yield from _like_flags(data)
    yield from _misspelt_keys(data)
    yield from _private_fields(data, view)
    yield from _private_texts(data, view)
    yield from _other_origins(survey.site, view)
    yield from _titles_from_names(data)
    yield from _unread_bodies(data)
    yield from _without_words(data, view)
    for taxonomy in data.taxonomies.values():
        yield from _near_duplicates(data, taxonomy)
        yield from _without_term(data, view, taxonomy)


def _without_changes(survey: Survey) -> Iterator[Problem]:
    """Yield tables on servers that do not say when a row was changed, so that a change costs all rows."""
    definition = survey.site.definition
    for spec in definition.sources:
        if spec.table and not spec.paths and not spec.table.updated:
            place = open_toml(definition.folder / SITE_FILE, SITE_FILE).place(("sources", spec.name))
            why = "since no column says when one was changed"
            message = f"all rows of {spec.name} are read again after any change, {why}"
            hint = 'If there is one, write updated = "…" in the source.'
            yield Problem("all-rows-read", message, hint, place=place)


def _place_of(data: Dataset, row: int) -> Place:
    """Return the file of an entry."""
    return Place(str(data.texts("source").item(row)))


def _some(data: Dataset, rows: Sequence[int]) -> str:
    """Return the ids of some rows, the first few by name."""
    names = ", ".join(data.entries.ids[row] for row in rows[:_FEW])
    return names + (f" and {len(rows) - _FEW} more" if len(rows) > _FEW else "")


def _statuses(data: Dataset, view: View) -> Iterator[Problem]:
    """Yield entries that say “published” and are not yet, and those that say “scheduled” and are public."""
    status, dates = data.statuses, data.dates("date")
    ahead = dates.valid & (dates.keys > view.now)
    says = {name: status.valid & (status.keys == STATUSES.index(name)) for name in ("published", "scheduled")}
    for row in np.flatnonzero(says["published"] & ahead).tolist():
        day = to_minute(from_instant(int(dates.keys[row]), data.zone))
        message = f"{data.entries.ids[row]} says published, and is not public before {day}"
        cure = Edit(data.entries.ids[row], "status", "=", "scheduled")
        hint = "Say scheduled, if that is meant."
        yield Problem("published-ahead", message, hint, place=_place_of(data, row), cure=cure)
    for row in np.flatnonzero(says["scheduled"] & dates.valid & ~ahead).tolist():
        day = to_minute(from_instant(int(dates.keys[row]), data.zone))
        message = f"{data.entries.ids[row]} says scheduled, and is public since {day}"
        cure = Edit(data.entries.ids[row], "status", "=", "published")
        yield Problem("scheduled-past", message, "Say published.", place=_place_of(data, row), cure=cure)
    for row in np.flatnonzero(says["scheduled"] & ~dates.valid).tolist():
        message = f"{data.entries.ids[row]} is scheduled without a date, so it never becomes public"
        yield Problem("scheduled-never", message, "Give it a date.", place=_place_of(data, row))


def _twice(data: Dataset, view: View) -> Iterator[Problem]:
    """Yield entries of one kind that share a title."""
    titles = view.titles
    groups = list(_alike(np.flatnonzero(titles.valid & view.visible), data.entries.kinds, titles.codes))
    if len(groups) > _MOST_ALIKE:
        count, rows = sum(map(len, groups)), groups[0]
        title = quoted(str(titles.item(rows[0])))
        message = f"{count:,} entries share {len(groups):,} titles, such as {title}: {_some(data, rows)}"
        hint = 'If the titles are generated, add a second field: title = "{title}, {…}" in the source.'
        yield Problem("duplicate-title", message, hint, place=_place_of(data, rows[-1]))
        return
    for rows in groups:
        message = f"{_some(data, rows)} have the same title, {quoted(str(titles.item(rows[0])))}"
        hint = "Give one of them another title."
        yield Problem("duplicate-title", message, hint, place=_place_of(data, rows[-1]))


def _alike(rows: NDArray[np.intp], *keys: NDArray[Any]) -> Iterator[list[int]]:
    """Yield the rows that have the same of all keys, where they are several, in the order of their first."""
    order = np.lexsort([key[rows] for key in keys])
    same = np.logical_and.reduce([np.diff(key[rows[order]]) == 0 for key in keys])
    edges = np.flatnonzero(np.concatenate(([True], ~same, [True]))) if len(rows) else np.zeros(0, np.intp)
    several = np.flatnonzero(np.diff(edges) > 1)
    found = [np.sort(rows[order[edges[at] : edges[at + 1]]]).tolist() for at in several.tolist()]
    yield from sorted(found)


def _hidden_references(data: Dataset, view: View) -> Iterator[Problem]:
    """Yield public entries that refer to one that is not public."""
    for (name, kind), column in data.entries.columns.items():
        if kind.type is not Type.ENTRY:
            continue
        single = narrowed(column.elements if isinstance(column, Lists) else column, Numbers)
        owners = column.owners if isinstance(column, Lists) else np.arange(len(data.entries))
        for at in np.flatnonzero(single.valid & view.visible[owners]).tolist():
            target = int(single.keys[at])
            if not view.visible[target]:
                row = int(owners[at])
                message = f"{data.entries.ids[row]}: its {name}, {data.entries.ids[target]}, is not public"
                hint = "Visitors see it as missing until that is published."
                yield Problem("reference-to-hidden", message, hint, place=_place_of(data, row))


def _numbers_as_text(data: Dataset) -> Iterator[Problem]:
    """Yield text fields all of whose values are numbers, or dates."""
    seen: set[tuple[str, object]] = set()
    for kind in data.kind_names:
        for name, field in data.schema.kinds[kind].fields.items():
            if field.type.type is Type.TEXT and (name, field.type) not in seen:
                seen.add((name, field.type))
                yield from _as_text(data, kind, field)


def _as_text(data: Dataset, kind: str, field: Field) -> Iterator[Problem]:
    """Yield a text field of a kind whose values are all numbers, or all dates."""
    column = data.entries.columns[field.name, field.type]
    single = column.elements if isinstance(column, Lists) else column
    if not isinstance(single, Texts):
        return
    texts = single.lexicon.texts.at(single.places[single.valid])
    for pattern, code, what, types in _SHAPES:
        if len(texts) > 1 and all(pattern.fullmatch(text) for text in texts):
            message = f"{field.name} of {kind} is text, and each of its {len(texts)} values is {what}"
            hint = f'Declare it: {field.name} = {{ type = "{types}" }} in [kinds.{kind}.fields].'
            if not types:
                hint = "Write them as 2026-05-18, and declare the field as a date."
            row = int(np.flatnonzero(column.valid)[0])
            yield Problem(code, message, hint, place=_place_of(data, row))
            return


_SHAPES = (
    (_NUMBER, "number-as-text", "a number", "number"),
    (_DATE, "date-as-text", "a date", "date"),
    (_OTHER_DATE, "date-as-text", "a date of another form", ""),
)


def _like_flags(data: Dataset) -> Iterator[Problem]:
    """Yield fields that say yes or no under a name that sounds as if they kept entries back, and do not."""
    for kind in data.kind_names:
        for name, field in data.schema.kinds[kind].fields.items():
            word = "".join(char for char in fold(name) if char.isalnum())
            if word not in _LIKE_FLAGS or field.type.many:
                continue
            column = data.entries.columns[name, field.type]
            rows = np.flatnonzero(column.valid & (data.entries.kinds == data.kind_names.index(kind))).tolist()
            is_yes_no = field.type.type is Type.YESNO or (
                isinstance(column, Texts) and all(says_yes_or_no(column.item(row)) for row in rows)
            )
            if rows and is_yes_no:
                message = (
                    f"{name} of {kind} says yes or no in {len(rows)} of its entries, and keeps none back"
                )
                hint = f'If it should, write flags = {{ {name} = "draft" }} below the source.'
                yield Problem("flag-without-effect", message, hint, place=_place_of(data, rows[0]))


def _misspelt_keys(data: Dataset) -> Iterator[Problem]:
    """Yield keys that only a few entries have, and that look like a declared key which these lack."""
    for number, kind in enumerate(data.kind_names):
        of_kind = data.entries.kinds == number
        known = data.schema.fields_of(kind)
        declared = [name for name, field in known.items() if field.declared]
        most = max(1, _FEW_OF * int(of_kind.sum()))
        for name, field in data.schema.kinds[kind].fields.items():
            if field.declared or len(name) < _SHORTEST_KEY:
                continue
            rows = np.flatnonzero(data.entries.columns[name, field.type].valid & of_kind)
            near = _likely_key(name, declared) if 0 < len(rows) <= most else ""
            if near and not data.entries.columns[near, known[near].type].valid[rows].any():
                hint = f"If it is another field, declare it in [kinds.{kind}.fields]."
                for row in rows.tolist():
                    message = f"nothing declares the key {name}"
                    cure, place = KeyEdit(data.entries.ids[row], name, near), _place_of(data, row)
                    yield Problem("misspelt-key", message, hint, place=place, near=(near,), cure=cure)


def _likely_key(name: str, declared: Sequence[str]) -> str:
    """Return the declared key that a key differs from by a slip; nothing if there is none.

    A plural is no slip: ``tag`` and ``tags`` may be two fields.
    """
    folded = fold(name)
    if any(folded.rstrip("s") == fold(each).rstrip("s") for each in declared):
        return ""
    most = 1 if len(name) < _LONG_KEY else 2
    near = nearest(name, declared, most=1)
    return next((each for each in near if slips(folded, fold(each)) <= most), "")


def _private_fields(data: Dataset, view: View) -> Iterator[Problem]:
    """Yield fields of public entries whose names or values look like secrets, or are about private people."""
    for kind in data.kind_names:
        of_kind = view.visible & (data.entries.kinds == data.kind_names.index(kind))
        for name, field in data.schema.kinds[kind].fields.items():
            if name in CORE_FIELDS and name != "summary":
                continue
            column = data.entries.columns[name, field.type]
            if what := private_column(name, column, np.flatnonzero(of_kind)):
                first = int(np.flatnonzero(of_kind & column.valid)[0])
                message = f"{name} of {kind} looks like {what}, and everybody can read it"
                hint = f'If nobody should, write omit = ["{name}"] below the source.'
                yield Problem("private-field", message, hint, place=_place_of(data, first))


def _private_texts(data: Dataset, view: View) -> Iterator[Problem]:
    """Yield texts of public entries that tell a password or a private key."""
    bodies = data.texts("body")
    for row in np.flatnonzero(bodies.valid & view.visible).tolist():
        if what := private_text(bodies.item(row) or ""):
            message = f"the text of {data.entries.ids[row]} seems to tell {what}, and everybody can read it"
            hint = "Take it out, or make the entry a draft."
            yield Problem("private-text", message, hint, place=_place_of(data, row))


def _other_origins(site: Site, view: View) -> Iterator[Problem]:
    """Yield the other origins from which pages load pictures: they learn of each visitor."""
    data, own = site.dataset, site.definition.address
    if not site.definition.remote:
        return
    found: dict[str, dict[int, None]] = defaultdict(dict)
    for (_, kind), column in data.entries.columns.items():
        if kind.type is Type.IMAGE:
            for row in np.flatnonzero(column.valid & view.visible).tolist():
                for address in texts_of(column, row):
                    found[origin_of(given_href(address), own)][row] = None
    bodies = data.texts("body")
    for row in np.flatnonzero(bodies.valid & view.visible).tolist():
        text = bodies.item(row) or ""
        if "//" in text and _SHOWS.search(text):
            for address in body_of(text).loaded:
                found[origin_of(address, own)][row] = None
    for origin, rows in sorted(found.items()):
        if origin:
            entries = "1 entry loads" if len(rows) == 1 else f"{len(rows)} entries load"
            message = f"{entries} pictures from {origin}: {_some(data, list(rows))}"
            hint = "Keep the pictures in the site; remote = false below [site] keeps those of others out."
            yield Problem("other-origin", message, hint, place=_place_of(data, next(iter(rows))))


def _unread_bodies(data: Dataset) -> Iterator[Problem]:
    """Yield texts shown as they are written, because reading them as Markdown would take too long."""
    bodies = data.texts("body")
    texts = bodies.lexicon.texts.encoded
    perhaps = np.fromiter((_may_be_unread(text) for text in texts), dtype=np.bool_, count=len(texts))
    for row in np.flatnonzero(bodies.valid & np.append(perhaps, False)[bodies.places]).tolist():
        if not is_readable(bodies.item(row) or ""):
            message = f"the text of {data.entries.ids[row]} is shown as it is written, not as Markdown"
            hint = f"It has more than {LONGEST} characters, or over a thousand brackets that never close."
            yield Problem("unread-text", message, hint, place=_place_of(data, row))


def _may_be_unread(text: bytes) -> bool:
    """Say whether a text in UTF-8 has enough signs or brackets that it could be one."""
    if len(text) <= _FEWEST_SIGNS:
        return False
    return len(text) > LONGEST or text.count(b"[") > _FEWEST_SIGNS or text.count(b"<") > _FEWEST_SIGNS


def _titles_from_names(data: Dataset) -> Iterator[Problem]:
    """Yield for each kind the entries that nobody gave a title, so that they have the name of their file."""
    found: dict[str, list[int]] = defaultdict(list)
    for row, guessed in data.guessed.items():
        if guessed.get("title") == "file name":
            found[data.kind_of(row)].append(row)
    for kind, rows in found.items():
        verb = (
            "entry has its file's name for a title"
            if len(rows) == 1
            else "entries have their files' names for titles"
        )
        message = f"{len(rows)} {kind} {verb}: {_some(data, rows)}"
        yield Problem(
            "title-from-name", message, "Write title: … in the file.", place=_place_of(data, rows[0])
        )


def _near_duplicates(data: Dataset, taxonomy: Taxonomy) -> Iterator[Problem]:
    """Yield pairs of used terms that are nearly alike: one letter apart, in the plural, or in signs."""
    by_form: dict[tuple[str, str], list[int]] = defaultdict(list)
    column = data.terms(taxonomy.name)
    used = np.bincount(column.terms, minlength=len(taxonomy.terms))
    numbers = np.flatnonzero(used > 0).tolist()
    for number in numbers:
        slug = taxonomy.terms[number].slug
        plain = "".join(char for char in fold(slug) if char.isalnum())
        for form in _forms(plain):
            by_form[form, _digits(slug)].append(number)
    # Of very many that are alike, which no two people wrote, the first are enough.
    pairs = {pair for found in by_form.values() for pair in combinations(found[:_MOST_ALIKE], 2)}
    if not pairs:
        return
    first_row: dict[int, int] = {}
    for row in range(len(data.entries)):
        for number in column.item(row):
            first_row.setdefault(number, row)
    for one, other in sorted(pairs):
        first, second = taxonomy.terms[one], taxonomy.terms[other]
        if first.slug == second.slug:
            continue
        rarer = one if used[one] < used[other] else other
        message = (
            f"the {taxonomy.name} terms {quoted(first.slug)} ({used[one]}) and {quoted(second.slug)} "
            f"({used[other]}) are nearly the same"
        )
        hint = "If they are one, keep one and make the other its alias."
        yield Problem("near-duplicate-terms", message, hint, place=_place_of(data, first_row[rarer]))


def _forms(text: str) -> set[str]:
    """Return the text with each letter left out in turn: two that share a form are a letter apart."""
    if len(text) < _SHORTEST:
        return {text, text.removesuffix("s")}
    return {text, *(text[:at] + text[at + 1 :] for at in range(len(text)))}


def _digits(text: str) -> str:
    """Return the digits of a text: terms that differ by a number are meant to."""
    return "".join(char for char in text if char.isdigit())


def _without_words(data: Dataset, view: View) -> Iterator[Problem]:
    """Yield public entries with a picture and no words for those who cannot see it."""
    image, words = data.texts("image"), data.texts("image_alt")
    lacking = np.flatnonzero(view.visible & image.valid & ~words.valid).tolist()
    if lacking:
        verb = "entry has" if len(lacking) == 1 else "entries have"
        message = f"{len(lacking)} {verb} an image and no image_alt: {_some(data, lacking)}"
        hint = "Say in a few words what it shows, for those who cannot see it."
        yield Problem("image-without-words", message, hint, place=_place_of(data, lacking[0]))


def _without_term(data: Dataset, view: View, taxonomy: Taxonomy) -> Iterator[Problem]:
    """Yield public entries without a term of a taxonomy that most others of their kind have."""
    column = data.terms(taxonomy.name)
    for number, kind in enumerate(data.kind_names):
        rows = np.flatnonzero(view.visible & (data.entries.kinds == number))
        lacking = rows[~column.valid[rows]]
        if len(rows) >= _FEWEST and len(lacking) and len(rows) - len(lacking) >= _HABIT * len(rows):
            verb = "has" if len(lacking) == 1 else "have"
            count = f"{len(lacking)} of {len(rows)}"
            message = f"{count} entries of {kind} {verb} no {taxonomy.name}: {_some(data, lacking.tolist())}"
            hint = f"Give them {with_article(taxonomy.name)}, or they stand on none of its pages."
            yield Problem("without-term", message, hint, place=_place_of(data, int(lacking[0])))
