"""What keys are for, and what their values seem to be: types, terms, words that keep entries back."""

from __future__ import annotations

import re
from collections import Counter
from typing import TYPE_CHECKING, NamedTuple

from elenchus.schema.convert import NO, YES
from elenchus.schema.types import CORE_FIELDS, STATUSES
from elenchus.starting.dates import ISO_DAY, dates_of, reads
from elenchus.starting.numbers import numbers_of
from elenchus.starting.vocabulary import names_of, word_meanings, words
from elenchus.values.datepatterns import EPOCH
from elenchus.values.numberpatterns import NumberForm
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping, Sequence

    from elenchus.starting.dates import DateHabits
    from elenchus.starting.values import KeyValues

__all__ = [
    "Typed",
    "are_people",
    "can_be",
    "flags_of_keys",
    "is_choice",
    "is_code_name",
    "is_event",
    "is_meant",
    "is_people_name",
    "is_term_name",
    "is_usual",
    "renamed_keys",
    "separator_of",
    "statuses_of",
    "terms_of_keys",
    "typed",
]

_MOSTLY = 0.9  # of the values of a key that fit a type, for the others to be told as odd
_FEWEST_TERMS = 2  # entries that share a term
_LONGEST_TERM = 60
_LONGEST_CHOICE = 24
_MOST_CHOICES = 8
_MOST_TERMS = 2_000
_CLOCK = re.compile(r"\d{1,2}[:.]\d{2}(?:[:.]\d{2})?")
_REPEATED = 2.0  # times that a term of a text is there on the average
_LONGEST_NUMBER = 15  # digits
_FEW_ODD = 3
_NO_CODES = frozenset(["paid", "valid", "grid", "solid", "fluid", "android", "covid"])
_IMAGE = re.compile(r"\S[^\n]*\.(?:jpe?g|png|gif|webp|svg|avif)", re.IGNORECASE)
_URL = re.compile(r"https?://\S+")
_WHOLE = re.compile(r"[+-]?\d{1,18}(_\d{1,18})*")
_PADDED = re.compile(r"[+-]?0\d+")


class Typed(NamedTuple):
    """What the values of a key are: a type, whether they are lists, how numbers are written, all choices.

    ``number`` is how many values there are. If nearly all of them fit a narrower type, ``nearly`` is that
    type and ``odd`` are values that do not fit. ``kinds`` are those of the entries to which they refer, and
    ``table`` is that of these.
    """

    type: str
    many: bool = False
    number: int = 0
    form: NumberForm = NumberForm()
    choices: tuple[str, ...] = ()
    nearly: str = ""
    odd: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    table: str = ""
    unsure: str = ""

    def wider(self) -> Typed:
        """Return what holds values that do not fit: numbers, or texts."""
        found = "number" if self.type == "integer" else "datetime" if self.type == "date" else "text"
        form = self.form if found == "number" else NumberForm()
        return self._replace(type=found, nearly=self.type, form=form, choices=(), kinds=())


def renamed_keys(values: Mapping[str, KeyValues], *, is_title_made: bool) -> dict[str, str]:
    """Return for fields that every entry has the keys that content has them under, where it has no own."""
    names = {key: re.sub(r"[ -]", "_", fold(key)) for key in reversed(list(values))}
    by_fold = {name.rpartition(".")[2]: key for key, name in names.items()}
    by_fold |= {name: key for key, name in names.items()}
    found: dict[str, str] = {}
    for field in CORE_FIELDS:
        own = next((key for key in values if fold(key) == field), "")
        if (
            own
            and (can_be(field, values[own]) or is_meant(field, values[own]))
            and not (field == "title" and is_title_made)
        ):
            continue
        for name in (field, *names_of(field)):
            key = by_fold.get(name)
            if key and fold(key) != field and key not in found.values() and can_be(field, values[key]):
                found[field] = key
                break
    return found


def is_meant(field: str, values: KeyValues) -> bool:
    """Say whether a key that is called like a date of every entry holds one, even if nobody can read it."""
    if field not in ("date", "updated", "expires") or values.whole or values.many:
        return False
    return 2 * sum(any(map(str.isdecimal, text)) for text in values.texts) > len(values.texts)


