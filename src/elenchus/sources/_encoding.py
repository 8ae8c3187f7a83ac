"""The texts that bytes stand for: by a mark at their beginning, as the site declares, or UTF-8."""

from __future__ import annotations

import codecs
import errno
import io
from typing import TYPE_CHECKING

from elenchus.errors import About
from elenchus.sources._simple import Unreadable
from elenchus.values.lazily import pattern

if TYPE_CHECKING:
    from typing import Any, TextIO

    from elenchus.sources._files import FileContent
    from elenchus.sources._spec import SourceSpec

__all__ = ["MARKS", "decoded", "encoding_for", "has_bad_bytes", "not_encoded", "opened_text"]

# The longer marks first: that of UTF-32 begins with that of UTF-16 (Unicode 15, section 23.8).
MARKS = (
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
_BAD = pattern("[\udc80-\udcff]")
_CHUNK = 2**20
_LONGEST_LINE = 32 * 2**20  # bytes


def _encoding_of(start: bytes) -> str:
    """Return the encoding that a mark at the beginning says; UTF-8 where there is none."""
    return next((name for mark, name in MARKS if start.startswith(mark)), "utf-8")


def not_encoded(spec: SourceSpec, encoding: str) -> tuple[str, str]:
    """Return what is wrong with bytes that an encoding has not, and what helps."""
    name = {"utf-8": "UTF-8", "utf-8-sig": "UTF-8", "utf-16": "UTF-16", "utf-32": "UTF-32"}.get(
        encoding, encoding
    )
    hint = f'Save it with that encoding, or write encoding = "cp1252" or another in [sources.{spec.name}].'
    return f"is not {name}", hint


def decoded(content: bytes, spec: SourceSpec, declared: str = "") -> str:
    """Return the text of a file with its line ends as newlines; ``declared`` is what it says of its encoding.

    Raises Unreadable.
    """
    encoding = encoding_for(content, spec, declared)
    try:
        text = content.decode(encoding)
    except LookupError:
        raise Unreadable(f"the file says that it is {declared}, which nobody knows", 1) from None
    except UnicodeDecodeError as error:
        line = error.object[: error.start].count(b"\n") + 1
        wrong, hint = not_encoded(spec, encoding)
        raise Unreadable(f"the file {wrong}", line, hint, "wrong-encoding", About.ENCODING) from None
    return text.replace("\r\n", "\n").replace("\r", "\n") if "\r" in text else text


def encoding_for(content: bytes, spec: SourceSpec, declared: str = "") -> str:
    """Return the encoding of a file: that of its mark, the one it declares, UTF-8, or the source's."""
    encoding = _encoding_of(content[:4])
    encoding = declared if declared and encoding == "utf-8" else encoding
    if encoding == "utf-8" and spec.encoding and not _is_utf8(content):
        encoding = spec.encoding
    return encoding


def _is_utf8(content: bytes) -> bool:
    """Say whether bytes are text in UTF-8."""
    try:
        content.decode()
    except UnicodeDecodeError:
        return False
    return True


def _is_utf8_throughout(content: FileContent) -> bool:
    """Say whether a file is text in UTF-8, read piece by piece. Raises OSError."""
    decoder = codecs.getincrementaldecoder("utf-8")()
    with content.stream() as stream:
        try:
            while piece := stream.read(_CHUNK):
                decoder.decode(piece)
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            return False
    return True


def opened_text(content: FileContent, spec: SourceSpec) -> tuple[TextIO, str]:
    """Return the text of a file, to be read line by line, and its encoding. Raises OSError.

    A byte that the encoding has not becomes half of a surrogate pair, which :func:`has_bad_bytes` finds.
    """
    with content.stream() as stream:
        encoding = _encoding_of(stream.read(4))
    if encoding == "utf-8" and spec.encoding and not _is_utf8_throughout(content):
        encoding = spec.encoding
    is_wide = encoding.startswith(("utf-16", "utf-32"))
    checked = io.BufferedReader(_Checked(content, is_wide=is_wide), _CHUNK)
    return io.TextIOWrapper(checked, encoding, errors="surrogateescape", newline=""), encoding


class _Checked(io.RawIOBase):
    """A stream of bytes in whose lines nothing is too long, and no NUL."""

    def __init__(self, content: FileContent, *, is_wide: bool) -> None:
        super().__init__()
        self.content = content
        self.inner = content.stream()
        self.is_wide = is_wide
        self.length = 0  # of the line that is being read

    def readable(self) -> bool:
        """Say that it can be read."""
        return True

    def readinto(self, buffer: Any) -> int:
        """Fill a buffer. Raises OSError where a line is longer than any that somebody means."""
        found = self.inner.read(len(buffer))
        self.content.passed += len(found)
        last = found.rfind(b"\n")
        self.length = self.length + len(found) if last < 0 else len(found) - last
        if self.length > _LONGEST_LINE:
            raise OSError(errno.EFBIG, f"a line is longer than {_LONGEST_LINE // 2**20} MB")
        if not self.is_wide and b"\0" in found:
            found = found.replace(b"\0", b" ")
        buffer[: len(found)] = found
        return len(found)

    def close(self) -> None:
        """Close what it reads from."""
        if not self.closed:
            self.inner.close()
        super().close()


def has_bad_bytes(text: str) -> bool:
    """Say whether a text holds bytes that its encoding has not."""
    return not text.isascii() and _BAD.search(text) is not None
