"""What is on a site, as its agent reported it at an instant."""

from __future__ import annotations

import hashlib
from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from windbreak.core.values.basics import Address, Day, ProductId, Slug, Value, VersionText


class Installed(Value):
    """One component as the agent reported it; ``maker`` is what its header names, if it does."""

    product: ProductId
    version: VersionText
    name: str
    folder: str
    active: bool = True
    parent: str | None = None
    maker: str | None = None


class Registration(Value):
    """Whether a product is registered on a site, as the agent read it there."""

    product: ProductId
    state: Literal["registered", "grace", "missing", "unknown"]
    until: Day | None = None
    last4: str | None = None


class Limits(Value):
    """What the runtime of a site may use; None where the agent does not tell."""

    memory_mb: int | None = None
    time_s: int | None = None
    upload_mb: int | None = None


class Member(Value):
    """A site of a network, at an address of its own; ``on`` is what is switched on there beside
    what is on for all.
    """

    name: Annotated[str, Field(min_length=1, max_length=120)]
    address: Address
    on: tuple[ProductId, ...] = ()


CheckState = Literal["good", "minor", "critical"]


class HealthCheck(Value):
    """What one of a site's own health checks says; ``minor``: worth doing, and nothing is broken
    by it.
    """

    id: Slug
    name: Annotated[str, Field(min_length=1, max_length=120)]
    state: CheckState
    text: Annotated[str, Field(max_length=500)] = ""


class Complaint(Value):
    """What one component says of another that it works with: a shop, that its theme's copies of its
    templates are old.
    """

    by: ProductId
    about: ProductId
    text: Annotated[str, Field(min_length=1, max_length=500)]


class Held(Value):
    """What an agent switched for a run and has not switched back: a plugin, a cache or automatic
    updates that were on, the maintenance page that was down; ``change`` is the id of that change.
    """

    kind: Literal["updates", "cache", "plugin", "page"]
    name: Annotated[str, Field(max_length=200)] = ""
    was: bool
    change: Annotated[str, Field(max_length=100)] = ""


Lack = Annotated[str, Field(max_length=1000)]


class Inventory(Value):
    """What is on a site, as its agent answered at an instant; its id is the site's.

    ``network`` is how many sites share this one's code, ``members`` are those that the agent names;
    0 and none for a site by itself. A component that some members have on and the others not is
    active. ``caches`` are those that are on, by name, ``caches_off`` those that are there and off.
    ``maintenance``: whether the maintenance page is up; None where the agent does not tell.
    ``kept_mb``: what its snapshots and kept folders take. ``checks``: the site's own health checks;
    None where the agent does not tell. ``agent_can``: its calls; none where it does not tell;
    ``agent_lacks``: what is wanting for it to do its work, in its own words.
    ``held``: what it switched for a run and has not switched back.
    """

    id: Slug
    at: datetime
    components: tuple[Installed, ...]
    automatic_updates: bool
    caches: tuple[str, ...] = ()
    caches_off: tuple[str, ...] = ()
    maintenance: bool | None = None
    free_mb: int
    registrations: tuple[Registration, ...] = ()
    network: int = 0
    members: Annotated[tuple[Member, ...], Field(max_length=500)] = ()
    checks: Annotated[tuple[HealthCheck, ...], Field(max_length=200)] | None = None
    complaints: Annotated[tuple[Complaint, ...], Field(max_length=200)] = ()
    agent_version: str | None = None
    agent_can: tuple[str, ...] = ()
    agent_lacks: Annotated[tuple[Lack, ...], Field(max_length=20)] = ()
    limits: Limits = Limits()
    kept_mb: int | None = None
    held: Annotated[tuple[Held, ...], Field(max_length=500)] = ()

    @property
    def signature(self) -> str:
        """What two inventories share exactly when the reasoning sees no difference in them."""
        parts = [(c.product, c.version, c.active, c.name, c.maker) for c in self.components]
        return hashlib.sha256(repr(parts).encode()).hexdigest()[:24]

    @property
    def partly_on(self) -> dict[str, tuple[str, ...]]:
        """Where components of a network are on that are not on for all: members by product."""
        every = sorted({product for member in self.members for product in member.on})
        return {p: tuple([m.name for m in self.members if p in m.on]) for p in every}

    def registration_of(self, product: str) -> Registration | None:
        """Whether a product is registered there; None where the agent does not tell."""
        return next((r for r in self.registrations if r.product == product), None)

    def version_of(self, product: str) -> str | None:
        """The installed version of a product; None where it is not there."""
        return next((c.version for c in self.components if c.product == product), None)