def can_be(field: str, values: KeyValues) -> bool:
    """Say whether the values of a key can be those of a field that every entry has."""
    texts = values.texts
    if not texts or values.whole:
        return False
    test = _CAN_BE.get(field)
    return test(values) if test else True


def _are_dates(values: KeyValues) -> bool:
    """Say whether values are dates, but for a few that somebody wrote otherwise."""
    if values.many:
        return False
    found = dates_of(values.texts)
    slashed = sum(values.texts[text] for text in found.left if found.unsure and text[:1].isdecimal())
    wrong = sum(values.texts[text] for text in found.left) - slashed
    is_year = EPOCH not in found.patterns and all(re.fullmatch(r"\d{4}", text) for text in values.texts)
    return is_year or (wrong * 2 < values.number and bool(found.patterns or wrong < values.number))


def _are_known(values: KeyValues) -> bool:
    """Say whether some values are words for a status that we know."""
    known, unknown = _known_words(values.texts)
    return bool(known) or not unknown


def _known_words(texts: Iterable[str]) -> tuple[dict[str, str], list[str]]:
    """Return words for a status with what they mean here, ours too, and those that mean nothing known."""
    known, doubtful = word_meanings("statuses"), word_meanings("perhaps")
    found: dict[str, str] = {}
    perhaps: dict[str, str] = {}
    unknown: list[str] = []
    for text in texts:
        word = re.sub(r"[\s_-]", "", fold(text))
        if fold(text) in STATUSES:
            found[text] = fold(text)
        elif word in known:
            found[text] = known[word]
        elif word in doubtful:
            perhaps[text] = doubtful[word]
        else:
            unknown.append(text)
    if found:
        found |= perhaps
    else:
        unknown += perhaps
    return found, unknown


_CAN_BE: dict[str, Callable[[KeyValues], bool]] = {
    "title": lambda values: not values.many,
    "date": _are_dates,
    "updated": _are_dates,
    "expires": _are_dates,
    "image": lambda values: all(map(_IMAGE.fullmatch, values.texts)),
    "status": _are_known,
    "pinned": lambda values: all(fold(text) in YES | NO for text in values.texts),
    "parent": lambda _: True,
    "address": lambda values: all("/" in text and " " not in text for text in values.texts),
    "slug": lambda values: not values.many and len(values.texts) > _MOSTLY * values.number,
    "id": lambda values: not values.many and len(values.texts) > _MOSTLY * values.number,
    "source": lambda _: False,
    "kind": lambda _: True,
}


def is_code_name(key: str) -> bool:
    """Say whether a key is called like a number or code that tells things apart."""
    last = re.split(r"[\W_]+", fold(key))[-1]
    return last in words("keys.codes") or (last.endswith("id") and len(last) > 4 and last not in _NO_CODES)  # noqa: PLR2004


def is_event(key: str) -> bool:
    """Say whether a key tells when something takes place, which is not when its entry becomes public."""
    return re.sub(r"[\s-]", "_", fold(key)) in words("keys.events")


def typed(values: KeyValues, dates: DateHabits) -> Typed:
    """Return what the values of a key are: the narrowest type that all of them fit."""
    texts, many, number = values.texts, values.many, values.number
    if values.whole or not texts:
        return Typed("text", many, number)
    folded = {fold(text) for text in texts}
    are_marks = folded <= words("texts.marks")
    is_clear = not are_marks or len(folded) > 1 or "x" in folded
    if folded <= YES | NO and not folded <= {"0", "1"} and is_clear:
        return Typed("yesno", many, number)
    if _are_whole(values):
        return Typed("integer", many, number)
    is_code = is_code_name(values.key) or any(map(_PADDED.fullmatch, texts))
    if not is_code and (habit := numbers_of(texts)):
        if habit.unsure:
            return Typed("text", many, number, nearly="number", unsure=habit.unsure)
        return Typed("integer" if habit.is_whole else "number", many, number, habit.form)
    if found := _as_dates(values, dates):
        return found
    for name, test in (("url", _URL), ("image", _IMAGE)):
        if all(map(test.fullmatch, texts)):
            return Typed(name, many, number)
    return _nearly(values) or Typed("text", many, number)


