"""Twins: refreshed from their production site, and used to prove that its backup can be restored.

A snapshot is made there, carried over in parts, and restored here with the addresses rewritten; the
link and the seats of the twin stay its own. The twin is never copied over its site.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
import secrets
import time
from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta
from typing import cast

from windbreak.core.scheduling.openings import openings
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.sites import Site
from windbreak.core.values.tasks import Subject
from windbreak.links.adapter import Agent, SentPart
from windbreak.links.errors import CallFailed, LinkError, UnderWay
from windbreak.links.probing import look_at
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.sites import inventories, sites, visits

_CALLS = ("snapshot", "restore", "fetch", "bring", "drop")
_PATIENCE = 1800.0  # seconds for one change
_PROOF = timedelta(minutes=30)  # kept free in a window for a proof

Tell = Callable[[str], None]


def check(context: Context, twin_id: str) -> Site:
    """The production site of a twin. Raises Refused where it is none, or either can't do it."""
    twin = context.store.sites.get(twin_id)
    if twin.twin_of is None:
        raise Refused("no-twin", f"{twin.label} is no twin of a site")
    site = context.store.sites.get(twin.twin_of)
    for either in (site, twin):
        sites.agent_for(context, either.id)  # refuses a site that is not linked
        lacks = [call for call in _CALLS if call not in either.link.agent_can]
        if lacks:
            raise Refused(
                "agent-too-old", f"the agent of {either.label} can't {', '.join(lacks)}: update it"
            )
        if context.store.runs.count(site=either.id, state="running"):
            raise Refused("site-busy", f"a run is under way on {either.label}")
        if context.store.matters.count(site=either.id, open=True):
            raise Refused("open-matter", f"a matter is open on {either.label}: close it first")
    return site


def refresh(context: Context, twin: str, tell: Tell) -> Subject:
    """Make a twin as its production site is now. Writes. Raises Refused, LinkError."""
    site = check(context, twin)
    there, here = sites.agent_for(context, site.id), sites.agent_for(context, twin)
    left = context.store.sites.get(twin).snapshots
    before = _Standing(context, site, there)
    name = _new_change()
    _copied(name, there, here, tell)
    tell("restoring on the twin")
    made = _do(here, "restore", snapshot=name, **{"from": site.address})
    text = _compared(context, context.store.sites.get(twin), here, before, made)
    _do(here, "drop", snapshots=[name, *left], kept=[made["change"]])
    now = context.clock()
    with context.store.transaction():
        context.store.sites.change(twin, refreshed_at=now, snapshots=())
        label = context.store.sites.get(twin).label
        context.record("Windbreak", f"{label} refreshed from {site.label}", twin, result=text)
    return Subject(site=twin, text=text)


def unproved(context: Context) -> str | None:
    """The twin on which a backup is to be proved now: that of the site whose proof is the oldest,
    past its days, in a window of the site. None where none is, or proofs are not wanted. Reads.
    """
    now = context.clock()
    if not context.prove_days:
        return None
    due: list[tuple[datetime, str]] = []
    for twin in sites.live(context):
        if twin.twin_of is None or twin.link.state != "linked":
            continue
        site = context.store.sites.get(twin.twin_of)
        if twin.snapshots:  # a proof was cut off: the twin is to be as it was
            due.append((datetime.min.replace(tzinfo=UTC), twin.id))
            continue
        proved_at = site.proved_at or datetime.min.replace(tzinfo=UTC)
        if site.link.state != "linked" or proved_at + timedelta(days=context.prove_days) > now:
            continue
        open_ = openings(site.windows, site.timezone, now, now + _PROOF)
        if any(opens <= now and now + _PROOF <= closes for opens, closes in open_):
            due.append((proved_at, twin.id))
    for _, twin_id in sorted(due):
        with contextlib.suppress(Refused):
            check(context, twin_id)
            return twin_id
    return None


def prove(context: Context, twin: str, tell: Tell) -> Subject:
    """Restore a snapshot of the production site on its twin, look whether it is whole, and bring
    the twin back to what it was. Writes. Raises Refused, LinkError.
    """
    site = check(context, twin)
    there, here = sites.agent_for(context, site.id), sites.agent_for(context, twin)
    if context.store.sites.get(twin).snapshots:
        tell("bringing the twin back to what it was before a proof that was cut off")
        left = list(context.store.sites.get(twin).snapshots)
        _bring_back(context, twin, here)
        _do(there, "drop", snapshots=left)
    before = _Standing(context, site, there)
    tell("keeping the twin as it is")
    own, name = _new_change(), _new_change()
    context.store.sites.change(twin, snapshots=(own, name))
    _do(here, "snapshot", own)
    _copied(name, there, here, tell)
    tell("restoring on the twin")
    made = _do(here, "restore", snapshot=name, **{"from": site.address})
    well = True
    try:
        text = _compared(context, context.store.sites.get(twin), here, before, made)
    except Refused as error:
        well, text = False, str(error)
    _do(here, "drop", kept=[made["change"]])
    tell("bringing the twin back")
    _bring_back(context, twin, here)
    sites.refresh(context, twin)
    now = context.clock()
    with context.store.transaction():
        context.store.sites.change(site.id, proved_at=now, proved=well, proof=text)
        what = "restored on its twin" if well else "could not be proved"
        context.record("Windbreak", f"backup of {site.label}: {what}", site.id, result=text)
    return Subject(site=site.id, text=text, well=well)


