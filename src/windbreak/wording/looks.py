"""What is seen of a site in words: its files, its health checks, its members, its last day."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date, datetime, tzinfo

from windbreak.core.values.integrity import ComponentFiles
from windbreak.core.values.inventories import HealthCheck, Inventory, Member
from windbreak.core.values.sites import LookedAfter
from windbreak.core.values.turns import GONE, Turn
from windbreak.wording.words import counted, day, listed

_PAGES = {"broken": "broken", "unreachable": "gone"}


def files_text(files: ComponentFiles) -> str:
    """What was done to a component by hand: "1 file changed in place (form.php)"; "" for none."""
    parts = []
    if files.changed:
        names = few(files.changed)
        parts.append(f"{counted(len(files.changed), 'file')} changed in place ({names})")
    if files.missing:
        parts.append(f"{counted(len(files.missing), 'file')} missing ({few(files.missing)})")
    if files.added:
        parts.append(f"{counted(len(files.added), 'file')} of its own ({few(files.added)})")
    return listed(parts)


def changed_text(every: Iterable[ComponentFiles], names: Mapping[str, str]) -> str:
    """Components with their changed files: "Oarlock (form.php, 2 more)"."""
    return listed([f"{names.get(o.product, o.product)} ({few(o.changed)})" for o in every])


def few(paths: Sequence[str]) -> str:
    """Some paths, the rest as a number."""
    more = f", {len(paths) - 2} more" if len(paths) > 2 else ""
    return f"{', '.join(paths[:2])}{more}"


def tended_text(tended: LookedAfter, today: date) -> str:
    """That a person looks after a component of which no feed tells."""
    return f"Looked after by hand until {day(tended.until, today)}, by {tended.by}: {tended.why}"


def checks_text(checks: Sequence[HealthCheck] | None) -> str:
    """How a site's own health checks stand: "2 of 14 not good, 1 of them critical"."""
    if checks is None:
        return "Its agent does not tell of them."
    if not checks:
        return "It makes none."
    bad = [check for check in checks if check.state != "good"]
    critical = sum(check.state == "critical" for check in bad)
    if not bad:
        return f"All {len(checks)} good."
    more = f", {critical} of them critical" if critical else ", none of them critical"
    return f"{len(bad)} of {len(checks)} not good{more}."


def members_text(members: Sequence[Member], for_all: int) -> str:
    """What a network is: "6 members, one installation, shared code, one plan"."""
    if not members:
        return ""
    return (
        f"{counted(len(members), 'member')}: one installation, shared code, one plan; "
        f"{counted(for_all, 'plugin')} {'is' if for_all == 1 else 'are'} on for all."
    )


def partly_text(inventory: Inventory, product: str) -> str:
    """Where a component is on that is not on for all: "on 4 of 6 members"; "" where it is."""
    on = inventory.partly_on.get(product)
    return f"on {len(on)} of {len(inventory.members)} members" if on else ""


def day_text(turns: Sequence[Turn], since: datetime, zone: tzinfo) -> str:
    """How pages were in the last day: "gone 03:15 to 03:45", by the site's clock; "" where nobody
    had looked before.
    """
    lines, wrong = [], None
    for turn in turns:
        if wrong is not None:
            lines.append(f"{_PAGES[wrong.state]} {_from(wrong, since, zone)} to {_at(turn, zone)}")
        wrong = turn if turn.state in _PAGES else None
    if wrong is not None:
        lines.append(f"{_PAGES[wrong.state]} since {_from(wrong, since, zone)}")
    if lines:
        return f"In 24 hours: {listed(lines)}."
    present = [turn for turn in turns if turn.state != GONE]
    return "In 24 hours: always fine." if present and present[0].at <= since else ""


def _at(turn: Turn, zone: tzinfo) -> str:
    return f"{turn.at.astimezone(zone):%H:%M}"


def _from(turn: Turn, since: datetime, zone: tzinfo) -> str:
    if turn.at <= since:
        return f"{turn.at.astimezone(zone):%a %H:%M}"
    return _at(turn, zone)
