"""Addresses as people enter them: none holds a password or a key, which would stand in plain text
in the database, in every list and in every mail.
"""

from __future__ import annotations

from urllib.parse import parse_qsl, urlsplit

_KEYS = {"key", "apikey", "api_key", "api-key", "token", "access_token", "password", "secret"}


def secret_in(address: str) -> str | None:
    """What an address holds that it should not, in words; None where nothing is."""
    parts = urlsplit(address)
    if parts.password or parts.username:
        return "a user or password before its host"
    for name, value in parse_qsl(parts.query, keep_blank_values=True):
        if name.lower() in _KEYS and value and "{" not in value:
            return f"a {name.lower()} in its query"
    return None
