"""Who may act: accounts, one-time sign-in links, sessions, tokens.

Secrets are shown once and kept only as hashes; passwords as argon2.
"""

from __future__ import annotations

import hashlib
import secrets
from datetime import datetime, timedelta

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error, InvalidHashError

from windbreak.core.values.accounts import Account, Principal, Token
from windbreak.operations.context import Context
from windbreak.operations.errors import NotPermitted, Refused
from windbreak.store.errors import NotFound

LINK_GOOD = timedelta(minutes=30)
SESSION_GOOD = timedelta(days=14)
REST = timedelta(minutes=1)
MOST_TRIES = 5
SHORTEST = 12


def ensure_account(context: Context, id: str, name: str, password: str | None = None) -> Account:
    """Make an account, or change the name and password of one. Writes."""
    existing = context.store.accounts.find(id)
    account = Account(id=id, name=name, closed_at=existing.closed_at if existing else None)
    with context.store.transaction():
        context.store.accounts.put(account)
        if password:
            context.store.accounts.set_password_hash(id, PasswordHasher().hash(password))
    return account


def add(context: Context, account: Account, by: Principal) -> Account:
    """Open an account. Writes. Raises AlreadyThere for its id."""
    with context.store.transaction():
        context.store.accounts.add(account)
        context.record(by.name, f"account of {account.name} opened", account.id)
    return account


def close(context: Context, id: str, by: Principal) -> Account:
    """Close an account: its sessions, links and tokens end, what it did stays. Writes.

    Raises Refused for one's own and the last open one.
    """
    account = context.store.accounts.get(id)
    if id == by.account:
        raise Refused("own-account", "nobody closes the account they are signed in with")
    if account.closed_at is not None:
        raise Refused("closed", f"the account of {account.name} is closed already")
    with context.store.transaction():
        for token in context.store.tokens.all(account=id):
            context.store.tokens.drop(token.id)
        changed = context.store.accounts.change(id, closed_at=context.clock())
        context.record(by.name, f"account of {account.name} closed", id)
    context.tell("finding", id, "account closed")
    return changed


def reopen(context: Context, id: str, by: Principal) -> Account:
    """Open a closed account again; whoever had a sign-in needs a new one. Writes.

    Raises Refused for one that is open.
    """
    account = context.store.accounts.get(id)
    if account.closed_at is None:
        raise Refused("open", f"the account of {account.name} is open")
    with context.store.transaction():
        changed = context.store.accounts.change(id, closed_at=None)
        context.record(by.name, f"account of {account.name} opened again", id)
    context.tell("finding", id, "account opened again")
    return changed


def invite(context: Context, id: str, by: Principal) -> str:
    """The secret of a one-time link for somebody who can't sign in yet. Writes.

    Raises Refused for a closed account, and for one that somebody signs in with already: a link
    to that would let the inviter act under another's name.
    """
    account = context.store.accounts.get(id)
    if account.closed_at is not None:
        raise Refused("closed", f"the account of {account.name} is closed; open it again first")
    kinds = ("session", "token")
    used = any(context.store.tokens.all(account=id, kind=kind) for kind in kinds)
    if used or context.store.accounts.password_hash(id) is not None:
        raise Refused(
            "signs-in-already",
            f"{account.name} signs in already; where that is lost, a link is made beside the "
            f"service: windbreak sign-in-link --data DIR --account {id}",
        )
    with context.store.transaction():
        secret = make_link(context, id)
        context.record(by.name, f"{account.name} invited", id)
    return secret


CALENDAR = "calendar"


def make_calendar_key(context: Context, account: str) -> str:
    """A key that reads the calendar and nothing else, in the place of an older one. Writes."""
    with context.store.transaction():
        for token in context.store.tokens.all(account=account, kind=CALENDAR):
            context.store.tokens.drop(token.id)
        return _make(context, account, CALENDAR, "calendar", None).secret or ""


def reads_calendar(context: Context, secret: str) -> None:
    """Raise NotPermitted unless a key reads the calendar. Reads."""
    token = _find(context, secret, CALENDAR)
    if token is None:
        raise NotPermitted("this calendar address is not known; make a new one")
    _principal(context, token[1], "token")


def set_password(context: Context, account_id: str, password: str) -> None:
    """Give an account a password. Writes. Raises Refused when it is too short."""
    if len(password) < SHORTEST:
        raise Refused("short-password", f"a password has {SHORTEST} signs at least")
    account = context.store.accounts.get(account_id)
    ensure_account(context, account_id, account.name, password)
    context.record(account.name, "password set", account_id)


