"""The makers' feeds over HTTP, each with its own format and its own way of signing in.

Faults are read from ``faults.json`` in the folder, by feed: ``{"netloft": {"slow": 2}}``. They are
``slow`` (seconds), ``status`` with ``retry_after``, ``broken`` (half a document), ``deep`` (JSON
nested out of all reason), ``huge`` (bytes without end), ``bomb`` (XML that unfolds), ``loop``
(redirects in a circle), ``elsewhere`` (a redirect to another origin), ``empty`` (no releases).
"""

from __future__ import annotations

import asyncio
import base64
import hashlib
import json
from collections.abc import AsyncIterator, Awaitable, Callable
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

from icalendar import Calendar, Event
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response, StreamingResponse
from starlette.routing import Route

from windbreak.standins import catalogue, faults, made_later, workshop
from windbreak.standins.catalogue import CHANDLERY, COMMONS, EBBING, GANTRY, NETLOFT, Made, archive

# What the demo's credentials are. The Chandlery's lacks licences.read, and may do too much.
TOKEN = "chandlery-demo-7f3a9c51d2e84b06"
GANTRY_KEY = "gantry-demo-key-55b1c90c1"
EBBING_USER, EBBING_KEY = "saltgrass-studio", "ebbing-demo-key-41d82b7e"
PERMISSIONS = ["releases.read", "packages.read", "orders.write"]
SECRETS = (TOKEN, GANTRY_KEY, EBBING_KEY, workshop.KEY)

SEASON = (6, 44)  # days from now to when it begins and ends

Answer = Callable[[Request], Awaitable[Response]]


