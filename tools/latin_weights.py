"""Write src/elenchus/values/latin_weights.json: collation elements of the characters of Latin scripts.

The elements come from pyuca's copy of the Default Unicode Collation Element Table. Texts made only of
these characters get their sort key without the whole table being read; tests compare both ways.

    python tools/latin_weights.py
"""

from __future__ import annotations

import json
import unicodedata
from pathlib import Path
from typing import Any

import pyuca

RANGES = [(0x20, 0x7F), (0xA0, 0x250), (0x300, 0x345), (0x346, 0x34F), (0x2010, 0x2027), (0x2030, 0x203B)]
TARGET = Path(__file__).parent.parent / "src/elenchus/values/latin_weights.json"


def continued(node: Any, depth: int = 0) -> set[int]:
    """Return the code points that continue a contraction, which cannot be weighed alone."""
    found: set[int] = set()
    for point, child in (node.children or {}).items():
        if depth:
            found.add(point)
        found |= continued(child, depth + 1)
    return found


def main() -> None:
    """Write the table, one character a line."""
    collator = pyuca.Collator()
    unsafe = continued(collator.table.root)
    rows = {}
    for start, end in RANGES:
        for point in range(start, end):
            char = chr(point)
            alone = unicodedata.normalize("NFD", char) == char and unicodedata.category(char) != "Cn"
            if alone and (point not in unsafe or 0x300 <= point < 0x350):
                rows[char] = collator.collation_elements(char)
    lines = ",\n".join(f"{json.dumps(char)}: {json.dumps(rows[char])}" for char in rows)
    TARGET.write_text("{\n" + lines + "\n}\n", encoding="utf-8")


if __name__ == "__main__":
    main()
