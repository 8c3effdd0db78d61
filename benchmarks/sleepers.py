"""Sites that sleep for a fixed time at each call: ``python -m benchmarks.sleepers SITES KEY``.

Prints a line of JSON with their ports, then serves until its input ends. They keep what they run
and what is switched, sign their answers with one key, and count what they slept. No call of theirs
costs much, so that what is measured beside them is the service.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import socket
import subprocess
import sys
from collections import defaultdict
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

import uvicorn

from windbreak.links import signing

RUNS = {
    "core/millrace": "6.3.6",
    "runtime/loom": "8.2",
    "theme/plainsail": "2.2",
    "plugin/oarlock": "7.1.2",
    "plugin/tidetable": "3.0.4",
}
CACHE = "plugin/lee"
PAGE, CALL = 0.3, 0.5
LONG = {"apply": 8.0, "snapshot": 10.0}
_PAGES = (("Front page", "/"), ("News", "/news"), ("Visit", "/visit"))
CAN = (
    *("inventory", "look", "change", "snapshot", "restore", "drop", "apply", "put-back", "switch"),
    *("remove", "maintenance", "updates", "caches", "purge", "runtime", "own-files", "regenerate"),
)


class Sleeper:
    """One site: what it runs, what is switched off, and what came of each change."""

    def __init__(self) -> None:
        self.runs, self.updates, self.cache = dict(RUNS), True, True
        self.changes: dict[str, dict[str, Any]] = {}

    def answer(self, call: str, args: dict[str, Any]) -> dict[str, Any]:
        match call:
            case "inventory":
                return self._inventory()
            case "look":
                counts = {"page": 3, "news": 5}
                more = {"pages": _PAGES, "editor": "/editor", "covers": {}, "errors": []}
                return {"counts": counts, "settings": "x", "written": "0", **more}
            case "own-files":
                return {"files": []}
            case "change":
                became = self.changes.get(args["change"])
                return {"state": "unknown"} if became is None else {"state": "done", **became}
        result = self._change(call, args)
        self.changes[args["change"]] = {"result": result}
        return result

    def _change(self, call: str, args: dict[str, Any]) -> dict[str, Any]:
        match call:
            case "apply":
                self.runs[args["product"]] = args["version"]
                return {"version": args["version"], "kept": True}
            case "snapshot":
                return {"snapshot": args["change"], "files": 9, "bytes": 9000, "written": "0"}
            case "updates":
                self.updates = bool(args["on"])
            case "caches":
                self.cache = bool(args["on"])
        return {}

    def _inventory(self) -> dict[str, Any]:
        components = [
            {
                "product": product,
                "version": version,
                "name": product.partition("/")[2].title(),
                "folder": product.partition("/")[2],
                "active": True,
            }
            for product, version in self.runs.items()
        ]
        return {
            "components": components,
            "automatic_updates": self.updates,
            "caches": [CACHE] if self.cache else [],
            "caches_off": [] if self.cache else [CACHE],
            "maintenance": False,
            "agent_version": "1.2",
            "free_mb": 5000,
        }


class Sleepers:
    """The application of all of them; a site is known by the port that it is asked at."""

    def __init__(self, key: str) -> None:
        self.key = signing.key_from(key)
        self.sites: dict[int, Sleeper] = defaultdict(Sleeper)
        self.slept: dict[int, float] = defaultdict(float)

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        port, path = scope["server"][1], scope["path"]
        if path == "/slept":
            await _send(send, 200, json.dumps(self.slept).encode(), {})
            return
        call = path.removeprefix("/_windbreak/") if path.startswith("/_windbreak/") else ""
        seconds = LONG.get(call, CALL) if call else PAGE
        await asyncio.sleep(seconds)
        self.slept[port] += seconds
        if not call:
            blocks = "<div data-block=a></div>" * 4 if path == "/editor" else ""
            text = f"<title>A site</title><h1>{path}</h1>{blocks}"
            status = 404 if path == "/sitemap.xml" else 200
            await _send(send, status, text.encode(), {"content-type": "text/html"})
            return
        body = b""
        while True:
            message = await receive()
            body += message.get("body", b"")
            if not message.get("more_body"):
                break
        headers = {k.decode().lower(): v.decode() for k, v in scope["headers"]}
        request = signing.Request("POST", f"http://127.0.0.1:{port}{path}", headers)
        told = json.dumps(self.sites[port].answer(call, json.loads(body))).encode()
        signed = signing.sign_answer(self.key, request, 200, told, datetime.now(UTC))
        await _send(send, 200, told, {**signed, "content-type": "application/json"})


async def _send(send: Any, status: int, body: bytes, headers: dict[str, str]) -> None:
    lines = [(k.lower().encode(), v.encode()) for k, v in headers.items()]
    lines.append((b"content-length", str(len(body)).encode()))
    await send({"type": "http.response.start", "status": status, "headers": lines})
    await send({"type": "http.response.body", "body": body})


@contextlib.contextmanager
def running(count: int, key: object) -> Iterator[subprocess.Popen[str]]:
    """So many sleeping sites in a process of their own, which prints their ports."""
    command = [sys.executable, "-m", "benchmarks.sleepers", str(count), signing.key_text(key)]  # type: ignore[arg-type]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        try:
            yield process
        finally:
            process.kill()


def main() -> None:
    listeners = []
    for _ in range(int(sys.argv[1])):
        listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
        listener.bind(("127.0.0.1", 0))
        listeners.append(listener)
    print(json.dumps([listener.getsockname()[1] for listener in listeners]), flush=True)
    config = uvicorn.Config(Sleepers(sys.argv[2]), log_level="error", lifespan="off")
    asyncio.run(uvicorn.Server(config).serve(listeners))


if __name__ == "__main__":
    main()
