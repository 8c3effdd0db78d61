"""A site's editor, opened in a browser under a looking pass: what it shows of the content.

look, blocks = opened("/usr/bin/chromium", visiting, "/wp-admin/post.php?post=2&action=edit")
look.marks     ("core/paragraph The harbour is open.", "core/heading Find us")
blocks         2; None where the editor does not open
"""

from __future__ import annotations

import time

from windbreak.core.values.runs import Look
from windbreak.links.browser import Browser, first_line
from windbreak.links.errors import LinkError
from windbreak.links.visiting import Visiting

_PATIENCE_MS = 10_000  # until the first block is there
_SETTLED_MS = 500  # without another block coming
_MOST_SECONDS = 15.0
# Each outermost block, in the page or in a frame of it: its type and text; with a warning in the
# place of its content it is not shown.
_BLOCKS = """() => {
  const every = [document, ...[...document.querySelectorAll('iframe')].map(f => {
    try { return f.contentDocument } catch { return null } }).filter(Boolean)]
  return every.flatMap(d => [...d.querySelectorAll('[data-block]')])
    .filter(b => !b.parentElement.closest('[data-block]'))
    .map(b => ({ type: b.dataset.type || '', node: b,
                 text: b.innerText.trim().replace(/\\s+/g, ' ').slice(0, 200) }))
    .filter(b => b.type || b.text)
    .map(({ type, text, node }) => ({ type, text,
      shown: !node.querySelector('[class*="-warning"]') && !/missing$/.test(type) }))
}"""


def opened(program: str, site: Visiting, where: str) -> tuple[Look, int | None]:
    """Open the editor; what it shows, and of how many blocks. Raises NoBrowser."""
    from playwright.sync_api import Error

    began, faults = time.monotonic(), list[str]()
    status: int | None = None
    blocks: list[dict[str, str]] | None = None
    with Browser(program, site) as browser:
        page = browser.page
        try:
            answer = page.goto(site.place(where), wait_until="load")
            status = answer.status if answer else None
            if status == 200:
                page.wait_for_function(f"({_BLOCKS})().length > 0", timeout=_PATIENCE_MS)
                blocks = page.evaluate(_BLOCKS)
                while True:
                    page.wait_for_timeout(_SETTLED_MS)
                    again = page.evaluate(_BLOCKS)
                    if again == blocks or time.monotonic() - began > _MOST_SECONDS:
                        blocks = again
                        break
                    blocks = again
        except (Error, LinkError) as error:
            faults.append(first_line(error))
    shown = [block for block in blocks or () if block["shown"]]
    look = Look(
        name="Editor",
        where=where,
        status=status,
        seconds=round(time.monotonic() - began, 3),
        bytes=sum(len(block["text"]) for block in shown),
        marks=tuple(f"{block['type']} {block['text']}".strip() for block in shown),
        faults=tuple(faults),
    )
    return look, None if blocks is None else len(shown)
