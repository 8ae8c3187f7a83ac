"""Commands that do what a cure says, as they are typed."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.errors import Edit

__all__ = ["set_command"]


def set_command(edits: Sequence[Edit]) -> str:
    """Return the command that makes some edits of one entry.

    Nothing where they are of several entries, or none, or where one can be made by hand only.
    """
    entries = {edit.entry for edit in edits}
    if len(entries) != 1 or any(edit.by_hand for edit in edits):
        return ""
    question = f'where entry = "{entries.pop()}" including unpublished'
    return " ".join(["elenchus set", shlex.quote(question), *(shlex.quote(str(edit)) for edit in edits)])
