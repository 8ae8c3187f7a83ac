"""Write what the docs take from records: the table of operators, the pages of all checks and of all keys.

python tools/reference.py           write it
python tools/reference.py --check   say whether it is current
"""

from __future__ import annotations

import sys
from pathlib import Path

from elenchus.checks.records import records
from elenchus.measures import all_measures
from elenchus.operators import Operands, all_operators
from elenchus.schema.types import FieldType, Type
from elenchus.site.keys import TABLES
from elenchus.tables.layout import OWN_COLUMNS, StoredField
from elenchus.tables.layout import TABLES as TABLE_LAYOUTS

PAGE = Path(__file__).parent.parent / "docs" / "question-language.md"
OPERATORS = "<!-- operators begin: written by tools/reference.py -->\n", "<!-- operators end -->"
MEASURES = "<!-- measures begin: written by tools/reference.py -->\n", "<!-- measures end -->"
CHECKS = PAGE.with_name("checks.md")
CHECKS_HEAD = """# All checks

<!-- Written by tools/reference.py from src/elenchus/checks/records.toml. -->

`elenchus check` finds what is wrong before a site is published; `elenchus check --about CODE` prints one of these.
Errors must be fixed, warnings should be, notes are worth knowing.

"""
KEYS = PAGE.with_name("keys.md")
KEYS_HEAD = """# All keys

<!-- Written by tools/reference.py from src/elenchus/site/keys.py. -->

What may stand in the files that define a site; `elenchus describe KEY` prints one of these. A key that is not here is an error with its
line, and so is a value of another type. “By itself” is what counts where a key is not written.

"""
COLUMNS = PAGE.with_name("tables.md")
COLUMNS_HEAD = """# All tables

<!-- Written by tools/reference.py from src/elenchus/tables/layout.py. -->

What `elenchus export` writes: in a database these are tables of the schema `elenchus`, in a folder each is a folder of Parquet files. A column of a
field is called as the field is, in small letters; where two would be called alike, the second has a number behind it. [Beyond one machine](scale.md) tells how they are used.
Bodies of entries that are held back, fields that look private and those whose names begin with `_` are there only after `elenchus export --complete`.

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


def measures() -> str:
    """Return a line for each measure."""
    lines = ["| measure | of | is | for example |", "|---|---|---|---|"]
    lines += [
        f"| `{each.name} of` | {each.types} | {each.doc} | `{each.example}` |"
        for each in all_measures().values()
    ]
    return "\n".join(lines) + "\n"


def written() -> str:
    """Return the page with the tables as the records have them."""
    text = PAGE.read_text(encoding="utf-8")
    for (begin, end), made in ((OPERATORS, table()), (MEASURES, measures())):
        start, stop = text.index(begin) + len(begin), text.index(end)
        text = text[:start] + made + text[stop:]
    return text


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


def keys() -> str:
    """Return the page of all keys: a table for each table that a file may have."""
    found = [KEYS_HEAD]
    file = ""
    for table in TABLES:
        if table.file != file:
            file = table.file
            found.append(f"## {file}\n\n")
        if table.header:
            found.append(f"### `{table.header}`\n\n")
        found.append(f"{table.doc}\n\n| key | takes | by itself | |\n|---|---|---|---|\n")
        for key in table.keys:
            usual = f"`{key.by_itself}`" if key.by_itself else ""
            found.append(f"| `{key.name}` | {key.takes} | {usual} | {key.doc} |\n")
        found.append("\n")
    return "".join(found).rstrip("\n") + "\n"


def columns() -> str:
    """Return the page of all tables: the columns of entries that all sites have, the parts of values, the others."""
    found = [
        COLUMNS_HEAD,
        "## entries\n\nThe entries: a row for each. Each field that has one value has a column; beside it stand its parts.\n\n",
    ]
    found.append("| values | column | sort | |\n|---|---|---|---|\n")
    samples = {
        "a text": Type.TEXT,
        "a day or a date": Type.DATE,
        "a choice": Type.CHOICE,
        "yes or no": Type.YESNO,
        "a whole number": Type.INTEGER,
        "a number": Type.NUMBER,
        "a reference": Type.ENTRY,
    }
    for words, kind in samples.items():
        listed = StoredField("field", FieldType(kind), "FIELD").columns()
        found += [
            f"| {words} | `{each.name}` | {each.sort} | {each.doc.partition(': ')[2] or 'the value'} |\n"
            for each in listed
        ]
    found.append(
        "\nA text as long as `body` has no weights and no initial. Columns of each entry besides:\n\n"
    )
    for name, doc, shown in (
        ("", "", OWN_COLUMNS),
        *((each.name, each.doc, each.columns) for each in TABLE_LAYOUTS),
    ):
        found.append(f"## {name}\n\n{doc}\n\n" if name else "")
        found.append("| column | sort | |\n|---|---|---|\n")
        found += [f"| `{each.name}` | {each.sort} | {each.doc} |\n" for each in shown]
        found.append("\n")
    return "".join(found).rstrip("\n") + "\n"


def main() -> None:
    """Write the pages, or compare them."""
    for page, text in ((PAGE, written()), (CHECKS, checks()), (KEYS, keys()), (COLUMNS, columns())):
        if "--check" not in sys.argv:
            page.write_text(text, encoding="utf-8")
        elif text != page.read_text(encoding="utf-8"):
            sys.exit(f"{page.name} is not current")


if __name__ == "__main__":
    main()
