"""What differs between the draft that a person saw and the draft of now, a line for each site."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime

from windbreak.documents.rollouts import DraftMember, RolloutDraft
from windbreak.wording.words import counted, listed

_WAVES = {"twin": "the twins", "canary": "the canaries", "rest": "the rest"}


def changed_lines(
    shown: RolloutDraft, now: RolloutDraft, name: Callable[[str], str]
) -> tuple[str, ...]:
    """What is otherwise now; nothing where the same sites go to the same versions at the same
    times. ``name`` gives the name of a product.
    """
    return tuple(_lines(shown, now, name))


def _lines(shown: RolloutDraft, now: RolloutDraft, name: Callable[[str], str]) -> Iterator[str]:
    was = {member.site: member for member in shown.members}
    is_ = {member.site: member for member in now.members}
    reasons = {site: out.text for out in now.stays_out for site in out.sites}
    for site, member in was.items():
        if site not in is_:
            if site in now.before:
                why = "It was approved meanwhile."
            else:
                why = reasons.get(site, "It has nothing to update any more.")
            yield f"{member.label} does not go: {why}"
        else:
            yield from _of_member(member, is_[site], name)
    for site, member in is_.items():
        if site not in was:
            yield f"{member.label} can go now as well: {counted(len(member.targets), 'update')}."


def _of_member(was: DraftMember, now: DraftMember, name: Callable[[str], str]) -> Iterator[str]:
    if was.targets != now.targets:
        products = sorted(was.targets.keys() | now.targets.keys())
        differs = [
            f"{name(p)} {now.targets[p]}" if p in now.targets else f"{name(p)} as it is"
            for p in products
            if was.targets.get(p) != now.targets.get(p)
        ]
        yield f"{now.label} takes other versions now: {listed(differs)}."
    if was.wave != now.wave:
        yield f"{now.label} goes with {_WAVES[now.wave]}, not with {_WAVES[was.wave]}."
    if was.starts_at != now.starts_at:
        yield f"{now.label} can’t go {_when(was.starts_at)} any more; now {_when(now.starts_at)}."


def _when(at: datetime | None) -> str:
    return f"{at:%a} {at.day} {at:%b}, {at:%H:%M} UTC" if at is not None else "at no time"