def _are_whole(values: KeyValues) -> bool:
    """Say whether values are whole numbers, and no codes that begin with a zero or have too many digits."""
    return all(
        _WHOLE.fullmatch(text) and not _PADDED.fullmatch(text) and len(text) <= _LONGEST_NUMBER
        for text in values.texts
    )


def _as_dates(values: KeyValues, dates: DateHabits) -> Typed | None:
    """Return the type of dates if all values are some, as the source writes them."""
    known = set(dates.patterns)
    found = dates_of(values.texts)
    if found.left or not set(found.patterns) <= known or EPOCH in found.patterns:
        return None
    is_day = all(ISO_DAY.fullmatch(text) for text in values.texts if reads(text))
    has_time = any("H" in pattern for pattern in found.patterns)
    return Typed("date" if is_day and not has_time else "datetime", values.many, values.number)


def _nearly(values: KeyValues) -> Typed | None:
    """Return a text of which nearly all values fit a narrower type; None if there is none of these."""
    tests: dict[str, Callable[[str], object]] = {
        "number": lambda text: numbers_of({text: 1}),
        "date": lambda text: not dates_of({text: 1}).left,
        "url": _URL.fullmatch,
    }
    texts = list(values.texts)[:500]
    for name, test in tests.items():
        odd = [text for text in texts if not test(text)]
        if values.texts and len(odd) < (1 - _MOSTLY) * len(texts) and len(texts) > _FEW_ODD:
            if name == "number" and not _is_one_form(values, odd):
                continue
            return Typed("text", values.many, values.number, nearly=name, odd=tuple(odd[:_FEW_ODD]))
    return None


def _is_one_form(values: KeyValues, odd: Sequence[str]) -> bool:
    """Say whether the values that are numbers are written in one way."""
    return (
        numbers_of({text: count for text, count in values.texts.items() if text not in set(odd)}) is not None
    )


def are_people(values: KeyValues) -> bool:
    """Say whether values look like names of people: two or three words that begin with capitals."""
    name = re.compile(
        r"[^\W\d_a-zà-ÿ][\w.’'-]+(?:\s(?:[^\W\d_a-zà-ÿ][\w.’'-]*|de|van|von|der|la|di|af|bin|al)){1,3}"
    )
    fitting = sum(count for text, count in values.texts.items() if name.fullmatch(text))
    return fitting >= _MOSTLY * values.number > 0


def is_choice(values: KeyValues) -> bool:
    """Say whether a text is one of a few short words that many entries share."""
    texts = values.texts
    return (
        1 < len(texts) <= _MOST_CHOICES
        and values.number >= 4 * len(texts)
        and not values.many
        and all(len(text) <= _LONGEST_CHOICE and "," not in text for text in texts)
        and len(set(map(fold, texts))) == len(texts)
    )


def terms_of_keys(values: Iterable[KeyValues], types: Mapping[str, Typed]) -> dict[str, bool]:
    """Return the keys whose values are terms, and whether these stand below one another."""
    found: dict[str, bool] = {}
    for each in values:
        told = types.get(each.key)
        if (
            told is None
            or told.type not in ("text", "integer")
            or each.whole
            or not each.texts
            or told.kinds
            or told.table
        ):
            continue
        is_named = is_usual(each.key)
        if max(map(len, each.texts)) > _LONGEST_TERM * (5 if is_named else 1):
            continue
        if is_named or (told.type == "text" and _are_shared(each)):
            found[each.key] = _are_paths(each) and not is_people_name(each.key)
    return found


def _are_paths(values: KeyValues) -> bool:
    """Say whether some terms are paths in a tree, such as ``travel/europe``."""
    inner = [text for text in values.texts if re.fullmatch(r"[^/\s][^/]*[^/\s]/[^/\s][^/]*", text)]
    tops = {text.partition("/")[0] for text in inner}
    return bool(inner) and (len(inner) * 2 > len(values.texts) or bool(tops & values.texts.keys()))