class Feeds:
    """The feeds of the demo's makers. ``folder`` holds what must outlast a restart."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def app(self) -> Starlette:
        return Starlette(
            routes=[
                *self._maker("commons", COMMONS, "Millrace Commons", None),
                *self._maker("chandlery", CHANDLERY, "Northspit Works", _bearing(TOKEN)),
                *self._maker("ebbing", EBBING, "Ebbing Tide", _user_and_key, later=True),
                *self._maker(workshop.FEED, workshop.FREE, workshop.LABEL, None),
                *self._maker(
                    workshop.SOLD, workshop.LICENSED, workshop.SOLD_LABEL, _bearing(workshop.KEY)
                ),
                self._route("gantry", "/gantry/api/builds", self._gantry, _header),
                self._packages("gantry", "/gantry/files/{file}", GANTRY, _header),
                self._route("netloft", "/netloft/news.atom", self._netloft, None),
                self._packages("netloft", "/netloft/packages/{file}", NETLOFT, None),
                self._route("osv", "/osv/all.json", self._osv, None),
                self._route("ness", "/ness/season.ics", self._season, None),
            ]
        )

    def _maker(
        self, name: str, made: tuple[Made, ...], title: str, asks: Any, *, later: bool = False
    ) -> list[Route]:
        async def feed(request: Request) -> Response:
            base = f"{_own(request)}/{name}"
            check = f"{base}/whoami" if asks else None
            marker = self.folder / f"{name}.later"
            changed = later and marker.exists()
            every = made_later.of_maker(self.folder, made)
            document = catalogue.feed_document(title, every, base, _today(), check, later=changed)
            answer = _conditional(request, json.dumps(document).encode(), "application/feed+json")
            if later and answer.status_code == 200:
                marker.touch()
            return answer

        async def whoami(request: Request) -> Response:
            permissions = PERMISSIONS if name == "chandlery" else ["releases.read", "packages.read"]
            account = "saltgrass" if name == "chandlery" else EBBING_USER
            return JSONResponse({"account": account, "permissions": permissions})

        routes = [
            self._route(name, f"/{name}/releases.json", feed, asks),
            self._packages(name, f"/{name}/packages/{{file}}", made, asks, later=later),
        ]
        return [*routes, self._route(name, f"/{name}/whoami", whoami, asks)] if asks else routes

    def _packages(
        self, name: str, path: str, made: tuple[Made, ...], asks: Any, *, later: bool = False
    ) -> Route:
        async def package(request: Request) -> Response:
            changed = later and (self.folder / f"{name}.later").exists()
            for release in made_later.of_maker(self.folder, made):
                if release.file == request.path_params["file"] and release.package:
                    again = changed and (release.product, release.version) == catalogue.MADE_AGAIN
                    return Response(archive(release, again=again), media_type="application/zip")
            return JSONResponse({"error": "there is no such package"}, 404)

        return self._route(name, path, package, asks)

    async def _gantry(self, request: Request) -> Response:
        document = catalogue.gantry_document(f"{_own(request)}/gantry", _today())
        return _conditional(request, json.dumps(document).encode(), "application/json")

    async def _season(self, request: Request) -> Response:
        """The ferries' own calendar: their season, which begins soon."""
        begins, ends = (_today() + timedelta(days=days) for days in SEASON)
        calendar = Calendar()
        calendar.add("prodid", "-//Ness Ferries//season//EN")
        calendar.add("version", "2.0")
        event = Event()
        event.add("uid", "season@ness-ferries.example")
        event.add("dtstamp", datetime(2026, 1, 1, tzinfo=UTC))
        event.add("dtstart", begins)
        event.add("dtend", ends)
        event.add("summary", "the season")
        calendar.add_component(event)
        return Response(calendar.to_ical(), media_type="text/calendar")

    async def _netloft(self, request: Request) -> Response:
        text = catalogue.atom_document(f"{_own(request)}/netloft", _today())
        answer = _conditional(request, text.encode(), "application/atom+xml")
        answer.headers["cache-control"] = "max-age=3000"
        return answer

    async def _osv(self, request: Request) -> Response:
        document = catalogue.advisories_document(_today())
        return _conditional(request, json.dumps(document).encode(), "application/json")

    def _route(self, name: str, path: str, answer: Answer, asks: Any) -> Route:
        async def guarded(request: Request) -> Response:
            if asks is not None and not asks(request):
                return JSONResponse({"error": "a credential is needed"}, 401)
            fault = await self._fault(name, request)
            return fault or await answer(request)

        return Route(path, guarded)

    async def _fault(self, name: str, request: Request) -> Response | None:
        fault: dict[str, Any] = faults.orders(self.folder / "faults.json").get(name, {})
        if "slow" in fault:
            await asyncio.sleep(float(fault["slow"]))
        if "status" in fault:
            after = {"retry-after": str(fault["retry_after"])} if "retry_after" in fault else {}
            return Response("Not now.", int(fault["status"]), after)
        if "broken" in fault:
            return Response(b'{"version": "https://jsonfeed.org/version/1.1", "items": [{"id": "h')
        if "deep" in fault:
            return Response(b'{"a":' * 200_000, media_type="application/json")
        if "bomb" in fault:
            return Response(_bomb(), media_type="application/atom+xml")
        if "loop" in fault:
            return RedirectResponse(str(request.url), 302)
        if "elsewhere" in fault:
            return RedirectResponse(str(fault["elsewhere"]), 302)
        if "huge" in fault:
            return StreamingResponse(_without_end(), media_type="application/json")
        if "empty" in fault:
            return JSONResponse({"version": "https://jsonfeed.org/version/1.1", "items": []})
        return None


async def _without_end() -> AsyncIterator[bytes]:
    while True:
        yield b" " * 2**16
        await asyncio.sleep(0)


def _bomb() -> bytes:
    lines = ['<!ENTITY a0 "ha">']
    lines += [f'<!ENTITY a{n} "{f"&a{n - 1};" * 10}">' for n in range(1, 10)]
    return f"<?xml version='1.0'?><!DOCTYPE feed [{''.join(lines)}]><feed>&a9;</feed>".encode()


def _today() -> date:
    return datetime.now(UTC).date()


def _own(request: Request) -> str:
    return f"{request.url.scheme}://{request.url.netloc}"


def _bearing(token: str) -> Callable[[Request], bool]:
    return lambda request: request.headers.get("authorization") == f"Bearer {token}"


def _user_and_key(request: Request) -> bool:
    both = base64.b64encode(f"{EBBING_USER}:{EBBING_KEY}".encode()).decode()
    return request.headers.get("authorization") == f"Basic {both}"


def _header(request: Request) -> bool:
    return request.headers.get("x-gantry-key") == GANTRY_KEY


def _conditional(request: Request, text: bytes, kind: str) -> Response:
    tag = f'"{hashlib.sha256(text).hexdigest()[:20]}"'
    if request.headers.get("if-none-match") == tag:
        return Response(status_code=304, headers={"etag": tag})
    return Response(text, 200, {"etag": tag}, kind)
