"""The sitemap: the addresses of all pages, as the protocol of sitemaps.org has it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.pages.paths import address_of
from elenchus.values.xml import XmlWriter

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.rendering.addresses import Root

__all__ = ["sitemap_files"]

_NAMESPACE = "http://www.sitemaps.org/schemas/sitemap/0.9"
_MOST = 50_000  # addresses in one file


def sitemap_files(root: Root, pages: Sequence[tuple[str, str]]) -> Iterator[tuple[str, bytes]]:
    """Yield the sitemap of pages, each a path and the date of its last change (empty where unknown).

    Beyond 50,000 pages there are several, and an index of them. A site without an address has none.
    """
    if not root.address or not pages:
        return
    parts = [pages[at : at + _MOST] for at in range(0, len(pages), _MOST)]
    if len(parts) == 1:
        yield "sitemap.xml", _sitemap(root, pages)
        return
    names = [f"sitemap-{number}.xml" for number in range(1, len(parts) + 1)]
    for name, part in zip(names, parts, strict=True):
        yield name, _sitemap(root, part)
    xml = XmlWriter()
    with xml.element("sitemapindex", xmlns=_NAMESPACE):
        for name in names:
            xml.record("sitemap", loc=root.whole(address_of(name)))
    yield "sitemap.xml", xml.text().encode()


def _sitemap(root: Root, pages: Sequence[tuple[str, str]]) -> bytes:
    """Return one sitemap."""
    xml = XmlWriter()
    with xml.element("urlset", xmlns=_NAMESPACE):
        for path, changed in pages:
            xml.record("url", loc=root.whole(address_of(path)), lastmod=changed)
    return xml.text().encode()
