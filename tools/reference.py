"""Write what the docs take from records: the table of operators, and the page of all checks.

python tools/reference.py           write it
python tools/reference.py --check   say whether it is current
"""

from __future__ import annotations

import sys
from pathlib import Path

from elenchus.checks.records import records
from elenchus.operators import Operands, all_operators

PAGE = Path(__file__).parent.parent / "docs" / "question-language.md"
BEGIN, END = "<!-- operators begin: written by tools/reference.py -->\n", "<!-- operators end -->"
CHECKS = PAGE.with_name("checks.md")
CHECKS_HEAD = """# All checks

<!-- Written by tools/reference.py from src/elenchus/checks/records.toml. -->

`elenchus check` finds what is wrong before a site is published; `elenchus check --about CODE` prints one of these.
Errors must be fixed, warnings should be, notes are worth knowing.

"""
HEADINGS = {
    "pages": "Pages and addresses",
    "listings": "Listings",
    "questions": "Questions",
    "answers": "Notices of answers",
    "content": "Content",
    "site": "The site's own files",
    "commands": "Commands",
}
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


def checks() -> str:
    """Return the page of all checks: what each code means, why it hurts, how to fix it."""
    found = [CHECKS_HEAD]
    for about, heading in HEADINGS.items():
        found.append(f"## {heading}\n\n")
        for record in records().values():
            if record.about == about:
                found.append(f"### {record.code}\n\n")
                found.append(f"*{record.level.capitalize()}.* {record.means}\n\n")
                found.append(f"**Why it hurts:** {record.hurts}\n\n**How to fix it:** {record.fix}\n\n")
    return "".join(found).rstrip("\n") + "\n"


def main() -> None:
    """Write the pages, or compare them."""
    for page, text in ((PAGE, written()), (CHECKS, checks())):
        if "--check" not in sys.argv:
            page.write_text(text, encoding="utf-8")
        elif text != page.read_text(encoding="utf-8"):
            sys.exit(f"{page.name} is not current")


if __name__ == "__main__":
    main()
