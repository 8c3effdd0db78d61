"""Patch releases that go by the word given for what they mend: the same sites, the same waves.

Where a rollout was approved with patch releases until a day, and has ended, each patch release of
what it took goes after it as a rollout of its own, once it has soaked. One that changes a database,
or brings work for a person, goes only when a person approves it.
"""

from __future__ import annotations

from collections.abc import Iterator

from windbreak.core.values.accounts import Principal
from windbreak.core.values.rollouts import UNDER_WAY, Member, NewRollout, PatchAsks, Rollout
from windbreak.core.versions.version import Version, parse_version
from windbreak.documents.rollouts import RolloutDraft
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.runs.replanning import is_patch
from windbreak.operations.scheduling import drafting, gates, rollouts
from windbreak.wording.words import listed

# What lets a patch release go, or keeps it: the kinds of change after which it is looked for.
HANGS_ON = ("rollout", "run", "product", "hold", "rule", "day")


def tend(context: Context) -> None:
    """Let every patch release go that may go by now. Writes."""
    every = context.store.rollouts.all()
    today = context.clock().date()
    for rollout in every:
        until = rollout.patches_until
        if (
            until is not None
            and until >= today
            and rollout.state in ("ended well", "ended in part")
        ):
            followed = [other for other in every if other.follows == rollout.id]
            if not any(other.state in UNDER_WAY for other in followed):
                _follow(context, rollout, followed)


def _follow(context: Context, rollout: Rollout, followed: list[Rollout]) -> None:
    """Let the patch releases of one rollout go. Writes."""
    done = [m for m in rollout.going if _ended_well(context, m)]
    taken = {(other.product, other.version) for other in followed}
    for product, version in _patches(context, done):
        if (product, version) in taken:
            continue
        new = _like(rollout, product, version, done)
        draft = drafting.drafted(context, new).draft
        if not draft.members:
            continue  # it soaks still, or something else stands against it: Today says so
        asks = _asks(draft)
        if asks:
            _note(context, rollout, PatchAsks(product=product, version=version, text=asks))
            continue
        by = Principal(account="windbreak", name=rollout.made_by, via="service")
        try:
            rollouts.approve(context, new, by, follows=rollout.id)
        except Refused:
            continue  # no site can take it now


def _ended_well(context: Context, member: Member) -> bool:
    run = gates.run_of(context, member)
    return run is not None and run.state == "done"


def _patches(context: Context, members: list[Member]) -> Iterator[tuple[str, str]]:
    """The newest patch release of each product that some sites took, where there is one."""
    targets: dict[str, list[Version]] = {}
    for member in members:
        for product, version in member.targets.items():
            targets.setdefault(product, []).append(parse_version(version))
    for product, taken in sorted(targets.items()):
        releases = context.store.releases.all(product=product)
        listed_now = [parse_version(r.version) for r in releases if r.withdrawn_at is None]
        newer = [v for v in listed_now if any(is_patch(of, v) for of in taken)]
        if newer:
            yield product, max(newer).text


def _like(rollout: Rollout, product: str, version: str, members: list[Member]) -> NewRollout:
    """What a rollout asked for, of a patch release of what it took."""
    sites = tuple(m.site for m in members if product in m.targets and m.wave != "twin")
    why = f"a patch release, as {rollout.made_by} approved with rollout {rollout.id}"
    return NewRollout(
        product=product,
        version=version,
        sites=sites,
        named=rollout.where,
        canaries=tuple(m.site for m in members if m.wave == "canary" and m.site in sites),
        quiet_minutes=rollout.quiet_minutes,
        waves=rollout.waves,
        refresh_twins=rollout.refresh_twins,
        restore_anyway=rollout.restore_anyway,
        why=why,
    )


def _asks(draft: RolloutDraft) -> str:
    """Why a patch release does not go by a word given before; "" where it may."""
    reasons = [f"it changes the database of {m.label}" for m in draft.members if m.migrates][:1]
    reasons += [f"it asks of a person: {bring.text}" for bring in draft.brings]
    return listed(reasons)


def _note(context: Context, rollout: Rollout, asks: PatchAsks) -> None:
    if asks in rollout.asks:
        return
    others = tuple(a for a in rollout.asks if a.product != asks.product)
    context.store.rollouts.change(rollout.id, asks=(*others, asks))


def asking(context: Context) -> Iterator[tuple[Rollout, PatchAsks]]:
    """The patch releases that wait for a person, with the rollout they would follow. Reads."""
    every = context.store.rollouts.all()
    approved = {(other.product, other.version) for other in every}
    today = context.clock().date()
    for rollout in every:
        if rollout.patches_until is not None and rollout.patches_until >= today:
            for asks in rollout.asks:
                if (asks.product, asks.version) not in approved:
                    yield rollout, asks
