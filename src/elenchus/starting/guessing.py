"""What values seem to be: types, dates by patterns, terms, keys that keep entries back, with how many fit."""

from __future__ import annotations

import re
from collections import Counter
from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.schema.conform import says_yes_or_no
from elenchus.schema.convert import NO, YES
from elenchus.schema.types import CORE_FIELDS, STATUSES
from elenchus.values.datepatterns import EPOCH, date_reader
from elenchus.values.texts import fold
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence

    from elenchus.starting.looking import Entry

__all__ = [
    "DateHabits",
    "Typed",
    "dates_of",
    "flags_of_keys",
    "is_usual",
    "renamed_keys",
    "separator_of",
    "statuses_of",
    "terms_of_keys",
    "texts_of",
    "typed",
]

_FIT = 0.95  # of the values of a key that must fit a type for it to be declared
_FEWEST_TERMS = 2  # entries that share a term
_LONGEST_TERM = 60
_ISO = re.compile(r"\d{4}-\d{2}-\d{2}")
_ISO_TIME = re.compile(r"\d{4}-\d{2}-\d{2}[T ]\d{1,2}:\d{2}(:\d{2}(\.\d+)?)?\s?(Z|[+-]\d{2}:?\d{2})?")
_IMAGE = re.compile(r"\S+\.(?:jpe?g|png|gif|webp|svg|avif)", re.IGNORECASE)
_NUMBER = re.compile(r"[+-]?(\d+(_\d+)*\.?\d*|\.\d+)(e[+-]?\d{1,3})?", re.IGNORECASE)
_TESTS: dict[str, Callable[[str], bool]] = {
    "yesno": lambda text: fold(text) in (YES | NO) - {"0", "1"},
    "integer": lambda text: re.fullmatch(r"[+-]?\d{1,18}(_\d{1,18})*", text) is not None,
    "number": lambda text: _NUMBER.fullmatch(text) is not None,
    "date": lambda text: _ISO.fullmatch(text) is not None,
    "datetime": lambda text: (_ISO.fullmatch(text) or _ISO_TIME.fullmatch(text)) is not None,
    "url": lambda text: re.match(r"https?://\S+$", text) is not None,
    "image": lambda text: _IMAGE.fullmatch(text) is not None,
}
# Keys that other people give to what every entry has here, the likeliest first.
_NAMES = {
    "title": ("name", "headline", "heading", "subject", "label"),
    "date": ("published", "date_published", "publish_date", "published_at", "publishdate", "pubdate",
             "created", "created_at", "creation_date", "day", "added", "timestamp"),
    "updated": ("modified", "last_modified", "lastmod", "modified_at", "updated_at", "changed"),
    "expires": ("expiry", "expiry_date", "expires_at", "unpublish_date", "valid_until"),
    "summary": ("about", "description", "excerpt", "abstract", "teaser", "intro", "lead"),
    "body": ("content", "text", "html", "markdown"),
    "status": ("state", "visibility"),
    "author": ("writer", "written_by", "creator"),
    "image": ("cover", "thumbnail", "picture", "photo", "featured_image"),
}  # fmt: skip
_TERMS = frozenset(
    [
        "tag",
        "tags",
        "category",
        "categories",
        "topic",
        "topics",
        "keyword",
        "keywords",
        "subject",
        "subjects",
        "series",
        "section",
        "sections",
        "theme",
        "themes",
    ]
)
_PEOPLE = ("author", "authors")
_STATUS_WORDS = {
    "published": "published publish public live online active visible final released yes true 1",
    "draft": "draft pending unpublished review inreview unfinished wip no false 0 new",
    "scheduled": "scheduled future planned",
    "withdrawn": "withdrawn private hidden archived deleted trash removed retired inactive offline",
}
_WORDS = {word: status for status, words in _STATUS_WORDS.items() for word in words.split()}
_HIDING = frozenset(
    [
        "hidden",
        "hide",
        "private",
        "archived",
        "deleted",
        "disabled",
        "inactive",
        "invisible",
        "internal",
        "offline",
        "secret",
        "unlisted",
        "unpublished",
        "wip",
        "isdraft",
        "ishidden",
        "isprivate",
        "expired",
    ]
)
_SHOWING = frozenset(["active", "enabled", "live", "online", "public", "visible", "ispublished"])
_SURE = (
    "y/MM/dd",
    "y.MM.dd",
    "y-M-d",
    "d.M.y",
    "d.M.yy",
    "EEE, d MMM y HH:mm:ss Z",
    "y-MM-dd HH:mm:ss Z",
    "y/MM/dd HH:mm",
)
_WORDY = (
    "d MMMM y",
    "MMMM d, y",
    "d. MMMM y",
    "d MMM y",
    "MMM d, y",
    "d. MMM y",
    "EEEE, d MMMM y",
    "MMMM d y",
)
_SLASHED = re.compile(r"(\d{1,2})[/-](\d{1,2})[/-](\d{4})")
_LANGUAGES = ("en", "de", "fr", "es", "it", "nl", "pt", "da", "sv", "nb", "fi", "pl")


