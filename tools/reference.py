"""Write the table of operators in docs/question-language.md from the operators' records.

python tools/reference.py           write it
python tools/reference.py --check   say whether it is current
"""

from __future__ import annotations

import sys
from pathlib import Path

from elenchus.operators import Operands, all_operators

PAGE = Path(__file__).parent.parent / "docs" / "question-language.md"
BEGIN, END = "<!-- operators begin: written by tools/reference.py -->\n", "<!-- operators end -->"
VALUES = {Operands.NONE: "", Operands.ONE: " x", Operands.PAIR: " x and y", Operands.SOME: " (x, y)"}


def table() -> str:
    """Return a line for each operator."""
    lines = ["| operator | on | true where | for example |", "|---|---|---|---|"]
    for record in all_operators():
        names = [f"`{record.name}{VALUES[record.operands]}`"]
        if record.opposite:
            names.append(f"`{record.opposite}{VALUES[record.operands]}`")
        example = record.examples[0]
        lines.append(f"| {', '.join(names)} | {record.types} | {record.doc} | `{example.question}` |")
    return "\n".join(lines) + "\n"


def written() -> str:
    """Return the page with the table as the records have it."""
    text = PAGE.read_text(encoding="utf-8")
    start, end = text.index(BEGIN) + len(BEGIN), text.index(END)
    return text[:start] + table() + text[end:]


def main() -> None:
    """Write the page, or compare it."""
    text = written()
    if "--check" in sys.argv:
        sys.exit(
            0 if text == PAGE.read_text(encoding="utf-8") else "docs/question-language.md is not current"
        )
    PAGE.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