def _are_shared(values: KeyValues) -> bool:
    """Say whether entries share the texts of a key, so that these name groups of entries."""
    counts: Counter[str] = Counter()
    for text, count in values.texts.items():
        counts[fold(text)] += count
    if len(counts) > _MOST_TERMS:
        return False
    if values.many:
        return counts.most_common(1)[0][1] >= _FEWEST_TERMS
    if _are_parted(values):
        return True
    is_repeated = values.number >= _REPEATED * len(counts) and values.number > _FEW_ODD and len(counts) > 1
    if all(map(_CLOCK.fullmatch, counts)):
        return False
    is_worded = all("\n" not in text and not text.endswith((".", "!", "?")) for text in counts)
    return is_worded and (is_repeated or (is_term_name(values.key) and counts.most_common(1)[0][1] > 1))


def _are_parted(values: KeyValues) -> bool:
    """Say whether some texts are several words parted by one sign, of which others have the same."""
    sign = separator_of(values.texts)
    parted = {text: [part.strip() for part in text.split(sign)] for text in values.texts}
    several = [each for each in parted.values() if len(each) > 1]
    if not several:
        return False
    parts = Counter(
        fold(part) for text, each in parted.items() for part in each for _ in range(values.texts[text])
    )
    longest = _LONGEST_TERM // 2
    if any(not part or len(part) > longest or part.count(" ") > 2 for each in several for part in each):  # noqa: PLR2004
        return False
    shared = sum(any(parts[fold(part)] >= _FEWEST_TERMS for part in each) for each in several)
    many_words = any(" " in part for each in several for part in each) and sign == ","
    return shared >= (_MOSTLY if many_words else 0.5) * len(several)


def is_usual(key: str) -> bool:
    """Say whether a key is what most people call terms or people."""
    return fold(key).rpartition(".")[2] in words("keys.terms") or is_people_name(key)


def is_people_name(key: str) -> bool:
    """Say whether a key is what people are called by whom an entry is."""
    return fold(key) in words("keys.people")


def is_term_name(key: str) -> bool:
    """Say whether a key is a word for what things are filed under."""
    known = words("keys.filed_under")
    parts = re.split(r"[\s_.-]", fold(key))
    return any(part in known or part.removesuffix("s") in known for part in parts)


def separator_of(texts: Iterable[str]) -> str:
    """Return what parts several values that stand in one text: the sign that most texts with any have."""
    counts = Counter(sign for text in texts for sign in ("|", ";", " / ", ",") if sign in text)
    return max(("|", ";", ",", " / "), key=lambda sign: counts[sign]) if counts else ","


def flags_of_keys(values: Iterable[KeyValues]) -> dict[str, tuple[str, int]]:
    """Return the keys that seem to keep entries back: the status that yes gives, and how often they do."""
    known, showing = word_meanings("statuses"), words("keys.showing")
    hiding = {word for word, status in known.items() if status in ("draft", "withdrawn")}
    hiding = (hiding - words("keys.not_hiding")) | words("keys.hiding") | showing
    found: dict[str, tuple[str, int]] = {}
    for each in values:
        name = re.sub(r"[\s_-]", "", fold(each.key))
        if name not in hiding or not each.texts or any(fold(text) not in YES | NO for text in each.texts):
            continue
        is_draft = "draft" in name or known.get(name) == "draft"
        meaning = "published" if name in showing else "draft" if is_draft else "withdrawn"
        counts = each.texts.items()
        count = sum(often for text, often in counts if (fold(text) in YES) != (name in showing))
        found[each.key] = (meaning, count)
    return found


def statuses_of(texts: Iterable[str]) -> tuple[dict[str, str], list[str]]:
    """Return foreign words for a status with what they mean here, and those that mean nothing known."""
    found, unknown = _known_words(dict.fromkeys(texts))
    return {text: word for text, word in found.items() if fold(text) not in STATUSES}, unknown