class Typed(NamedTuple):
    """What the values of a key are: a type, whether they are lists, how many there are and how many fit.

    ``odd`` is one that does not; ``kind`` that of the entries to which they refer.
    """

    type: str
    many: bool
    total: int
    fitting: int
    odd: str = ""
    kind: str = ""


class DateHabits(NamedTuple):
    """How dates are written: patterns with how often each was met, the language of their words.

    ``unsure`` is one of which nobody can tell the day from the month.
    """

    patterns: dict[str, int]
    language: str
    unsure: str = ""


def _scalars(value: Any) -> list[str]:
    """Return the texts in a value, those of a list each."""
    values = value if isinstance(value, list) else [value]
    return [text for each in values if each is not None and (text := as_text(each))]


def texts_of(entries: Iterable[Entry], key: str) -> list[str]:
    """Return the texts that entries have for a key."""
    return [text for entry in entries if key in entry.values for text in _scalars(entry.values[key])]


def renamed_keys(keys: Iterable[str], entries: Sequence[Entry]) -> dict[str, str]:
    """Return for fields that every entry has the keys that content has them under, where it has no own."""
    by_fold = {fold(key).replace(" ", "_").replace("-", "_"): key for key in keys}
    found: dict[str, str] = {}
    for field in CORE_FIELDS:
        if field in by_fold.values() and not (field == "title" and _is_made(entries)):
            continue
        for name in (field, *_NAMES.get(field, ())):
            key = by_fold.get(name)
            if key and key != field and key not in found.values() and _can_be(field, key, entries):
                found[field] = key
                break
    return found


def _is_made(entries: Sequence[Entry]) -> bool:
    """Say whether the titles of entries are nothing that anybody wrote."""
    return bool(entries) and all("title" in entry.guessed for entry in entries)


def _can_be(field: str, key: str, entries: Sequence[Entry]) -> bool:
    """Say whether the values of a key can be those of a field."""
    texts = texts_of(entries, key)
    if field in ("date", "updated", "expires"):
        return (
            bool(texts)
            and sum(any(char.isdigit() for char in text) for text in texts) >= _FIT * len(texts)
            and not (all(says_yes_or_no(text) for text in texts))
        )
    if field == "image":
        return bool(texts) and sum(bool(_IMAGE.search(text)) for text in texts) >= _FIT * len(texts)
    if field == "status":
        return bool(texts) and sum(fold(text) in _WORDS for text in texts) * 2 >= len(texts)
    return bool(texts)


def dates_of(texts: Sequence[str]) -> DateHabits:
    """Return how dates are written that are not as ISO 8601 has them; day and month are never guessed."""
    left = [text for text in texts if text and not _TESTS["datetime"](text)]
    found: Counter[str] = Counter()
    language = "en"
    if len(left) > 0 and sum(text.isdigit() and len(text) in (10, 13) for text in left):
        found[EPOCH] = sum(text.isdigit() and len(text) in (10, 13) for text in left)
        left = [text for text in left if not (text.isdigit() and len(text) in (10, 13))]
    for pattern in _SURE:
        left = _take(pattern, language, left, found)
    if left:
        best = max(_LANGUAGES, key=lambda tried: sum(bool(date_reader(_WORDY, tried)(text)) for text in left))
        language = best if any(date_reader(_WORDY, best)(text) for text in left) else "en"
        for pattern in _WORDY:
            left = _take(pattern, language, left, found)
    unsure = ""
    slashed = [match for text in left if (match := _SLASHED.fullmatch(text.strip()))]
    if slashed:
        sign = slashed[0][0].strip("0123456789")[0]
        day_first = sum(int(match[1]) > 12 for match in slashed)  # noqa: PLR2004 - months of a year
        month_first = sum(int(match[2]) > 12 for match in slashed)  # noqa: PLR2004
        if bool(day_first) != bool(month_first):
            pattern = f"d{sign}M{sign}y" if day_first else f"M{sign}d{sign}y"
            left = _take(pattern, language, left, found)
        else:
            unsure = slashed[0][0]
    return DateHabits(dict(found), language, unsure)