def _bring_back(context: Context, twin: str, here: Agent) -> None:
    """Make a twin what it was before a proof, and let go of the proof's snapshots. A proof that was
    cut off before there was one of the twin had not touched it yet. Writes. Raises LinkError.
    """
    snapshots = context.store.sites.get(twin).snapshots
    kept = []
    if here.change(snapshots[0]).state == "done":
        kept = [_do(here, "restore", snapshot=snapshots[0])["change"]]
    _do(here, "drop", snapshots=list(snapshots), kept=kept)
    there = here.inventory(twin, context.clock())
    inventories.take_in(context, there, ours=True)  # what moved meanwhile was the proof
    context.store.sites.change(twin, snapshots=())


class _Standing:
    """What a site runs and how much it holds, before its snapshot: a shop goes on selling while
    that is made and carried over.
    """

    def __init__(self, context: Context, site: Site, agent: Agent) -> None:
        self.inventory = _inventory(context, site, agent)
        self.counts = agent.look().counts


def _copied(name: str, there: Agent, here: Agent, tell: Tell) -> None:
    """Carry a fresh snapshot of a site over to its twin, in parts; it is called so on both."""
    tell("snapshot of the site")
    _do(there, "snapshot", name)
    whole, offset = hashlib.sha256(), 0
    try:
        while True:
            part = there.fetch(name, offset)
            data = base64.b64decode(part.data)
            whole.update(data)
            sent = SentPart(
                snapshot=name,
                offset=offset,
                data=part.data,
                bytes=part.bytes,
                sha256=whole.hexdigest(),
            )
            here.bring(f"bring-{secrets.token_hex(8)}", sent)
            offset += len(data)
            tell(f"{offset // 1024:,} of {part.bytes // 1024:,} kB carried over")
            if offset >= part.bytes or not data:
                return
    finally:
        _do(there, "drop", snapshots=[name])


def _compared(
    context: Context, twin: Site, here: Agent, before: _Standing, made: Mapping[str, object]
) -> str:
    """Whether a twin is what its site was: components, counts, pages, and what the restore that
    made it left out. Raises Refused with what differs.
    """
    own, counts = before.inventory, before.counts
    copy = _inventory(context, twin, here)
    differs = sorted(
        {(c.product, c.version) for c in own.components if not c.product.startswith("runtime/")}
        ^ {(c.product, c.version) for c in copy.components if not c.product.startswith("runtime/")}
    )
    copied = here.look().counts
    fewer = [f"{copied.get(k, 0)} {k} of {n}" for k, n in counts.items() if copied.get(k, 0) < n]
    look = look_at(visits.visiting(context, twin), "Front page", "/")
    left = cast("list[str]", made.get("left") or [])
    faults = [f"{product} {version}" for product, version in differs] + fewer + left
    if look.status != 200 or not look.bytes:
        faults.append(f"its front page answers {look.status}")
    if faults:
        raise Refused("not-whole", f"what was restored is not whole: {', '.join(faults)}")
    pieces = sum(counts.values())
    return f"{len(own.components)} components and {pieces:,} pieces of content, as on the site"


def _inventory(context: Context, site: Site, agent: Agent) -> Inventory:
    inventory = agent.inventory(site.id, context.clock())
    with context.store.transaction():
        inventory = inventories.take_in(context, inventory, ours=True)
        context.store.sites.change(site.id, facts_at=inventory.at)
    return inventory


def _new_change() -> str:
    return f"twin-{secrets.token_hex(8)}"


def _do(agent: Agent, call: str, change: str | None = None, **args: object) -> dict[str, object]:
    """A change on a site, followed to its end; its id is in the answer. Raises LinkError."""
    change = change or _new_change()
    until = time.monotonic() + _PATIENCE
    asking = False
    while True:
        try:
            if not asking:
                return {**agent.do(call, change, **args), "change": change}
            became = agent.change(change)
            if became.state == "done":
                return {**became.result, "change": change}
            if became.state == "failed":
                raise CallFailed(became.code or "unknown", became.detail)
            asking = became.state != "unknown"
        except UnderWay:
            asking = True
        except CallFailed as error:
            if error.failure != "busy":
                raise
        except LinkError:
            if time.monotonic() > until:
                raise
            asking = True
        if time.monotonic() > until:
            raise CallFailed("timed-out", f"{call} did not end")
        time.sleep(0.5)
