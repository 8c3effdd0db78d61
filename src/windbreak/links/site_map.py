"""A site's own map of its pages, as sitemaps.org has it: read, and no more of it than is wanted."""

from __future__ import annotations

from defusedxml import DefusedXmlException, ElementTree

MOST = 2000
_NAME = "{http://www.sitemaps.org/schemas/sitemap/0.9}"


def locations(body: bytes) -> list[str]:
    """The addresses that a map lists, at most 2,000, in its order. Raises ValueError where it is no
    map; a map of other maps has none.
    """
    try:
        root = ElementTree.fromstring(body)
    except (ElementTree.ParseError, DefusedXmlException) as error:
        raise ValueError(f"it is no site map ({error})") from error
    if root.tag != f"{_NAME}urlset":
        return []
    addresses = (url.findtext(f"{_NAME}loc") for url in root[:MOST])
    return [text.strip() for text in addresses if text and text.strip()]
