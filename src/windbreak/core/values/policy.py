"""Rules of the house: how long releases soak, from which channels, and who has to be asked.

A rule speaks of a place (a site, a client, or the whole fleet) and of a thing (a product, a maker,
or everything). The nearest rule that says anything of a matter decides it: a nearer place
outranks a nearer thing.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime
from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from windbreak.core.values.basics import Channel, Day, ProductId, Slug, Value, example
from windbreak.core.versions.version import Jump

Take = Literal["by-itself", "ask", "never"]


# What somebody has to watch: every move, majors, what migrates.
Watched = Literal["any", "major", "migration"]
WATCHED: tuple[Watched, ...] = ("migration",)  # where no rule says anything


SoakKind = Literal["major", "minor", "patch", "security"]


class NewRule(Value):
    """What is decided, where, of what, and why. What it says nothing of is left to others.
    ``jump``: how far what is taken by itself may go, as far as a major where nothing is said.
    ``watch``: what is done only while somebody is there; () is nothing at all.
    """

    model_config = example(client="Ness Ferries", soak={"major": 21}, reason="season")

    site: Slug | None = None
    client: str | None = None
    product: ProductId | None = None
    maker: str | None = None
    soak: dict[SoakKind, Annotated[int, Field(ge=0, le=3650)]] = {}
    channels: tuple[Channel, ...] | None = None
    take: Take | None = None
    jump: Jump | None = None
    watch: tuple[Watched, ...] | None = None
    reason: Annotated[str, Field(min_length=1)]
    until: Day | None = None
    review: Day | None = None

    @model_validator(mode="after")
    def _says_one_thing(self) -> Self:
        if self.site is not None and self.client is not None:
            raise ValueError("a rule is for a site or for a client, not for both")
        if self.product is not None and self.maker is not None:
            raise ValueError("a rule is for a product or for a maker, not for both")
        nothing = (self.channels, self.take, self.watch) == (None, None, None)
        if not self.soak and nothing:
            raise ValueError(
                "a rule says something of soak, of channels, of what is taken or what is watched"
            )
        if self.jump is not None and self.take != "by-itself":
            raise ValueError("only of what is taken by itself is it said how far it may go")
        return self

    def stands(self, today: date) -> bool:
        return self.until is None or today <= self.until

    @property
    def nearness(self) -> tuple[int, int]:
        """The greater, the nearer: by place, then by thing."""
        place = 2 if self.site else 1 if self.client else 0
        return place, 2 if self.product else 1 if self.maker else 0

    @property
    def where(self) -> str:
        """What it speaks of, in words: "Ness Ferries, plugin/tollhouse"."""
        place = self.site or self.client or "the fleet"
        thing = self.product or self.maker
        return f"{place}, {thing}" if thing else place


class Rule(NewRule):
    id: str
    author: str
    made_at: datetime


class InForce(Value):
    """What holds for one product on one site, and which rules say so ("" where none does);
    ``take_rule`` is the id of the rule that says whether it is taken.
    """

    product: ProductId
    soak: dict[SoakKind, int]
    soak_by: dict[SoakKind, str]
    channels: tuple[Channel, ...]
    channels_by: str
    take: Take
    take_by: str
    take_jump: Jump | None = None
    watch: tuple[Watched, ...] = WATCHED
    watch_by: str = ""
    take_rule: str = ""


def touching(
    rules: Iterable[Rule], today: date, *, site: str, client: str, product: str, maker: str
) -> list[Rule]:
    """The standing rules that speak of a product on a site, the nearest first."""
    touched = [
        rule
        for rule in rules
        if rule.stands(today)
        and rule.site in (None, site)
        and rule.client in (None, client)
        and rule.product in (None, product)
        and (rule.maker is None or rule.maker.casefold() == maker.casefold())
    ]
    return sorted(touched, key=lambda r: (tuple(-n for n in r.nearness), r.made_at), reverse=False)


def in_force(near: Iterable[Rule], product: str, soak: dict[SoakKind, int]) -> InForce:
    """What the nearest rules say of each matter; ``soak`` is what holds where none does."""
    rules = list(near)
    days, days_by = dict(soak), dict.fromkeys(soak, "")
    for kind in soak:
        stated = next((r for r in rules if kind in r.soak), None)
        if stated is not None:
            days[kind], days_by[kind] = stated.soak[kind], stated.where
    channels = next((r for r in rules if r.channels is not None), None)
    take = next((r for r in rules if r.take is not None), None)
    watch = next((r for r in rules if r.watch is not None), None)
    return InForce(
        product=product,
        soak=days,
        soak_by=days_by,
        channels=(channels.channels or ("stable",)) if channels else ("stable",),
        channels_by=channels.where if channels else "",
        take=(take.take or "ask") if take else "ask",
        take_by=take.where if take else "",
        take_jump=take.jump if take else None,
        watch=(watch.watch or ()) if watch else WATCHED,
        watch_by=watch.where if watch else "",
        take_rule=take.id if take else "",
    )
