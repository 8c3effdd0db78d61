"""The agent of a site: signed JSON calls under ``/_windbreak/``, whichever system it sits in.

Each call names, under its signature, the agent it is for, the service that makes it and that
service's epoch: another agent, and one that obeys a newer driver, refuse it.
"""

from __future__ import annotations

import base64
import json
import secrets
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from typing import Any, TypeVar

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from pydantic import BaseModel, ValidationError

from windbreak.core.values.inventories import Inventory
from windbreak.core.values.packages import Package
from windbreak.links import signing
from windbreak.links.adapter import (
    AgentLook,
    ChangeState,
    Health,
    Hello,
    OwnFile,
    OwnFiles,
    Rotated,
    SentPart,
    SnapshotPart,
    Start,
)
from windbreak.links.errors import (
    CallFailed,
    ClockOff,
    KeyRefused,
    NotTheAgent,
    Superseded,
    TooLarge,
    UnderWay,
    Unfit,
    Unreachable,
)
from windbreak.links.visiting import ANSWER_BYTES, INVENTORY_BYTES, Visited, Visiting
from windbreak.outside.reading import read_json

FOR, SERVICE, EPOCH = "windbreak-for", "windbreak-service", "windbreak-epoch"
EXPECTS = "windbreak-expects"  # the thumbprint of the key that the answer is to be signed by
NOBODY_YET = "-"  # whom a first call is for, before the agent has told its id
# Of a package, or of a snapshot, that is sent in one call: less where the site takes no more.
PART_BYTES = (4 * 2**20, 512 * 2**10, 48 * 2**10)
_TURNED_AWAY = (301, 302, 303, 307, 308, 401, 403)
_APART = 5.0  # seconds between two clocks that are taken into account
_OFF = 300.0  # seconds between two clocks from which signatures are not taken

T = TypeVar("T", bound=BaseModel)


@dataclass(frozen=True)
class Caller:
    """Who calls: the service's key, its instance id and its epoch; ``superseded`` is told when an
    agent obeys a newer one.
    """

    key: Ed25519PrivateKey
    instance: str
    epoch: int
    clock: Callable[[], datetime] = lambda: datetime.now(UTC)
    superseded: Callable[[str], None] = lambda detail: None


