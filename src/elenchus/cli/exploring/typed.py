"""The line that is typed: what may be written next as a menu, and what is wrong marked in it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from prompt_toolkit.completion import Completer, Completion
from prompt_toolkit.lexers import Lexer

from elenchus.pieces.piece import printable

if TYPE_CHECKING:
    from collections.abc import AsyncGenerator, Awaitable, Callable, Iterable, Sequence

    from prompt_toolkit.completion import CompleteEvent
    from prompt_toolkit.document import Document
    from prompt_toolkit.formatted_text import StyleAndTextTuples

    from elenchus.errors import Problem
    from elenchus.exploring.offers import Offer, Offers

__all__ = ["OffersMenu", "WrongMarked"]


class OffersMenu(Completer):
    """What may be written next; ``offers`` gives it for a text, beside the keys."""

    def __init__(self, offers: Callable[[str], Awaitable[Offers]]) -> None:
        self.offers = offers

    def get_completions(self, document: Document, complete_event: CompleteEvent) -> Iterable[Completion]:
        """Return nothing: it is asked the other way."""
        del document, complete_event
        return ()

    async def get_completions_async(
        self,
        document: Document,
        complete_event: CompleteEvent,
    ) -> AsyncGenerator[Completion, None]:
        """Yield the offers for the text before the cursor."""
        text = document.text_before_cursor
        if not text.strip() and not complete_event.completion_requested:
            return
        found = await self.offers(text)
        for offer in found.offers:
            yield _completion(offer, found.at - len(text))


def _completion(offer: Offer, start: int) -> Completion:
    """Return an offer as the library shows it."""
    count = "" if offer.count is None else f"{offer.count:>6}  "
    note = f"{count}{printable(offer.note)}" + ("  is it this?" if offer.is_near else "")
    style = "class:idle" if offer.is_idle else "class:near" if offer.is_near else ""
    text = offer.text if offer.text in ("(", ")") else f"{offer.text} "
    return Completion(text, start, display=printable(offer.text), display_meta=note, style=style)


class WrongMarked(Lexer):
    """Marks what is wrong in the line that is typed, as far as ``wrong`` knows that of a text."""

    def __init__(self, wrong: Callable[[str], Sequence[Problem]]) -> None:
        self.wrong = wrong

    def lex_document(self, document: Document) -> Callable[[int], StyleAndTextTuples]:
        """Return the pieces of the line."""
        text = document.text
        spans = [each.span for each in self.wrong(text) if each.span and each.span.start < len(text)]

        def of_line(_number: int) -> StyleAndTextTuples:
            if not spans:
                return [("", text)]
            first = spans[0]
            start, end = first.start, max(first.end, first.start + 1)
            return [("", text[:start]), ("class:error", text[start:end]), ("", text[end:])]

        return of_line
