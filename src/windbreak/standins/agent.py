"""The agent on a Millrace site: signed calls, each change done once, its state kept apart.

A call that changes something and takes longer than a moment is answered with 202: it is under way,
and is followed by its id. The state (keys, nonces, changes, kept folders, snapshots) lies beside
the site's folder, not in it: no snapshot covers it and no restore undoes it.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import secrets
import threading
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from windbreak.links import signing
from windbreak.links.errors import CallFailed
from windbreak.links.signed_agent import EPOCH, EXPECTS, FOR, NOBODY_YET, SERVICE
from windbreak.standins import clock
from windbreak.standins.acts import Acts
from windbreak.standins.faults import Faults
from windbreak.standins.memory import Memory
from windbreak.standins.millrace import MillraceSite

VERSION = "1.3"
# The version from which an agent can do something; what is not named is as old as itself.
_SINCE = {
    **dict.fromkeys(("register", "own-files", "clear"), "1.1"),
    **dict.fromkeys(("migrate", "regenerate", "fetch", "bring", "hold", "rotate", "pass"), "1.2"),
    **dict.fromkeys(("void", "held"), "1.3"),
}
CAN = (
    *("inventory", "look", "change", "snapshot", "restore", "drop", "apply", "put-back"),
    *("switch", "remove", "maintenance", "updates", "caches", "purge", "runtime", "goodbye"),
    *_SINCE,
)
ANSWERS_WITHIN = 2.0  # seconds after which a change is told to be under way


def _garbled(how: str | None) -> bytes | None:
    """What is answered in the place of sense: a fault says "deep" or "large"."""
    match how:
        case "deep":
            return b"[" * 100_000
        case "large":
            return b'{"a": "' + b"x" * 40 * 2**20 + b'"}'
    return None


def _origin(url: str) -> tuple[str, str]:
    parts = urlsplit(url)
    return parts.scheme, parts.netloc


class LinkLineRefused(ValueError):
    """The line that was pasted is not one that the service makes."""


class MillraceAgent:
    """The agent of one site. ``offers`` are the runtimes its host can switch it to."""

    def __init__(
        self,
        state: Path,
        site: MillraceSite,
        offers: dict[str, list[str]],
        version: str = VERSION,
    ) -> None:
        state.mkdir(parents=True, exist_ok=True)
        self.state, self.site, self.version = state, site, version
        self.can = tuple(c for c in CAN if _SINCE.get(c, "1.0") <= version)
        self.lock = threading.Lock()
        self.memory, self.faults = Memory(state / "agent.db"), Faults(state)
        self.acts = Acts(state, site, self.memory, self.faults, offers, version)
        self.fact, self.take_pass = self.memory.fact, self.memory.take_pass
        if self.fact("id") is None:
            self.memory.set("id", f"agent-{secrets.token_hex(8)}")
            self.memory.set("key", signing.key_text(signing.new_key()))

    # What the site's owner does.

    def paste(self, line: str) -> None:
        """Take the one line of the console. Raises LinkLineRefused."""
        bare = "".join(c for c in line if c.isprintable() and not c.isspace())
        try:
            head, _, rest = bare.partition(".")
            link = json.loads(base64.urlsafe_b64decode(rest + "=" * (-len(rest) % 4)))
            if head != "windbreak-link" or not link["code"]:
                raise ValueError("it does not begin with windbreak-link.")
            signing.public_from(link["key"])
        except (ValueError, KeyError, TypeError, signing.SignatureRefused) as error:
            raise LinkLineRefused(f"this is not a line of the console: {error}") from error
        for name in ("address", "epoch", "instance", "service-next", "key-before"):
            self.memory.set(name, None)
        self.memory.set("service", link["key"])
        self.memory.set("code", link["code"])

    def unlink(self) -> None:
        """The owner ends the link."""
        gone = ("service", "service-next", "code", "site", "address", "epoch", "instance")
        for name in gone:
            self.memory.set(name, None)

    def renew(self) -> None:
        """The owner gives this copy of a site an id and a key of its own; its link is ended."""
        self.unlink()
        self.memory.set("id", f"agent-{secrets.token_hex(8)}")
        self.memory.set("key", signing.key_text(signing.new_key()))
        self.memory.set("key-before", None)

    # What the service asks.

    def answer(
        self, call: str, url: str, headers: dict[str, str], body: bytes
    ) -> tuple[int, bytes, dict[str, str]]:
        """Answer a signed call: status, body, headers. 401 when the key is not the linked one."""
        request = signing.Request("POST", url, headers)
        status, refusal = self._judged(call, request, body)
        text = _garbled(self.faults.all().get("answer")) or json.dumps(refusal).encode()
        key = self._key_expected(headers.get(EXPECTS, ""))
        return status, text, signing.sign_answer(key, request, status, text, self.now())

    def _key_expected(self, expected: str) -> Any:
        """The key that the service still has of this agent; the one before a rotation is let go
        once the new one was expected.
        """
        key = signing.key_from(self.fact("key") or "")
        before = self.fact("key-before")
        if before is None:
            return key
        if expected == signing.thumbprint(key):
            self.memory.set("key-before", None)
            return key
        return signing.key_from(before)

    def _judged(
        self, call: str, request: signing.Request, body: bytes
    ) -> tuple[int, dict[str, Any]]:
        try:
            self._verified(request, body)
        except signing.SignatureRefused as error:
            return 401, {"code": "not-permitted", "detail": str(error)}
        try:
            self._obey(request)
            result = self._carry_out(call, json.loads(body))
            return (202 if result.get("state") == "running" and call != "change" else 200), result
        except CallFailed as error:
            return 409, {"code": error.failure, "detail": error.detail}
        except (KeyError, ValueError, TypeError) as error:
            return 409, {"code": "unknown", "detail": f"odd arguments: {error}"}

    def _verified(self, request: signing.Request, body: bytes) -> None:
        """Raise SignatureRefused where no key of the linked service stands under a call. A key that
        was announced takes the old one's place with the first call it signed.
        """
        service, coming = self.fact("service"), self.fact("service-next")
        if service is None:
            raise signing.SignatureRefused("no key of a service is in place here")
        names = (FOR, SERVICE, EPOCH)
        purpose: signing.Purpose = "windbreak-agent"

        def verify(public: str) -> None:
            key = signing.public_from(public)
            signing.verify_request(key, request, body, self.now(), self.memory.seen, purpose, names)

        try:
            verify(service)
        except signing.SignatureRefused:
            if coming is None:
                raise
            verify(coming)
            self.memory.set("service", coming)
            self.memory.set("service-next", None)

    def now(self) -> datetime:
        """The time by this site's clock, which a fault may put wrong."""
        return clock.now() + timedelta(seconds=float(self.faults.all().get("clock", 0)))

    def _obey(self, request: signing.Request) -> None:
        """Whether a call is for this agent, at its own place, and of the newest driver. Raises
        CallFailed.
        """
        own, wanted = self.fact("id"), request.headers[FOR]
        if wanted != own and not (wanted == NOBODY_YET and self.fact("code")):
            raise CallFailed("not-permitted", "this call is for another agent")
        bound = self.fact("address")
        if bound is not None and _origin(bound) != _origin(request.url):
            raise CallFailed(
                "not-permitted",
                f"this agent is bound to {bound}; a copy of its site needs an id of its own",
            )
        epoch, instance = int(request.headers[EPOCH]), request.headers[SERVICE]
        newest = int(self.fact("epoch") or 0)
        if epoch < newest or (epoch == newest and self.fact("instance") not in (None, instance)):
            raise CallFailed("superseded", f"it obeys epoch {newest}; this call is of {epoch}")
        if epoch > newest or self.fact("instance") is None:
            self.memory.set("epoch", str(epoch))
            self.memory.set("instance", instance)

    def _carry_out(self, call: str, args: dict[str, Any]) -> dict[str, Any]:
        own: dict[str, Callable[[dict[str, Any]], dict[str, Any]]] = {
            "hello": self._hello,
            "inventory": lambda a: {**self.acts.reading["inventory"](a), "agent_can": self.can},
            "change": lambda a: self.memory.change(str(a["change"])),
            "void": lambda a: self.memory.void(str(a["change"])),
            "held": lambda a: {"held": self.acts.reading["inventory"](a)["held"]},
            "rotate": self._rotate,
            "goodbye": self._goodbye,
        }
        if call not in self.can and call != "hello":
            raise CallFailed("not-permitted", f"this agent has no call {call!r}")
        reading = own.get(call) or self.acts.reading.get(call)
        if reading is not None:
            return reading(args)
        act = self.acts.changing[call]
        return self._once(call, str(args["change"]), lambda: act(args))

    def _once(self, call: str, change: str, act: Callable[[], dict[str, Any]]) -> dict[str, Any]:
        """Carry out a change, or give again what came of it; running where that takes longer."""
        became = self.memory.change(change)
        match became["state"]:
            case "done":
                return dict(became["result"])
            case "failed":
                raise CallFailed(became["code"], became["detail"])
            case "void":
                raise CallFailed("not-permitted", "this change was made void; it will never be")
            case "running":
                return became
        if not self.lock.acquire(blocking=False):
            raise CallFailed("busy", "another change is under way")
        if (silence := self.faults.once("lost", call)) is not None:
            self.lock.release()
            self.faults.fall_silent(float(silence))
            raise CallFailed("unknown", "it is gone")
        if not self.memory.begin(change, call):  # made void, or begun, since it was looked up
            self.lock.release()
            return self._once(call, change, act)
        worker = threading.Thread(target=self._work, args=(call, change, act), daemon=True)
        worker.start()
        self._times_out(call, change, worker)
        worker.join(ANSWERS_WITHIN)
        became = self.memory.change(change)
        if (silence := self.faults.once("gone", call)) is not None:
            worker.join()
            self.faults.fall_silent(float(silence))
        if became["state"] == "failed":
            raise CallFailed(became["code"], became["detail"])
        return dict(became["result"]) if became["state"] == "done" else became

    def _work(self, call: str, change: str, act: Callable[[], dict[str, Any]]) -> None:
        memory = self.memory
        self.acts.sign = lambda phase, done, of: memory.sign(change, phase, done, of)
        try:
            self.faults.delay(call, lambda: memory.sign(change, call, 0, 0))
            if self.faults.once("order", call):
                self.site.order()
            if self.faults.of("timed-out", call) == "did-not":
                self.faults.clear("timed-out", call)
                raise CallFailed("timed-out", "it took too long")
            memory.end(change, act())
        except CallFailed as error:
            memory.fail(change, error.failure, error.detail)
        except OSError as error:
            memory.fail(change, "not-writable", str(error))
        except Exception as error:
            memory.fail(change, "unknown", f"{type(error).__name__}: {error}")
        finally:
            self.lock.release()

    def _times_out(self, call: str, change: str, worker: threading.Thread) -> None:
        """Say that it took too long while it goes on, where a fault says so. Raises CallFailed."""
        if self.faults.of("timed-out", call) == "did":
            self.faults.clear("timed-out", call)
            raise CallFailed("timed-out", "it took too long; the change may go on")

    def _hello(self, args: dict[str, Any]) -> dict[str, Any]:
        code = self.fact("code")
        if code is None:
            raise CallFailed("not-permitted", "the code was used already; paste a new line")
        key = signing.key_from(self.fact("key") or "")
        agent, public = self.fact("id") or "", signing.public_text(key)
        text = f"{agent}.{public}.{args['nonce']}".encode()
        proof = hmac.new(code.encode(), text, hashlib.sha256).hexdigest()
        self.memory.set("site", str(args["site"]))
        self.memory.set("address", str(args["address"]))
        self.memory.set("code", None)
        return {
            "agent_id": agent,
            "public_key": public,
            "proof": proof,
            "agent_version": self.version,
            "can": self.can,
        }

    def _rotate(self, args: dict[str, Any]) -> dict[str, Any]:
        """Take the key that the service will sign with, and make a new one of its own: the old
        ones are good until the new ones were used.
        """
        signing.public_from(str(args["key"]))
        self.memory.set("service-next", str(args["key"]))
        if self.fact("key-before") is None:
            self.memory.set("key-before", self.fact("key"))
            self.memory.set("key", signing.key_text(signing.new_key()))
        return {"public_key": signing.public_text(signing.key_from(self.fact("key") or ""))}

    def _goodbye(self, args: dict[str, Any]) -> dict[str, Any]:
        self.unlink()
        return {}
