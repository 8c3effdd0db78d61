"""This service itself: its id, and whether it may drive sites."""

from __future__ import annotations

import secrets
from datetime import datetime

from windbreak.core.values.accounts import Principal
from windbreak.core.values.hooks import Instance
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused


def of(context: Context) -> Instance:
    """Who this service is. Reads, and writes its id at the first use."""
    id = context.store.facts.get("instance")
    if id is None:
        id = secrets.token_hex(8)
        context.store.facts.set("instance", id)
    restored = context.store.facts.get("restored_at")
    drives = may_drive(context)
    text = "It drives its sites."
    if not drives:
        text = "It is a restored copy and drives no site until somebody says so."
    return Instance(
        id=id,
        drives=drives,
        restored_at=datetime.fromisoformat(restored) if restored else None,
        text=text,
    )


def may_drive(context: Context) -> bool:
    """Whether this service may ask, book and change sites. Reads."""
    return context.store.facts.get("drives") != "no"


def must_drive(context: Context) -> None:
    """Raise Refused where this service drives no site."""
    if not may_drive(context):
        raise Refused(
            "drives-nothing",
            "this service is a restored copy and drives no site; `windbreak take-over` lets it",
        )


def take_over(context: Context, by: Principal, why: str) -> Instance:
    """Let a restored copy drive the sites. Writes. Raises Refused where it does already."""
    if may_drive(context):
        raise Refused("drives-already", "this service drives its sites already")
    with context.store.transaction():
        context.store.facts.set("drives", "yes")
        context.record(by.name, "this copy takes the sites over", "instance", why=why)
    context.tell("day", "instance", "taken over")
    return of(context)
