"""Secrets at rest: sealed under a key that lies outside the database."""

from __future__ import annotations

import os
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken

from windbreak.store.errors import StoreError


class SealBroken(StoreError):
    """A secret can't be opened: the key file is not the one it was sealed with."""

    code = "seal-broken"

    def __init__(self) -> None:
        super().__init__(
            "a secret can't be opened with this key file; put back the key file that belongs to "
            "this database, or enter the secret again"
        )


class Sealer:
    """Seals and opens secrets with the key of a file, made with mode 0600 where it is missing."""

    def __init__(self, key_file: Path) -> None:
        if not key_file.exists():
            handle = os.open(key_file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(handle, "wb") as file:
                file.write(Fernet.generate_key())
        self._fernet = Fernet(key_file.read_bytes().strip())

    def seal(self, secret: str) -> bytes:
        return self._fernet.encrypt(secret.encode())

    def open(self, sealed: bytes) -> str:
        """The secret again. Raises SealBroken."""
        try:
            return self._fernet.decrypt(sealed).decode()
        except InvalidToken:
            raise SealBroken from None


def trimmed(secret: str) -> str:
    """A secret without white space and invisible characters, as people paste them."""
    return "".join(c for c in secret if c.isprintable() and not c.isspace())


def masked(secret: str) -> str:
    """What is shown of a secret ever after: its last four characters."""
    return f"…{secret[-4:]}" if len(secret) >= 12 else "…"
