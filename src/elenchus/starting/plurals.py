"""Names for one and for several, of tables, folders and addresses: as English forms them."""

from __future__ import annotations

__all__ = ["plural", "singular"]

_SEVERAL_OF = {
    "person": "people",
    "child": "children",
    "man": "men",
    "woman": "women",
    "movie": "movies",
    "cookie": "cookies",
    "zombie": "zombies",
    "pie": "pies",
    "tie": "ties",
    "calorie": "calories",
    "selfie": "selfies",
    "brownie": "brownies",
    "smoothie": "smoothies",
    "house": "houses",
    "case": "cases",
    "course": "courses",
    "horse": "horses",
    "purchase": "purchases",
    "release": "releases",
    "response": "responses",
    "license": "licenses",
    "exercise": "exercises",
    "cache": "caches",
    "leaf": "leaves",
    "shelf": "shelves",
    "analysis": "analyses",
    "thesis": "theses",
    "series": "series",
    "species": "species",
    "news": "news",
    "see": "see",
}
_ONE_OF = {several: one for one, several in _SEVERAL_OF.items()}
_HISSING = ("ss", "sh", "ch", "x", "z")


def singular(word: str) -> str:
    """Return a word for one of what a word for several names, as far as its ending tells."""
    head, last = _last(word)
    if last in _ONE_OF:
        return head + _ONE_OF[last]
    if last.endswith("ies"):
        return f"{head}{last[:-3]}y"
    if last.endswith("es") and last[:-2].endswith((*_HISSING, "us")):
        return head + last[:-2]
    if last.endswith("s") and not last.endswith(("ss", "us", "is")):
        return head + last[:-1]
    return word


def plural(word: str) -> str:
    """Return a word for several of what a word is for, good enough for an address."""
    head, last = _last(word)
    if last in _SEVERAL_OF:
        return head + _SEVERAL_OF[last]
    if last in _ONE_OF or not last[-1:].isalpha():
        return word
    if last.endswith("y") and last[-2:-1] not in "aeiou":
        return f"{head}{last[:-1]}ies"
    if last.endswith(_HISSING):
        return f"{word}es"
    return word if last.endswith("s") else f"{word}s"


def _last(word: str) -> tuple[str, str]:
    """Return what stands before the last of the words that a name is joined of, and that last one."""
    at = max(word.rfind("-"), word.rfind("_")) + 1
    return word[:at], word[at:]
