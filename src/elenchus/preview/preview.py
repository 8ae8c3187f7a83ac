"""Pages as the preview shows them: with what is wrong, the time they are seen at, and why everywhere."""

from __future__ import annotations

from typing import TYPE_CHECKING
from urllib.parse import urlencode

from markupsafe import Markup, escape

from elenchus.rendering.renderer import Renderer

if TYPE_CHECKING:
    from collections.abc import Iterable
    from zoneinfo import ZoneInfo

    from elenchus.pages.book import Book, Page
    from elenchus.pages.section import Section
    from elenchus.pieces.piece import Piece
    from elenchus.preview.unpublished import AllShown
    from elenchus.rendering.addresses import Root
    from elenchus.rendering.views import PageView, Visit
    from elenchus.site.site import Site

__all__ = ["TOOLS", "PreviewRenderer", "pieces_html"]

TOOLS = "/-elenchus/"  # below which the preview's own addresses are: no slug begins with a dash


class PreviewRenderer(Renderer):
    """The pages of a site with the tools of those who build it.

    Where ``shown`` is given, these are pages with all that is not public, marked as such; ``offers_all`` says
    whether the panel lets visitors see that.
    """

    def __init__(
        self,
        site: Site,
        book: Book,
        *,
        root: Root,
        shown: AllShown | None = None,
        offers_all: bool = False,
    ) -> None:
        super().__init__(site, book, root=root)
        self.everything = shown
        self.offers_all = offers_all
        if shown:
            for desk in self.desks.values():
                desk.marks = shown.mark

    def why_link(self, page: Page, section: Section, visit: Visit) -> str:
        """Return the address that tells why a section shows what it shows."""
        chosen = [(name, text) for name, texts in (visit.query or {}).items() for text in texts]
        query = urlencode([("page", f"/{page.address}"), ("section", section.number), *chosen])
        return f"{TOOLS}why?{query}"

    def change_link(self, page: Page, section: Section) -> str:
        """Return the address at which a section is changed; nothing where other machines see the preview."""
        if not self.offers_all:
            return ""
        return f"{TOOLS}change?{urlencode([('page', f'/{page.address}'), ('section', section.number)])}"

    def before_end(self, page: PageView) -> str:
        """Return the panel of the preview."""
        now = self.site.clock
        return self.templates.drawn(
            "preview/panel.html",
            sheet=page,
            tools=TOOLS,
            seen_at=_seen_at(now.now, now.zone),
            offers_all=self.offers_all,
            shows_all=self.everything is not None,
        )


def _seen_at(instant: int, zone: ZoneInfo) -> str:
    """Return an instant as the time control has it."""
    from elenchus.values.dates import from_instant, to_minute

    return to_minute(from_instant(instant, zone)).replace(" ", "T")


def pieces_html(pieces: Iterable[Piece]) -> Markup:
    """Return pieces of text as HTML, their roles as classes."""
    parts = [
        Markup('<span class="role-{}">{}</span>').format(piece.role.value, piece.text)
        if piece.role.value != "plain"
        else escape(piece.text)
        for piece in pieces
    ]
    return Markup('<pre class="told" tabindex="0">{}</pre>').format(Markup().join(parts))
