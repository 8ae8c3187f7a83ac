"""Names and values that look like secrets, or like what people do not tell everybody about themselves."""

from __future__ import annotations

import re
import tomllib
from functools import cache
from ipaddress import ip_address
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING

from elenchus.values.lazily import pattern

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

__all__ = ["is_private_file", "private_name", "private_text", "private_values"]

_WORDS = Path(__file__).with_name("private.toml")
_PARTS = re.compile(r"[^\W\d_]+|\d+")
_CAMEL = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")

_KEY_BLOCK = pattern(r"-----BEGIN [A-Z0-9 ]*PRIVATE KEY-----")
_SECRET_LINK = pattern(
    r"https?://\S*[?&](?:[\w-]*token|(?:api|access)?_?key|sig|signature|secret|password|auth)=[^&\s]{6,}",
    re.IGNORECASE,
)
_LABELLED = pattern(  # a line of one to three words, a colon, and one word more
    r"^[^\w\n]{0,9}((?:[^\W\d_]{1,30}[^\w\n]){0,2}[^\W\d_]{1,30})"
    r"\*{0,2}[ \t]{0,9}[:=]\*{0,2}[ \t]{0,9}`?[^\s`]{4,99}`?[ \t]*$",
    re.MULTILINE,
)
_HASH = pattern(
    r"\$(?:2[abxy]?|1|5|6|y|P|S|H|argon2\w*|scrypt|pbkdf2[\w-]*)\$\S{8,}"  # as crypt(3) has them
    r"|(?:pbkdf2_\w+|bcrypt\w*|argon2\w*|scrypt)\$\S{8,}"
    r"|\{(?:S?SHA\d*|SMD5|CRYPT)\}\S{8,}"  # RFC 2307
)
_TOKEN = pattern(r"eyJ[\w-]{8,}\.eyJ[\w-]{8,}\.[\w-]*")  # RFC 7519
_OPAQUE = pattern(r"(?=\S*\d)(?=\S*[A-Za-z])[\w+/=.-]{16,}|[0-9a-fA-F]{16,}")
_MAIL = pattern(r"[^\s@<>]{1,64}@[\w-]+(?:\.[\w-]+)*\.[^\W\d_]{2,}")
_PHONE = pattern(r"\+\d[\d ()/.-]{6,20}\d")
_IBAN = pattern(r"[A-Z]{2}\d{2} ?(?:[A-Z0-9]{4} ?){2,7}[A-Z0-9]{1,4}")
_CARD = pattern(r"\d{4}[ -]?\d{4}[ -]?\d{4}[ -]?\d{1,7}")
_MOSTLY = 0.6  # of the values must look so
_ENOUGH = 3  # values make a rule; of fewer, all must look so
_MOST_LOOKED_AT = 500
_FILES = pattern(
    r"(?:.*[._-])?(?:secrets?|credentials?|service[-_]?accounts?|private[-_]?keys?|passwords?|htpasswd|tokens?)"
    r"(?:[_-]\w*)?",
    re.IGNORECASE,
)


@cache
def _known() -> tuple[dict[str, str], dict[str, str]]:
    """Return the words that are always private, and those that may be, with what they stand for."""
    found = tomllib.loads(_WORDS.read_text(encoding="utf-8"))
    always, perhaps = (
        {word: what for what, words in found[name].items() for word in words.split()}
        for name in ("always", "perhaps")
    )
    return always, perhaps


def _words(name: str) -> list[str]:
    return [word.lower() for word in _PARTS.findall(_CAMEL.sub("_", name))]


def private_name(name: str, values: Sequence[str] = ()) -> str:
    """Return what a key holds by its name, such as ``passwords``; nothing for one that may be public.

    ``values`` decide where a word of the name means something else as often.
    """
    always, perhaps = _known()
    words = _words(name)
    for word in ("".join(words), *(f"{first}{second}" for first, second in pairwise(words)), *words):
        if word in always:
            return always[word]
    for word in words:
        what = perhaps.get(word, "")
        if what and _most(values[:_MOST_LOOKED_AT], _FITTING.get(what, _is_opaque)):
            return what
    return ""


def private_values(values: Sequence[str]) -> str:
    """Return what the values of a key are, such as ``e-mail addresses``; nothing for what may be public."""
    seen = [value.strip() for value in values[:_MOST_LOOKED_AT] if value.strip()]
    if any(_KEY_BLOCK.search(value) or _SECRET_LINK.match(value) for value in seen):
        return "keys or tokens"
    return next((what for what, test in _LOOKS.items() if _most(seen, test)), "")


def private_text(text: str) -> str:
    """Return what a running text tells: a private key, or a line such as ``Password: tide7``; or nothing."""
    if _KEY_BLOCK.search(text):
        return "a private key"
    always, _ = _known()
    for match in _LABELLED.finditer(text):
        if any(always.get(word) == "passwords" for word in _words(match[1])):
            return "a password"
    return ""


def _most(values: Sequence[str], test: Callable[[str], object]) -> bool:
    """Say whether most of some values pass a test, and not by chance."""
    hits = sum(bool(test(value)) for value in values)
    return hits > 0 and (hits == len(values) if len(values) < _ENOUGH else hits >= _MOSTLY * len(values))


def _is_ip(text: str) -> bool:
    if text.count(".") != 3 and ":" not in text:  # noqa: PLR2004 - an address of version 4 has three
        return False
    try:
        ip_address(text)
    except ValueError:
        return False
    return text.count(":") > 1 or text.count(".") == 3  # noqa: PLR2004


def _is_account(text: str) -> bool:
    """Say whether this is an IBAN (ISO 13616) or the number of a card (ISO/IEC 7812), by its check digits."""
    bare = text.replace(" ", "").replace("-", "")
    if _IBAN.fullmatch(text):
        digits = "".join(str(int(char, 36)) for char in bare[4:] + bare[:4])
        return int(digits) % 97 == 1
    if not _CARD.fullmatch(text):
        return False
    doubled = [int(char) * (2 - at % 2) for at, char in enumerate(bare, start=len(bare) % 2)]
    return sum(each - 9 if each > 9 else each for each in doubled) % 10 == 0  # noqa: PLR2004


def _is_opaque(text: str) -> bool:
    return bool(_OPAQUE.fullmatch(text) or _HASH.fullmatch(text))


_LOOKS: dict[str, Callable[[str], object]] = {
    "passwords": _HASH.fullmatch,
    "keys or tokens": _TOKEN.fullmatch,
    "e-mail addresses": _MAIL.fullmatch,
    "IP addresses": _is_ip,
    "phone numbers": _PHONE.fullmatch,
    "bank and identity data": _is_account,
}
# What decides where a name is not enough; if nothing is said here, that nobody could read the values.
_FITTING: dict[str, Callable[[str], object]] = {
    name: _LOOKS[name] for name in ("e-mail addresses", "phone numbers", "bank and identity data")
}


def is_private_file(path: str) -> bool:
    """Say whether a file, or a folder whose path ends with a slash, is named like one of credentials."""
    name = path.rstrip("/").rpartition("/")[2]
    return _FILES.fullmatch(name if path.endswith("/") else name.partition(".")[0]) is not None
