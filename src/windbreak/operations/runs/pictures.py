"""Pictures of a site's pages before and after a run, and where they differ.

They are taken where a browser is configured, beside the probes and never in their place: a picture
that can't be taken is told in the journal and holds nothing up. They lie in the data directory, a
folder for each run. What differs between two pictures from before a run changes by itself: it is
marked as such, and apart from what differs after.
"""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from windbreak.core.values.journal import (
    Box,
    JournalEntry,
    Picture,
    Pictured,
    RunAct,
    pictures_after,
    pictures_before,
)
from windbreak.core.values.runs import Probe
from windbreak.documents.runs import PicturePair
from windbreak.links.browser import NoBrowser
from windbreak.links.camera import Camera, NoPicture
from windbreak.operations.context import Context
from windbreak.operations.runs.acting import Acting
from windbreak.operations.sites import visits
from windbreak.store.errors import NotFound
from windbreak.wording.words import counted

if TYPE_CHECKING:
    from PIL.Image import Image


WIDTHS = (1280, 390)
_MOST_PAGES = 3
_CELL = 16  # pixels: what differs is marked in cells of this size
_LEAST = 24  # how much lighter or darker, of 255, counts as another colour
_NAME = re.compile(r"\d{1,2}-\d{3,4}-(before|again|after)\.png")


class Wanted(NamedTuple):
    """A page of which pictures are taken: its number, name and place."""

    number: int
    name: str
    where: str


def before(run: Acting) -> None:
    """Take pictures of the first pages of the baseline, each twice. Writes."""

    def take() -> Pictured:
        pages = _pages(run.baseline)
        for kind in ("before", "again"):
            _take(run, pages, kind)
        folder = _folder(run.context, run.run.id)
        every = [_first(folder, page, width) for page in pages for width in WIDTHS]
        return Pictured(pictures=tuple(every))

    _once(run, pictures_before(), take)


def after(run: Acting) -> None:
    """The same pages after the run, and where they differ. Writes."""
    taken = run.journal.brought(pictures_before())
    if taken is None:
        return

    def take() -> Pictured:
        _take(run, _pages(run.baseline), "after")
        folder = _folder(run.context, run.run.id)
        return Pictured(pictures=tuple([_second(folder, first) for first in taken.pictures]))

    _once(run, pictures_after(), take)


def _once(run: Acting, act: RunAct[Pictured], take: Callable[[], Pictured]) -> None:
    if not run.context.browser or run.journal.has(act, "noted"):
        return
    try:
        run.journal.once(act, take, text=lambda taken: counted(len(taken.pictures), "picture"))
    except ImportError as error:
        run.journal.note(act, f"could not be taken: the package {error.name} is not installed")
    except (NoPicture, NoBrowser, OSError) as error:
        run.journal.note(act, f"could not be taken: {error}")


def _take(run: Acting, pages: list[Wanted], kind: str) -> None:
    folder = _folder(run.context, run.run.id)
    folder.mkdir(parents=True, exist_ok=True)
    visiting = visits.visiting(run.context, run.site)
    visiting = visiting.past_page(run.journal.ask(run.agent.look).pass_)
    with Camera(run.context.browser, visiting) as camera:
        for page in pages:
            for width in WIDTHS:
                taken = camera.take(page.where, width)
                (folder / f"{page.number}-{width}-{kind}.png").write_bytes(taken)


def _pages(baseline: Probe) -> list[Wanted]:
    fine = [look for look in baseline.looks if look.name != "Editor" and look.status == 200]
    return [Wanted(n, look.name, look.where) for n, look in enumerate(fine[:_MOST_PAGES])]


def _first(folder: Path, page: Wanted, width: int) -> Picture:
    stem = f"{page.number}-{width}"
    first, again = (folder / f"{stem}-{kind}.png" for kind in ("before", "again"))
    seen = marked(first, again, first)
    return Picture(
        page=page.name, width=width, stem=stem, height=seen.height, lively=tuple(seen.lively)
    )


def _second(folder: Path, first: Picture) -> Picture:
    names = (folder / f"{first.stem}-{kind}.png" for kind in ("before", "again", "after"))
    seen = marked(*names)
    return first.model_copy(update={"height": seen.height, "boxes": tuple(seen.boxes)})


