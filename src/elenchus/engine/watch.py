"""How long the steps on the way to an answer take, where anybody wants to know."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from elenchus.plan.explanation import Spent
from elenchus.plan.words import condition_words

if TYPE_CHECKING:
    from elenchus.plan.nodes import Condition

__all__ = ["Watch"]


class Watch:
    """Notes each step when it is done, with the time since the one before."""

    def __init__(self) -> None:
        self.spent: list[Spent] = []
        self.since = time.perf_counter()

    def note(self, words: str, rows: int, part: Condition | None = None) -> None:
        """Note a step, the part of the condition that it was about, and the rows that it left."""
        now = time.perf_counter()
        told = f"{words}: {condition_words(part)}" if part else words
        self.spent.append(Spent(told, rows, (now - self.since) * 1e6))
        self.since = time.perf_counter()  # to put it into words counts for nothing
