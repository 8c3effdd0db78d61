"""What is on a site, as its agent reported it at an instant."""

from __future__ import annotations

import hashlib
from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Day, ProductId, Slug, Value, VersionText


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


class Inventory(Value):
    """What is on a site, as its agent answered at an instant; its id is the site's.

    ``network`` is how many sites share this one's code; 0 for a site by itself. ``caches`` are
    those that are on, by name, ``caches_off`` those that are there and off. ``maintenance``:
    whether the maintenance page is up; None where the agent does not tell. ``kept_mb``: what its
    snapshots and kept folders take.
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
    agent_version: str | None = None
    limits: Limits = Limits()
    kept_mb: int | None = None

    @property
    def signature(self) -> str:
        """What two inventories share exactly when the reasoning sees no difference in them."""
        parts = [(c.product, c.version, c.active, c.name, c.maker) for c in self.components]
        return hashlib.sha256(repr(parts).encode()).hexdigest()[:24]

    def registration_of(self, product: str) -> Registration | None:
        """Whether a product is registered there; None where the agent does not tell."""
        return next((r for r in self.registrations if r.product == product), None)

    def version_of(self, product: str) -> str | None:
        """The installed version of a product; None where it is not there."""
        return next((c.version for c in self.components if c.product == product), None)
