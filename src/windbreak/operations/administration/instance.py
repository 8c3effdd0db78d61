"""This service itself: its id, its key and epoch, and whether it may drive sites.

Agents obey the newest epoch they have seen. Taking over raises it, so that whoever drove before
finds out at its next calls: it leaves each such site alone, and becomes a reader once agents on two
hosts say so. A copied data directory becomes one at its start, and a restored one is a reader from
the beginning. Nothing goes out of a reader: no call to an agent, no news to a hook, no mail.
"""

from __future__ import annotations

import json
import secrets
from datetime import datetime, timedelta
from functools import partial
from urllib.parse import urlsplit

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from pydantic import TypeAdapter

from windbreak.core.values.accounts import Principal
from windbreak.core.values.basics import Value
from windbreak.core.values.hooks import Instance
from windbreak.links import signing
from windbreak.links.signed_agent import Caller
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused

# The keys it signs with, and the sites at which the coming one was announced.
OWN_KEY, COMING_KEY, TURNED = "service-key", "service-key-coming", "keys_turned"

_ANOTHER = "obey_another"  # the fact that names the sites whose agents obey another service
_TOGETHER = timedelta(days=1)  # within which agents of two hosts have to say so


class _Told(Value):
    """What a site's agent said: from which host, when, in which words."""

    host: str
    at: datetime
    why: str


_ALL_TOLD = TypeAdapter(dict[str, _Told])  # by site

# Why a service drives nothing, as it is told.
_WHY = {
    "restored": "It is a restored copy and drives no site until somebody says so.",
    "copied": "Its data directory is a copy; it drives no site until somebody says so.",
    "superseded": "Another service has taken the sites over; this one only reads.",
}


def of(context: Context) -> Instance:
    """Who this service is. Reads, and writes its id at the first use."""
    facts = context.store.facts
    restored, drives = facts.get("restored_at"), may_drive(context)
    return Instance(
        id=_id(context),
        epoch=_epoch(context),
        drives=drives,
        aside=None if drives else aside(context),
        restored_at=datetime.fromisoformat(restored) if restored else None,
        text="It drives its sites." if drives else _WHY[aside(context)],
    )


def aside(context: Context) -> str:
    """Why this service drives nothing: "restored", "copied" or "superseded". Reads."""
    return context.store.facts.get("aside") or "restored"


def may_drive(context: Context) -> bool:
    """Whether this service may ask, book and change sites. Reads."""
    return context.store.facts.get("drives") != "no"


def must_drive(context: Context) -> None:
    """Raise Refused where this service drives no site."""
    if not may_drive(context):
        raise Refused(
            "drives-nothing",
            f"{_WHY[aside(context)].rstrip('.')}; `windbreak take-over` lets it drive them",
        )


def take_over(context: Context, by: Principal, why: str) -> Instance:
    """Let a reader drive the sites: from now on agents obey no one older. Writes. Raises Refused
    where it does already.
    """
    if may_drive(context):
        raise Refused("drives-already", "this service drives its sites already")
    with context.store.transaction():
        context.store.facts.set("drives", "yes")
        context.store.facts.set(_ANOTHER, "{}")
        context.store.facts.set("epoch", str(_epoch(context) + 1))
        context.store.facts.set("place", _place(context))
        context.record(by.name, "this copy takes the sites over", "instance", why=why)
    context.tell("day", "instance", "taken over")
    return of(context)


def settle(context: Context) -> None:
    """At the start: whether this data directory is the one it was, or a copy of it. Writes."""
    here, before = _place(context), context.store.facts.get("place")
    if before is None:
        context.store.facts.set("place", here)
    elif before != here and may_drive(context):
        _step_aside(context, "copied", "its data directory was copied from another place")


def superseded(context: Context, site: str, detail: str) -> None:
    """A site's agent obeys another driver. One site's word concerns that site: it is left alone.
    Where agents on two hosts say so within a day, this service becomes a reader. Writes.
    """
    if not may_drive(context):
        return
    now = context.clock()
    with context.store.transaction():
        before = _obeying_another(context)
        told = before | {site: _Told(host=_host(context, site), at=now, why=detail)}
        hosts = {said.host for said in told.values() if said.at > now - _TOGETHER}
        context.store.facts.set(_ANOTHER, _ALL_TOLD.dump_json(told).decode())
        if site not in before:
            label = context.store.sites.get(site).label
            text = f"{label} obeys another service, and is left alone"
            context.record("Windbreak", text, site, why=detail)
    if len(hosts) > 1:
        _step_aside(context, "superseded", detail)


def obeys_another(context: Context, site: str) -> bool:
    """Whether a site's agent said last that it obeys another service. Reads."""
    return site in _obeying_another(context)


def obeyed(context: Context, site: str) -> None:
    """A site's agent obeys this service. Writes."""
    with context.store.transaction():
        told = _obeying_another(context)
        if told.pop(site, None) is not None:
            context.store.facts.set(_ANOTHER, _ALL_TOLD.dump_json(told).decode())


def _obeying_another(context: Context) -> dict[str, _Told]:
    return _ALL_TOLD.validate_json(context.store.facts.get(_ANOTHER) or "{}")


def _host(context: Context, site: str) -> str:
    """The machine that a site lies on, as far as it is known."""
    of = context.store.sites.get(site)
    return of.host or urlsplit(of.address).netloc


def _step_aside(context: Context, why: str, detail: str) -> None:
    with context.store.transaction():
        context.store.facts.set("drives", "no")
        context.store.facts.set("aside", why)
        context.record("Windbreak", "this service drives no site any more", "instance", why=detail)
    context.tell("day", "instance", _WHY[why])


def caller(context: Context, site: str) -> Caller:
    """Who calls a site's agent: this service, under its key, id and epoch; the key that is coming
    where it was announced there. Reads and writes.
    """
    at_newer = partial(superseded, context, site)
    # The coming key is read first: where it becomes our own meanwhile, our own is it already.
    coming = coming_key(context)
    signs = coming if coming is not None and site in turned(context) else key(context)
    return Caller(signs, _id(context), _epoch(context), context.clock, at_newer)


def turned(context: Context) -> frozenset[str]:
    """The sites at which the coming key was announced already. Reads."""
    return frozenset(json.loads(context.store.facts.get(TURNED) or "[]"))


def coming_key(context: Context) -> Ed25519PrivateKey | None:
    """The key that is to take the place of this service's own; None where none is. Reads."""
    sealed = context.store.secrets.get(COMING_KEY)
    return None if sealed is None else signing.key_from(context.sealer.open(sealed))


def key(context: Context) -> Ed25519PrivateKey:
    """This service's own key, made at the first use and kept sealed. Reads and writes."""
    sealed = context.store.secrets.get(OWN_KEY)
    if sealed is None:
        made = signing.new_key()
        context.store.secrets.set(OWN_KEY, context.sealer.seal(signing.key_text(made)))
        return made
    return signing.key_from(context.sealer.open(sealed))


def _id(context: Context) -> str:
    id = context.store.facts.get("instance")
    if id is None:
        id = secrets.token_hex(8)
        context.store.facts.set("instance", id)
    return id


def _epoch(context: Context) -> int:
    return int(context.store.facts.get("epoch") or 1)


def _place(context: Context) -> str:
    """What a data directory keeps when it is moved, and a copy of it has not."""
    files = (context.data / "seal.key", context.data / "windbreak.db")
    return ".".join(str(file.stat().st_ino) for file in files)
