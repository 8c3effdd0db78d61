"""Markup from outside, read in linear time whatever it holds: by a parser in C, never by patterns.

with_marks(b"<title>Shop</title>")  ->  Marked(marks=("Shop",), blocks=0)
"""

from __future__ import annotations

import html
from collections.abc import Mapping
from typing import NamedTuple

from lxml import etree

_MARKS = ("title", "h1", "h2")
_OF_A_LINE = ("li", "ul", "ol", "p", "br", "div", "tr", *(f"h{n}" for n in range(1, 7)))


class Marked(NamedTuple):
    """The title and headings of a page, and how many blocks of an editor it shows."""

    marks: tuple[str, ...] = ()
    blocks: int = 0


class _Target:
    """What the parser tells, taken down; text comes in pieces, and is put together."""

    def __init__(self) -> None:
        self._text: list[str] = []

    def start(self, tag: str, attributes: Mapping[str, str]) -> None: ...

    def end(self, tag: str) -> None: ...

    def data(self, text: str) -> None:
        self._text.append(text)

    def comment(self, text: str) -> None: ...

    def close(self) -> None: ...


class _Marks(_Target):
    def __init__(self) -> None:
        super().__init__()
        self.marks: list[str] = []
        self.blocks = 0
        self._inside = False

    def start(self, tag: str, attributes: Mapping[str, str]) -> None:
        self._flush()
        self._inside = tag in _MARKS
        self.blocks += "data-block" in attributes

    def end(self, tag: str) -> None:
        self._flush()
        self._inside = False

    def _flush(self) -> None:
        text = "".join(self._text).strip()
        if self._inside and text:
            self.marks.append(text)
        self._text = []


class _Lines(_Target):
    def start(self, tag: str, attributes: Mapping[str, str]) -> None:
        self.end(tag)

    def end(self, tag: str) -> None:
        if tag in _OF_A_LINE:
            self._text.append("\n")

    def text(self) -> str:
        return "".join(self._text)


def with_marks(text: str) -> Marked:
    """What a page shows of itself."""
    told = _Marks()
    _parse(text, told)
    return Marked(tuple(told.marks), told.blocks)


def bare(text: str) -> str:
    """A text without its markup: what is a line of its own there is one here."""
    if "<" not in text:
        return html.unescape(text)
    told = _Lines()
    _parse(text, told)
    return told.text()


def _parse(text: str, target: _Target) -> None:
    parser = etree.HTMLParser(target=target, encoding="utf-8", huge_tree=True)
    try:
        parser.feed(text.encode("utf-8", "replace"))
        parser.close()
    except etree.LxmlError:
        return  # it holds nothing, or no more than was told already
