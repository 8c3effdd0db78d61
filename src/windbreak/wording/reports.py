"""What a client is told of a month of their site, in words that need no trade behind them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date

from windbreak.wording.words import counted, day, listed


@dataclass(frozen=True, slots=True)
class Moved:
    """One move that was done: ``start`` None: it is new; ``end`` None: it is gone. ``closes`` are
    the weaknesses that it closed, in their own words; ``major``: a new generation.
    """

    name: str
    start: str | None
    end: str | None
    major: bool = False
    closes: tuple[str, ...] = ()

    @property
    def title(self) -> str:
        return f"{self.name} {self.end}"


def head(
    updates: int,
    nights: int,
    *,
    back: int,
    restored: int,
    alarms: int,
    lost: int,
    notice_seconds: float | None,
) -> str:
    """``6 updates in one night. None had to be put back. …``"""
    when = "one night" if nights == 1 else f"{nights} nights"
    sentences = [f"{counted(updates, 'update')} in {when}." if updates else "Nothing was updated."]
    if back:
        sentences.append(
            f"{counted(back, 'more' if updates else 'update')} had to be put back, and was."
        )
    if alarms:
        what = "One update went" if alarms == 1 else f"{alarms} updates went"
        sentences.append(f"{what} wrong, and a person had to look after it.")
    if restored:
        times = "once" if restored == 1 else f"{restored} times"
        sentences.append(f"The site was brought back from its backup {times}.")
    if lost:
        were = "was" if lost == 1 else "were"
        what = f"{counted(lost, 'thing')} that came in meanwhile {were} lost by that"
        sentences.append(f"{what}; we have a list.")
    if updates and not (back or alarms or restored):
        sentences.append("None had to be put back.")
    if notice_seconds:
        minutes = max(1, round(notice_seconds / 60))
        sentences.append(f"The pages were behind a notice for {counted(minutes, 'minute')} in all.")
    return " ".join(sentences)


def done(moves: Iterable[Moved]) -> list[str]:
    """The moves of a day: what closes a weakness and what is a new generation each by itself, then
    what comes and leaves, then the rest in a line.
    """
    every = list(moves)
    own = [m for m in every if m.end and m.start and (m.closes or m.major)]
    lines = [_own_line(move) for move in own]
    lines += [f"{m.title} is new" for m in every if m.end and not m.start]
    lines += [f"{m.name} is gone" for m in every if not m.end]
    rest = [m.title for m in every if m.end and m.start and m not in own]
    return lines + ([listed(rest)] if rest else [])


def _own_line(move: Moved) -> str:
    if not move.closes:
        return f"{move.title}, a new generation"
    what = [text.rstrip(".") for text in move.closes if text]
    if not what:
        return f"{move.title}: closes a weakness"
    return f"{move.title}: closes a weakness: {'; '.join(what)}"


def coming(when: str, names: Sequence[str], minutes: int, on_copy: bool) -> str:
    """``Fri 27 Nov, 01:10: Millrace 6.5 and 7 more, about 38 minutes, tried on a copy first``"""
    first, rest = names[0], len(names) - 1
    what = f"{first} and {rest} more" if rest else first
    took = f", about {counted(minutes, 'minute')}" if minutes else ""
    tried = ", tried on a copy first" if on_copy else ""
    return f"{when}: {what}{took}{tried}."


def left(name: str, version: str, reason: str) -> str:
    """What stays as it is on purpose."""
    why = f": {reason.rstrip('.')}" if reason else ""
    return f"{name} stays at {version}{why}."


def markdown(
    client: str,
    first: date,
    last: date,
    sites: Iterable[tuple[str, str, Iterable[tuple[date, str]], Iterable[tuple[str, list[str]]]]],
) -> str:
    """The whole as Markdown: label, head, lines by day, and paragraphs with their titles."""
    whole = [f"# {client}", f"{day(first, last)} to {day(last)}"]
    for label, site, lines, paragraphs in sites:
        whole += [site] if label == client else [f"## {label}", site]
        listing = [f"- {day(when, last)}: {text}" for when, text in lines]
        if listing:
            whole.append("\n".join(listing))
        whole += [f"**{title}.** {' '.join(texts)}" for title, texts in paragraphs]
    return "\n\n".join(whole) + "\n"
