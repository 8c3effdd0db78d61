"""Roots and what would change them, in words: who or what keeps a component back, by its name.

Nothing is decided here; ``operations.reasoning.explaining`` has found what there is to tell.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date

from windbreak.core.values.entitlements import Lack
from windbreak.core.values.findings import NextAct
from windbreak.wording.words import counted, day, in_words, joined, listed


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
    return joined([way.label for way in ways])


def is_for_each(way: NextAct) -> bool:
    """Whether an act is done once for each site: three seats are three purchases."""
    return way.act in _FOR_EACH


def fleet_text(ways: Sequence[NextAct], times: int) -> str:
    """The same for ``times`` sites: "Buy 2 seats of Breakwater 5"."""
    labels = [
        _FOR_EACH[way.act].format(times, label=way.label, **way.on)
        if times > 1 and is_for_each(way)
        else way.label
        for way in ways
    ]
    return joined(labels)


_FOR_EACH = {
    "buy-seat": "Buy {} seats of {of}",
    "buy-licence": "Buy {} licences for {of}",
    "give-seat": "Give {} sites a seat of {of}",
    "shelve": "Put {file} on the shelf for {} sites",
    "remove": "{label} on {} sites",
    "switch-on": "{label} on {} sites",
    "take-channel": "Take {channels} releases on {} sites",
}


# What keeps a component back, by its name: ``{name}`` is the component, ``{version}`` its release.
_ROOTS = {
    "soak": "{name} {version} soaks until {day}, as a {soak} release does.",
    "channel": "{name} {version} is a {channel} release, and the house takes none.",
    "theme only": "{name} {version} comes only inside {themes}, which is not in use here.",
    "from": "{name} {version} can be reached only from {needs}.",
    "conflict": "{name} {version} does not go with what is here.",
    "absent": "{name} is not here and can’t be had.",
    "no package": "Neither a feed nor the shelf has the package of {name} {version}.",
    "scope": "{name} {version} is no part of this plan.",
    "undecided": "{name} {version} waits for a decision: {why}.",
    "not given": "{name} {version} was brought by hand, and not given to this site.",
    "refused": "The package of {name} {version} was refused: {why}.",
    "rule": "{name} is never taken, by the rule for {where}.",
    "held": "{name} {version} is held{end}: {why}.",
    "held by": "{author} holds {name} {version}{where}{end}: {why}.",
    "no host": "{name} {version} is wanted, and no host is entered for this site.",
    "offers": "{host} offers {name} {offers}, and not {version}.",
    "offers none": "{host} offers no {name}, and not {version}.",
    "newest": "{name} {version} is the newest there is.",
    "none": "{name} has none.",
    "not carried": "{carrier} carries no {name} {version} yet.",
}


def root_text(key: str, **words: str) -> str:
    """What keeps a component back: "Breakwater carries no Trestle 5.2 yet."."""
    return _ROOTS[key].format(**words)


# What somebody can do about it; ``{of}`` is a licence, a product or a release, by its name.
_WAYS = {
    "ask-host": "Ask {host_name} for {of}",
    "buy-licence": "Buy a licence for {of}",
    "buy-seat": "Buy a seat of {of}",
    "change-rule": "Change the rule for {of}",
    "decide": "Decide about {of}",
    "enter-host": "Say which host it is on, for {of}",
    "give-package": "Give it the package of {of}",
    "give-seat": "Give it a seat of {of}",
    "lift": "Lift {author}’s hold on {of}",
    "remove": "Remove {of}",
    "renew": "Renew {of}",
    "shelve": "Put the package of {of} on the shelf",
    "switch-on": "Switch {of} on",
    "take-channel": "Take {channel} releases{of}",
    "wait": "Wait until {of}",
}


def way(act: str, *, of: str, named: Mapping[str, str] | None = None, **on: str) -> NextAct:
    """An act on something; ``of`` and ``named`` are what its label names. Where the act is done
    once for each site, the label of all needs ``of`` too.
    """
    label = _WAYS[act].format(of=of, **(named or {}))
    return NextAct(act=act, on={**on, "of": of} if act in _COUNTED else on, label=label)


_COUNTED = ("buy-seat", "buy-licence", "give-seat")
