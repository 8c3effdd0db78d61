"""The adapter for Millrace: signed JSON calls to the agent under ``/_windbreak/``."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import httpx
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from pydantic import ValidationError

from windbreak.core.values.inventories import Inventory
from windbreak.core.values.packages import Package
from windbreak.links import signing
from windbreak.links.adapter import AgentLook, ChangeState, Hello
from windbreak.links.errors import CallFailed, KeyRefused, NotTheAgent, Unreachable


class MillraceAgent:
    """The agent of one Millrace site. ``public`` is its key; None only while it is being linked."""

    def __init__(
        self,
        client: httpx.Client,
        address: str,
        key: Ed25519PrivateKey,
        public: Ed25519PublicKey | None,
        clock: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self.client, self.address, self.key, self.public = client, address, key, public
        self.clock = clock

    def hello(self, nonce: str, site: str) -> Hello:
        return Hello.model_validate(self._call("hello", {"nonce": nonce, "site": site}))

    def inventory(self, site: str, at: datetime) -> Inventory:
        said = self._call("inventory", {})
        try:
            return Inventory.model_validate({**said, "id": site, "at": at})
        except ValidationError as error:
            raise NotTheAgent(f"its inventory can't be read: {error}") from error

    def look(self) -> AgentLook:
        return AgentLook.model_validate(self._call("look", {}))

    def change(self, change: str) -> ChangeState:
        return ChangeState.model_validate(self._call("change", {"change": change}))

    def do(self, call: str, change: str, **args: object) -> dict[str, Any]:
        return self._call(call, {"change": change, **args})

    def apply(self, change: str, package: Package, archive: bytes, site: str) -> dict[str, Any]:
        return self._call(
            "apply",
            {
                "change": change,
                "site": site,
                "product": package.product,
                "version": package.version,
                "size": len(archive),
                "sha256": package.id,
                "archive": base64.b64encode(archive).decode(),
            },
        )

    def goodbye(self) -> None:
        self._call("goodbye", {})

    def _call(self, call: str, args: dict[str, Any]) -> dict[str, Any]:
        url = f"{self.address}/_windbreak/{call}"
        body = json.dumps(args).encode()
        headers = signing.sign_request(self.key, "POST", url, body, self.clock())
        sent = signing.Request("POST", url, {k.lower(): v for k, v in headers.items()})
        request = self.client.build_request(
            "POST", url, content=body, headers={**headers, "content-type": "application/json"}
        )
        try:
            response = self.client.send(request)
        except (httpx.ConnectError, httpx.ConnectTimeout) as error:
            raise Unreachable(f"the agent does not answer: {error}", sent=False) from error
        except httpx.HTTPError as error:
            said = str(error) or type(error).__name__
            raise Unreachable(f"the agent's answer did not come: {said}") from error
        return self._read(response, sent)

    def _read(self, response: httpx.Response, sent: signing.Request) -> dict[str, Any]:
        if response.status_code == 404:
            raise Unreachable("there is no agent at this address")
        try:
            said = response.json()
        except ValueError:
            said = None
        if response.status_code == 401:
            # Whoever does not know our key can't sign for us: this is told, and not relied on.
            why = str(said.get("detail", "")) if isinstance(said, dict) else ""
            raise KeyRefused(
                "the agent does not take our key; the owner may have ended the link"
                + (f" (it says: {why[:200]})" if why else "")
            )
        if not isinstance(said, dict):
            raise Unreachable(f"no agent's answer (status {response.status_code})")
        if self.public is not None:
            answer = signing.Answer(
                response.status_code, {k.lower(): v for k, v in response.headers.items()}, sent
            )
            try:
                signing.verify_answer(self.public, sent, answer, response.content, self.clock())
            except signing.SignatureRefused as error:
                raise NotTheAgent(str(error)) from error
        if response.status_code != 200:
            code, detail = str(said.get("code", "unknown")), str(said.get("detail", ""))
            raise CallFailed(code, detail)
        return said
