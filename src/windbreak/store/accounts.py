"""Accounts with their passwords; tokens, sessions and sign-in links by the hash of their secret."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

import peewee

from windbreak.core.values.accounts import Account, Token
from windbreak.store.database import Mark
from windbreak.store.documents import Documents, Row


class AccountRow(Row):
    id = peewee.TextField(primary_key=True)
    password_hash = peewee.TextField(null=True)

    class Meta:
        table_name = "account"


class TokenRow(Row):
    id = peewee.TextField(primary_key=True)
    account = peewee.TextField()
    kind = peewee.TextField()
    hash = peewee.TextField(unique=True)
    expires_at = peewee.TextField(null=True)

    class Meta:
        table_name = "token"


class Accounts(Documents[Account]):
    model, value = AccountRow, Account
    outside = ("password_hash",)

    def marks(self, before: Account | None, after: Account | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("account", value.id),)

    def password_hash(self, id: str) -> str | None:
        """The hash of an account's password; None where it has none. Reads."""
        rows = self.database.ask("SELECT password_hash FROM account WHERE id = ?", [id])
        return str(rows[0][0]) if rows and rows[0][0] else None

    def set_password_hash(self, id: str, hash: str) -> None:
        """Keep the hash of an account's password. Writes."""
        self.database.tell("UPDATE account SET password_hash = ? WHERE id = ?", [hash, id])


@dataclass(frozen=True)
class Holder:
    """Whose a secret is, and what all views show by now."""

    kind: str
    expires_at: datetime | None
    account: Account
    generation: int
    as_of: datetime | None


class Tokens(Documents[Token]):
    model, value = TokenRow, Token
    outside = ("account", "kind", "hash", "expires_at")

    def make(
        self, token: Token, *, account: str, kind: str, hash: str, expires_at: datetime | None
    ) -> None:
        """Keep a new token under the hash of its secret. Writes."""
        end = expires_at.isoformat() if expires_at else None
        self.database.tell(
            "INSERT INTO token (id, account, kind, hash, expires_at, body) "
            "VALUES (?, ?, ?, ?, ?, ?)",
            [token.id, account, kind, hash, end, token.model_dump_json()],
        )

    def holder(self, hash: str) -> Holder | None:
        """Whose a secret is, by its hash; what each request begins with is one read. Reads."""
        rows = self.database.ask(
            "SELECT t.kind, t.expires_at, a.body, p.generation, p.as_of "
            "FROM token t JOIN account a ON a.id = t.account CROSS JOIN projection p "
            "WHERE t.hash = ?",
            [hash],
        )
        if not rows:
            return None
        kind, expires, account, generation, as_of = rows[0]
        return Holder(
            str(kind),
            datetime.fromisoformat(expires) if expires else None,
            Account.model_validate_json(account),
            int(generation),
            datetime.fromisoformat(as_of) if as_of else None,
        )

    def by_hash(self, hash: str) -> tuple[Token, str, str, datetime | None] | None:
        """A token, its account, its kind and its end, by the hash of its secret. Reads."""
        rows = self.database.ask(
            "SELECT body, account, kind, expires_at FROM token WHERE hash = ?", [hash]
        )
        if not rows:
            return None
        body, account, kind, expires = rows[0]
        end = datetime.fromisoformat(expires) if expires else None
        return Token.model_validate_json(body), str(account), str(kind), end
