"""The agency's clients, as their sites name them."""

from __future__ import annotations

from windbreak.operations.context import Context
from windbreak.operations.errors import Refused


def check(context: Context, client: str | None) -> None:
    """Raise Refused for a client nobody has, with those there are. Reads."""
    clients = sorted({site.client for site in context.store.sites.all() if site.client})
    if client is not None and client not in clients:
        raise Refused("unknown-client", f"no site is of {client!r}; clients: {', '.join(clients)}")