class SignedAgent:
    """The agent of one site. ``public`` is its key and ``id`` its id; None only while it
    is being linked.
    """

    def __init__(
        self,
        site: Visiting,
        caller: Caller,
        id: str | None,
        public: Ed25519PublicKey | None,
    ) -> None:
        self.site, self.caller, self.id, self.public = site, caller, id, public
        self.ahead: float | None = None  # seconds its clock is ahead of ours, by its last answer
        self._parts = list(PART_BYTES)  # sizes that it was not seen to refuse, largest first

    def hello(self, nonce: str, site: str) -> Hello:
        address = self.site.address
        return self._read(
            Hello, self._call("hello", {"nonce": nonce, "site": site, "address": address})
        )

    def inventory(self, site: str, at: datetime) -> Inventory:
        answer = self._call("inventory", {}, most=INVENTORY_BYTES)
        # A newer agent may tell more than is known here.
        told = {name: answer[name] for name in answer if name in Inventory.model_fields}
        return self._read(Inventory, {**told, "id": site, "at": at})

    def health(self) -> Health:
        return self._read(Health, self._call("health", {}))

    def look(self, since: datetime | None = None) -> AgentLook:
        # It dates what came in by its own clock, of which we know the second.
        off = self.ahead or 0.0
        ahead = timedelta(seconds=off if abs(off) > _APART else 0)
        asked = {"since": (since + ahead).isoformat()} if since else {}
        seen = self._read(AgentLook, self._call("look", asked))
        came = tuple(c.model_copy(update={"at": c.at - ahead}) for c in seen.came)
        return seen.model_copy(update={"came": came})

    def change(self, change: str) -> ChangeState:
        return self._read(ChangeState, self._call("change", {"change": change}))

    def void(self, change: str) -> ChangeState:
        return self._read(ChangeState, self._call("void", {"change": change}))

    def do(self, call: str, change: str, **args: object) -> dict[str, Any]:
        return self._call(call, {"change": change, **args})

    def own_files(self, product: str, pristine: Mapping[str, str]) -> tuple[OwnFile, ...]:
        answer = self._call("own-files", {"product": product, "pristine": dict(pristine)})
        return self._read(OwnFiles, answer).files

    def apply(
        self,
        change: str,
        package: Package,
        archive: bytes,
        site: str,
        carry: Sequence[str] = (),
        start: Start | None = None,
    ) -> dict[str, Any]:
        args: dict[str, Any] = {
            "change": change,
            "site": site,
            "product": package.product,
            "version": package.version,
            "size": len(archive),
            "sha256": package.id,
            "carry": list(carry),
        }
        if start is not None:
            args["from"] = start.model_dump()

        def send(most: int) -> dict[str, Any]:
            if self._held(change, package, archive, most):
                return self._call("apply", args)
            whole = base64.b64encode(archive).decode()
            return self._call("apply", {**args, "archive": whole})

        return self._in_parts(send)

    def _in_parts(self, send: Callable[[int], dict[str, Any]]) -> dict[str, Any]:
        """Send something in parts of the largest size that the site takes. Raises TooLarge."""
        while True:
            try:
                return send(self._parts[0])
            except TooLarge:
                if len(self._parts) == 1:
                    raise
                del self._parts[0]

    def _held(self, change: str, package: Package, archive: bytes, most: int) -> bool:
        """Send a package in parts of so many bytes, which the agent holds until it is applied;
        False where it is smaller, or the agent is too old to hold one.
        """
        if len(archive) <= most:
            return False
        # Each sending has ids of its own: what was held of an earlier one may be gone since.
        sending = secrets.token_hex(4)
        for n, offset in enumerate(range(0, len(archive), most)):
            part = {
                "change": f"{change}-{sending}-{n}",
                "sha256": package.id,
                "offset": offset,
                "bytes": len(archive),
                "data": base64.b64encode(archive[offset : offset + most]).decode(),
            }
            try:
                self._call("hold", part)
            except CallFailed as error:
                if n == 0 and error.failure == "not-permitted":
                    return False
                raise
        return True

    def fetch(self, snapshot: str, offset: int) -> SnapshotPart:
        part = self._call("fetch", {"snapshot": snapshot, "offset": offset})
        return self._read(SnapshotPart, part)

    def bring(self, change: str, part: SentPart) -> dict[str, Any]:
        data = base64.b64decode(part.data)

        def send(most: int) -> dict[str, Any]:
            have: dict[str, Any] = {}
            for n, start in enumerate(range(0, len(data) or 1, most)):
                piece = base64.b64encode(data[start : start + most]).decode()
                args = {**part.model_dump(), "offset": part.offset + start, "data": piece}
                have = self._call("bring", {"change": f"{change}-{most}-{n}", **args})
            return have

        return self._in_parts(send)

    def rotate(self, key: str) -> str:
        return self._read(Rotated, self._call("rotate", {"key": key})).public_key

    def goodbye(self) -> None:
        self._call("goodbye", {})

    def _read(self, kind: type[T], answer: dict[str, Any]) -> T:
        try:
            return kind.model_validate(answer)
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(map(str, first["loc"])) or "the whole"
            raise Unfit(f"its answer can't be read: {where}: {first['msg']}") from error

    def _call(self, call: str, args: dict[str, Any], *, most: int = ANSWER_BYTES) -> dict[str, Any]:
        caller, path = self.caller, f"/_windbreak/{call}"
        url, body = f"{self.site.address}{path}", json.dumps(args).encode()
        fields = {
            FOR: self.id or NOBODY_YET,
            SERVICE: caller.instance,
            EPOCH: str(caller.epoch),
            "content-type": "application/json",
        }
        if self.public is not None:
            fields[EXPECTS] = signing.thumbprint(self.public)
        headers = signing.sign_request(
            caller.key, "POST", url, body, caller.clock(), "windbreak-agent", fields
        )
        sent = signing.Request("POST", url, {k.lower(): v for k, v in headers.items()})
        visited = self.site.call(path, body, headers, most=most)
        if visited.status == 413:
            raise TooLarge(len(body))
        if visited.status == 404:
            raise Unreachable("there is no agent at this address")
        _let_through(visited)
        signed = self._signed(visited, sent)
        return self._answer(visited, signed=signed)

    def _signed(self, visited: Visited, sent: signing.Request) -> bool:
        """Whether the agent's signature stands under an answer, before it is read. Raises
        NotTheAgent, ClockOff.
        """
        if self.public is None:
            return False
        answer = signing.SignedAnswer(visited.status, dict(visited.headers), sent)
        try:
            self.ahead = signing.verify_answer(
                self.public, sent, answer, visited.body, self.caller.clock()
            )
        except signing.TooFarApart as error:
            raise ClockOff(error.seconds) from error
        except signing.SignatureRefused as error:
            if visited.status == 401:
                return False  # whoever does not know our key can't sign for us
            raise NotTheAgent(f"{error}{_unsigned_word(visited.body)}") from error
        return True

    def _answer(self, visited: Visited, *, signed: bool) -> dict[str, Any]:
        try:
            answer = read_json(visited.body)
        except ValueError as error:
            answer = error
        if visited.status == 401:
            raise self._refused(visited, answer if isinstance(answer, dict) else {}, signed=signed)
        if isinstance(answer, ValueError):
            raise Unfit(f"its answer can't be read (status {visited.status}): {answer}")
        if not isinstance(answer, dict):
            raise Unfit(f"no agent's answer (status {visited.status})")
        if visited.status == 202:
            raise UnderWay("it is under way")
        if visited.status != 200:
            code, detail = str(answer.get("code", "unknown")), str(answer.get("detail", ""))[:500]
            if code == "superseded":
                if signed:
                    self.caller.superseded(detail)
                raise Superseded(detail)
            raise CallFailed(code, detail)
        return answer

    def _refused(
        self, visited: Visited, answer: dict[str, Any], *, signed: bool
    ) -> KeyRefused | ClockOff:
        """Why a call was turned away. What is not signed is told, and not relied on."""
        ahead = self._ahead_by_date(visited)
        if ahead is not None and abs(ahead) >= _OFF:
            return ClockOff(ahead)
        why = str(answer.get("detail", ""))[:200]
        words = f": {why}" if why and signed else _unsigned_word(visited.body)
        return KeyRefused(
            f"the agent does not take our key; the owner may have ended the link{words}"
        )

    def _ahead_by_date(self, visited: Visited) -> float | None:
        try:
            date = parsedate_to_datetime(visited.headers.get("date", ""))
            return (date - self.caller.clock()).total_seconds()
        except (ValueError, TypeError):
            return None


def _unsigned_word(body: bytes) -> str:
    """What an answer says that nobody signed: told, and not relied on."""
    try:
        answer = read_json(body)
    except ValueError:
        return ""
    detail = answer.get("detail") if isinstance(answer, dict) else None
    return f" (it says: {str(detail)[:200]})" if detail else ""


def _let_through(visited: Visited) -> None:
    """Raises Unfit where something else than the agent answers, and lets nobody through, and
    Unreachable where the site itself fails before its agent could answer.
    """
    if visited.status < 300 or visited.body.lstrip().startswith(b"{"):
        return
    if visited.status >= 500:
        raise Unreachable(f"the site answers with an error page (status {visited.status})")
    if visited.status in _TURNED_AWAY:
        where = visited.headers.get("location", "").partition("?")[0][:120]
        led = f", to {where}" if where else ""
        raise Unfit(
            f"something stands before the agent and turns us away (status {visited.status}{led}): "
            "a login or a firewall. Let POST to /_windbreak/ through"
        )
    raise Unfit(f"its web server answers, and not its agent (status {visited.status})")