def _take(pattern: str, language: str, texts: Sequence[str], found: Counter[str]) -> list[str]:
    """Count the texts that a pattern reads, and return the others."""
    read = date_reader((pattern,), language)
    left = [text for text in texts if not read(text)]
    if len(left) < len(texts):
        found[pattern] += len(texts) - len(left)
    return left


def typed(entries: Sequence[Entry], key: str, dates: DateHabits) -> Typed:
    """Return what the values of a key are: the narrowest type that nearly all of them fit."""
    texts = texts_of(entries, key)
    many = any(isinstance(entry.values.get(key), list) for entry in entries)
    read = date_reader(tuple(dates.patterns), dates.language) if dates.patterns else lambda _: ""
    for name, test in _TESTS.items():
        if name in ("yesno", "integer") or not dates.patterns or name not in ("date", "datetime"):
            fitting = sum(test(text) for text in texts)
        else:
            usual = [text if test(text) else read(text) for text in texts if text != ""]
            fitting = sum(bool(text) and test(text) for text in usual)
        if texts and fitting >= _FIT * len(texts):
            odd = (
                next((text for text in texts if not (test(text) or read(text))), "")
                if fitting < len(texts)
                else ""
            )
            return Typed(name, many, len(texts), fitting, odd)
    return Typed("text", many, len(texts), len(texts))


def terms_of_keys(entries: Sequence[Entry], keys: Iterable[str]) -> dict[str, bool]:
    """Return the keys whose values are terms, and whether these stand below one another."""
    found: dict[str, bool] = {}
    for key in keys:
        texts = texts_of(entries, key)
        is_named = is_usual(key)
        is_listed = any(isinstance(entry.values.get(key), list) for entry in entries)
        if not texts or max(map(len, texts)) > _LONGEST_TERM * (5 if is_named else 1):
            continue
        shared = Counter(map(fold, texts)).most_common(1)[0][1]
        is_worded = not any(
            _TESTS[name](text) for text in texts[:1] for name in ("url", "image", "number", "datetime")
        )
        is_shared = is_listed and shared >= _FEWEST_TERMS and is_worded
        if is_named or is_shared or _are_parted(texts):
            found[key] = any("/" in text.strip("/") for text in texts) and fold(key) not in _PEOPLE
    return found


def _are_parted(texts: Sequence[str]) -> bool:
    """Say whether some texts are several words parted by commas, of which others have the same."""
    parted = [[part.strip() for part in text.split(",")] for text in texts]
    parts = Counter(fold(part) for each in parted for part in each)
    several = [each for each in parted if len(each) > 1]
    if not several or any(
        not part or len(part) > _LONGEST_TERM // 2 or " " in part for each in several for part in each
    ):
        return False
    return all(any(parts[fold(part)] >= _FEWEST_TERMS for part in each) for each in several)


def is_usual(key: str) -> bool:
    """Say whether a key is what most people call terms or people."""
    return fold(key) in _TERMS or fold(key) in _PEOPLE


def separator_of(texts: Sequence[str]) -> str:
    """Return what parts terms that stand in one text: a bar, a semicolon (without commas), or a comma."""
    if any("|" in text for text in texts):
        return "|"
    if any(";" in text for text in texts) and not any("," in text for text in texts):
        return ";"
    return ","


def flags_of_keys(entries: Sequence[Entry], keys: Iterable[str]) -> dict[str, tuple[str, int]]:
    """Return the keys that seem to keep entries back: the status that yes gives, and how often they do."""
    found: dict[str, tuple[str, int]] = {}
    for key in keys:
        name = fold(key).replace("_", "").replace("-", "").replace(" ", "")
        texts = texts_of(entries, key)
        if name in _HIDING | _SHOWING and texts and all(says_yes_or_no(text) for text in texts):
            meaning = (
                "published"
                if name in _SHOWING
                else "draft"
                if "draft" in name or name == "wip"
                else "withdrawn"
            )
            count = sum((fold(text) in YES) != (name in _SHOWING) for text in texts)
            found[key] = (meaning, count)
    return found


def statuses_of(texts: Iterable[str]) -> tuple[dict[str, str], list[str]]:
    """Return words for a status with what they mean here, and those that mean nothing known."""
    found: dict[str, str] = {}
    unknown: list[str] = []
    for text in dict.fromkeys(texts):
        word = fold(text).replace(" ", "").replace("-", "").replace("_", "")
        if fold(text) in STATUSES:
            continue
        if word in _WORDS:
            found[text] = _WORDS[word]
        else:
            unknown.append(text)
    return found, unknown
