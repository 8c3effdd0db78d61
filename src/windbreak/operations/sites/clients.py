"""The agency's clients, as their sites name them."""

from __future__ import annotations

from windbreak.operations.context import Context
from windbreak.operations.errors import Refused


def names(context: Context) -> list[str]:
    """The clients that have a site, or had one, in order. Reads."""
    return context.store.sites.clients()


def check(context: Context, client: str | None) -> None:
    """Raise Refused for a client nobody has, with those there are. Reads."""
    clients = names(context)
    if client is not None and client not in clients:
        raise Refused("unknown-client", f"no site is of {client!r}; clients: {', '.join(clients)}")
