"""Roots and what would change them, in words: who or what keeps a component back, by its name.

Nothing is decided here; ``operations.reasoning.explaining`` has found what there is to tell.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date

from windbreak.core.values.entitlements import Lack
from windbreak.core.values.findings import NextAct
from windbreak.wording.words import counted, day, in_words, listed


def of_licence(name: str, lacks: Sequence[Lack], today: date) -> str:
    """Why no licence gives a site a release of a product; the nearest one decides."""
    if not lacks:
        return f"{name} needs a licence, and there is none here."
    first, has = lacks[0], next((lack for lack in lacks if lack.here), None)
    text = lack_text(first, today)
    if has is not None and has is not first:
        return f"{lack_text(has, today)[:-1]}; {text}"
    return text


def lack_text(lack: Lack, today: date) -> str:
    """Why one licence gives no right: "Breakwater 4 covers only versions below 5."."""
    match lack.why:
        case "ended":
            assert lack.since is not None  # that is why
            return f"{lack.label} ended on {day(lack.since, today)}."
        case "not covered" if lack.since is not None:
            return f"{lack.label} covers only what came out up to {day(lack.since, today)}."
        case "not covered":
            return f"{lack.label} covers only versions {in_words(lack.range)}."
        case "seat free":
            return f"{lack.label} has a seat free, and this site has none of it."
        case "seat elsewhere":
            return f"{lack.label}: the site it is a copy of has the seat, and no copy rides along."
        case "no seat free":
            seats = counted(lack.seats or 0, "seat")
            taken = "its one seat is" if lack.seats == 1 else f"all its {seats} are"
            return f"{lack.label}: {taken} taken, and this site has none of them."


def keeps(names: Sequence[str], with_them: Sequence[str], carrier: str = "") -> str:
    """What a root keeps back, and what follows that: "It keeps back Breakwater, and with it
    Trestle, which Breakwater carries."; ``carrier`` "" where no one theme does.
    """
    text = f"It keeps back {listed(names)}"
    if with_them:
        text += f", and with {'it' if len(names) == 1 else 'them'} {listed(with_them)}"
        text += f", which {carrier} carries" if carrier else ""
    return f"{text}."


def ways_text(ways: Sequence[NextAct]) -> str:
    """A set of ways as one sentence without its full stop."""
    first, *rest = (way.label for way in ways)
    return " and ".join([first, *(t[:1].lower() + t[1:] for t in rest)])


def is_for_each(way: NextAct) -> bool:
    """Whether an act is done once for each site: three seats are three purchases."""
    return way.act in _FOR_EACH


def fleet_text(ways: Sequence[NextAct], times: int) -> str:
    """The same for ``times`` sites: "Buy 2 seats of Breakwater 5"."""
    labels = [
        _FOR_EACH[way.act].format(times, **way.on) if times > 1 and is_for_each(way) else way.label
        for way in ways
    ]
    first, *rest = labels
    return " and ".join([first, *(t[:1].lower() + t[1:] for t in rest)])


_FOR_EACH = {
    "buy-seat": "Buy {} seats of {of}",
    "buy-licence": "Buy {} licences for {of}",
    "give-seat": "Give {} sites a seat of {of}",
    "shelve": "Put {file} on the shelf for {} sites",
    "remove": "{text} on {} sites",
    "switch-on": "{text} on {} sites",
    "take-channel": "Take {channels} releases on {} sites",
}
