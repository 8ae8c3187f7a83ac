"""What is shown while the site cannot be read at all: its problems, until they are fixed."""

from __future__ import annotations

from typing import TYPE_CHECKING

from markupsafe import Markup

from elenchus.pieces.problems import plain_problems
from elenchus.preview.preview import TOOLS, pieces_html
from elenchus.preview.reply import Reply

if TYPE_CHECKING:
    from elenchus.errors import ElenchusError

__all__ = ["failed_page"]

_PAGE = Markup("""<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>The site cannot be shown</title>
<link rel="icon" href="data:,">
<link rel="stylesheet" href="/assets/elenchus.css">
<link rel="stylesheet" href="{tools}preview.css">
</head>
<body>
<main id="content">
<header class="elen-heading"><h1>The site cannot be shown</h1>
<p class="elen-about">Fix this, and the page comes back by itself.</p></header>
{told}
</main>
<aside class="preview" aria-label="Preview" data-events="{tools}events" data-problems="{tools}problems.json">
<p><span class="preview-count" role="status"></span></p>{switch}
</aside>
<script type="module" src="{tools}preview.js"></script>
</body>
</html>
""")


# A pending edit that cannot be read keeps nobody from what is public.
_SWITCH = Markup('\n<p><a href="{tools}shown">Show what is public</a></p>').format(tools=TOOLS)


def failed_page(error: ElenchusError, *, shows_all: bool = False) -> Reply:
    """Return the page of an error, which loads itself again when something changes."""
    told = pieces_html(plain_problems(error.problems))
    switch = _SWITCH if shows_all else ""
    return Reply(_PAGE.format(told=told, tools=TOOLS, switch=switch).encode(), status=500)