def pairs(run: int, journal: Iterable[JournalEntry]) -> tuple[PicturePair, ...]:
    """A run's pictures, page by page and width by width, as its journal has them."""
    done = {entry.act: entry for entry in journal if entry.state == "done"}
    newest = done.get(pictures_after()) or done.get(pictures_before())
    if newest is None:
        return ()
    address = f"/api/v1/runs/{run}/pictures"
    return tuple(
        PicturePair(
            page=picture.page,
            width=picture.width,
            height=picture.height,
            before=f"{address}/{picture.stem}-before.png",
            after=None if picture.boxes is None else f"{address}/{picture.stem}-after.png",
            boxes=picture.boxes or (),
            lively=picture.lively,
        )
        for picture in pictures_after().brought_by(newest).pictures
    )


class Marked(NamedTuple):
    """Where two pictures differ, and where the page changes by itself."""

    height: int
    boxes: tuple[Box, ...]
    lively: tuple[Box, ...]


def marked(first: Path, again: Path, now: Path) -> Marked:
    """Where a page changes by itself, from two pictures of before, and where it differs now."""
    from PIL import Image

    alive = _differing(first, again)
    heights = []
    for path in (first, now):
        with Image.open(path) as image:
            heights.append(image.height)
    differs = _differing(first, now) - alive
    return Marked(max(heights), tuple(_boxes(differs)), tuple(_boxes(alive)))


def picture(context: Context, run: int, name: str) -> Path:
    """The file of one picture. Raises NotFound."""
    path = _folder(context, run) / name
    if not _NAME.fullmatch(name) or not path.exists():
        raise NotFound("picture", name)
    return path


def forget(context: Context) -> None:
    """Drop the pictures of runs whose journals are gone. Writes."""
    for folder in (context.data / "pictures").glob("*"):
        if not context.store.journal.all(run=int(folder.name)):
            shutil.rmtree(folder, ignore_errors=True)


def _folder(context: Context, run: int) -> Path:
    return context.data / "pictures" / str(run)


def _differing(first: Path, second: Path) -> set[tuple[int, int]]:
    """The cells, column and row, in which two pictures differ."""
    from PIL import Image, ImageChops

    with Image.open(first) as a, Image.open(second) as b:
        size = (max(a.width, b.width), max(a.height, b.height))
        whole = ImageChops.difference(_on_paper(a, size), _on_paper(b, size)).convert("L")
    other = whole.point(lambda value: 255 if value >= _LEAST else 0)
    cells = ((size[0] + _CELL - 1) // _CELL, (size[1] + _CELL - 1) // _CELL)
    # One pixel of the small picture is the largest difference in a cell.
    padded = Image.new("L", (cells[0] * _CELL, cells[1] * _CELL))
    padded.paste(other, (0, 0))
    small = padded.reduce(_CELL).point(lambda value: 255 if value else 0)
    data = small.tobytes()
    return {(n % cells[0], n // cells[0]) for n, value in enumerate(data) if value}


def _on_paper(image: Image, size: tuple[int, int]) -> Image:
    """A picture on white of a given size, so that a page that grew shorter differs below."""
    from PIL import Image as Images

    paper = Images.new("RGB", size, "white")
    paper.paste(image.convert("RGB"), (0, 0))
    return paper


def _boxes(cells: set[tuple[int, int]]) -> list[Box]:
    """Cells that touch, or nearly do, as boxes: left, top, width and height in pixels."""
    left, boxes = set(cells), []
    while left:
        reached, queue = set(), [left.pop()]
        while queue:
            x, y = queue.pop()
            reached.add((x, y))
            for near in [(x + i, y + j) for i in (-2, -1, 0, 1, 2) for j in (-2, -1, 0, 1, 2)]:
                if near in left:
                    left.discard(near)
                    queue.append(near)
        columns, rows = [x for x, _ in reached], [y for _, y in reached]
        x, y = min(columns), min(rows)
        wide, tall = max(columns) - x + 1, max(rows) - y + 1
        boxes.append((x * _CELL, y * _CELL, wide * _CELL, tall * _CELL))
    return sorted(boxes, key=lambda box: (box[1], box[0]))