def sign_in_by_password(context: Context, id: str, password: str) -> tuple[str, Principal]:
    """Open a session for an account by its password. Writes.

    Raises NotPermitted when they don't go together, and, after five wrong tries in a row, for a
    minute whatever is given.
    """
    now = context.clock()
    tries, until = context.wrong_tries.get(id, (0, now))
    if tries >= MOST_TRIES and now < until:
        raise NotPermitted("too many wrong tries; this name rests for a minute")
    if not _password_fits(context, id, password):
        context.wrong_tries[id] = (tries + 1 if tries < MOST_TRIES else 1, now + REST)
        raise NotPermitted("this name and password do not go together")
    context.wrong_tries.pop(id, None)
    return open_session(context, id)


def _password_fits(context: Context, id: str, password: str) -> bool:
    """Takes as long for an account that is not there, or has no password."""
    kept = context.store.accounts.password_hash(id) or _NOBODY
    try:
        return PasswordHasher().verify(kept, password) and kept != _NOBODY
    except (Argon2Error, InvalidHashError):
        return False


_NOBODY = PasswordHasher().hash(secrets.token_urlsafe(12))


def make_link(context: Context, account: str) -> str:
    """A secret that signs an account in once, within half an hour. Writes."""
    return _make(context, account, "link", "sign-in link", LINK_GOOD).secret or ""


def make_token(context: Context, account: str, label: str) -> Token:
    """A token for the client library and the command line; its secret is shown now only. Writes."""
    return _make(context, account, "token", label, None)


def sign_in(context: Context, secret: str) -> tuple[str, Principal]:
    """Spend a sign-in link; the session's secret and who it is. Writes. Raises NotPermitted."""
    with context.store.transaction():
        link = _find(context, secret, "link")
        if link is None:
            raise NotPermitted("this sign-in link was used already or is too old; make a new one")
        token, account = link
        context.store.tokens.drop(token.id)
    return open_session(context, account)


def open_session(context: Context, account: str) -> tuple[str, Principal]:
    """A session for an account: its secret and who it is. Writes."""
    session = _make(context, account, "session", "console", SESSION_GOOD)
    return session.secret or "", _principal(context, account, "session")


def principal_of(context: Context, secret: str) -> Principal:
    """Who a session or token belongs to. Reads. Raises NotPermitted."""
    return who_asks(context, secret)[0]


def who_asks(context: Context, secret: str) -> tuple[Principal, int, datetime | None]:
    """Who a session or token belongs to, the generation that all views show, and since when they
    do: one indexed read. Reads. Raises NotPermitted.
    """
    kept = context.store.tokens.holder(_hash(secret))
    if kept is None or kept.kind not in ("session", "token"):
        raise NotPermitted(_UNKNOWN)
    if kept.expires_at is not None and kept.expires_at <= context.clock():
        raise NotPermitted(_UNKNOWN)
    return _as_principal(kept.account, kept.kind), kept.generation, kept.as_of


_UNKNOWN = "this token or session is not known; sign in again"


def sign_out(context: Context, secret: str) -> None:
    """End a session. Writes."""
    token = _find(context, secret, "session")
    if token is not None:
        context.store.tokens.drop(token[0].id)


def drop_token(context: Context, account: str, id: str) -> None:
    """Revoke a token of an account. Writes. Raises NotFound."""
    if id not in {token.id for token in tokens(context, account)}:
        raise NotFound("token", id)
    context.store.tokens.drop(id)


def tokens(context: Context, account: str) -> list[Token]:
    """The tokens of an account, without their secrets. Reads."""
    return context.store.tokens.all(account=account, kind="token")


def _hash(secret: str) -> str:
    """Secrets are long and random, so that a plain hash hides them as well as a slow one."""
    return hashlib.sha256(secret.encode()).hexdigest()


def _make(context: Context, account: str, kind: str, label: str, good: timedelta | None) -> Token:
    context.store.accounts.get(account)
    secret = secrets.token_urlsafe(32)
    now = context.clock()
    token = Token(id=secrets.token_hex(6), label=label, last4=secret[-4:], made_at=now)
    end = now + good if good else None
    context.store.tokens.make(token, account=account, kind=kind, hash=_hash(secret), expires_at=end)
    return token.model_copy(update={"secret": secret})


def _find(context: Context, secret: str, kind: str) -> tuple[Token, str] | None:
    kept = context.store.tokens.by_hash(_hash(secret))
    if kept is None:
        return None
    token, account, is_, end = kept
    if is_ != kind or (end is not None and end <= context.clock()):
        return None
    return token, account


def _principal(context: Context, account_id: str, via: str) -> Principal:
    return _as_principal(context.store.accounts.get(account_id), via)


def _as_principal(account: Account, via: str) -> Principal:
    """An account as who acts. Raises NotPermitted where it is closed."""
    if account.closed_at is not None:
        raise NotPermitted(f"the account of {account.name} is closed")
    return Principal.model_validate({"account": account.id, "name": account.name, "via": via})
