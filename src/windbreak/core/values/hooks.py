"""What goes out: web hooks and what was sent to them. Values only."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from windbreak.core.values.basics import Address, Slug, Value, example

News = Literal["finding.opened", "finding.closed", "release", "run.ended"]


NEWS: tuple[News, ...] = ("finding.opened", "finding.closed", "release", "run.ended")


DeliveryState = Literal["waiting", "taken", "given up"]


class NewHook(Value):
    """An address that is told of news, as JSON, signed with this service's key."""

    model_config = example(
        id="watch-desk", url="https://watch-desk.example/windbreak", news=["finding.opened"]
    )

    id: Slug
    url: Address
    news: Annotated[tuple[News, ...], Field(min_length=1)] = NEWS


class Hook(NewHook):
    """A web hook; ``public_key`` is what its receiver checks our signatures with."""

    made_by: str
    made_at: datetime
    public_key: str
    state: Literal["not tried", "taken", "failing"] = "not tried"
    text: str = "Nothing has been sent yet."
    last_at: datetime | None = None


class Delivery(Value):
    """One message to a web hook; it is tried again until it is taken, for a day."""

    id: int
    hook: Slug
    news: News
    body: str
    state: DeliveryState = "waiting"
    made_at: datetime
    next_at: datetime
    tries: int = 0
    text: str = ""


class Instance(Value):
    """This service itself. ``aside`` says why it drives no site, until a person lets it."""

    id: str
    epoch: int
    drives: bool
    aside: Literal["restored", "copied", "superseded"] | None = None
    restored_at: datetime | None = None
    text: str
