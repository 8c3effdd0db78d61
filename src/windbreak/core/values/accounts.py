"""Who acts: accounts, principals and tokens."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Value, example


class Account(Value):
    """Somebody who may sign in; a closed account may not, and its history stays."""

    id: str
    name: str
    closed_at: datetime | None = None


class Invitation(Value):
    """A one-time link that signs an account in."""

    account: str
    url: str


class Principal(Value):
    """Who acts: a person signed in, or the holder of a token of theirs."""

    account: str
    name: str
    via: Literal["session", "token", "service"]


class NewToken(Value):
    model_config = example(label="Rhona's laptop")

    label: str


class Token(Value):
    """A token; ``secret`` is there only in the answer that made it."""

    id: str
    label: str
    last4: str
    made_at: datetime
    secret: str | None = None
