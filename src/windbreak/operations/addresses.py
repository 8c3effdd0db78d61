"""Addresses as people enter them: none holds a password or a key, which would stand in plain text
in the database, in every list and in every mail.
"""

from __future__ import annotations

from urllib.parse import parse_qsl, urlsplit

from windbreak.operations.errors import Refused

_KEYS = {"key", "apikey", "api_key", "api-key", "token", "access_token", "password", "secret"}

# What is said to whoever gives one, by where it was given.
IN_A_SITES = "a site's address is where its visitors go, and its agent needs none"
IN_A_FEEDS = "give it as the feed's credential (--sign-in, and windbreak feed credential): sealed"


def refuse_secrets(address: str, instead: str) -> None:
    """Raise Refused for an address that holds a password or key; ``instead``: where it goes."""
    held = _secret_in(address)
    if held is not None:
        raise Refused("secret-in-address", f"the address holds {held}; leave it out: {instead}")


def _secret_in(address: str) -> str | None:
    """What an address holds that it should not, in words; None where nothing is."""
    parts = urlsplit(address)
    if parts.password or parts.username:
        return "a user or password before its host"
    for name, value in parse_qsl(parts.query, keep_blank_values=True):
        if name.lower() in _KEYS and value and "{" not in value:
            return f"a {name.lower()} in its query"
    return None
