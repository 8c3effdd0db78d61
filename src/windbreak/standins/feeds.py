"""The makers' feeds over HTTP: one for everybody, one that wants a bearer token."""

from __future__ import annotations

import hashlib
import json
from datetime import UTC, datetime

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from windbreak.standins.catalogue import CHANDLERY, COMMONS, Made, archive, feed_document

# What the demo's token may do. It lacks licences.read, as one feed of the demo fleet must.
TOKEN = "chandlery-demo-7f3a9c51d2e84b06"
PERMISSIONS = ["releases.read", "packages.read"]


def feeds_app() -> Starlette:
    """The feeds of Millrace Commons (/commons) and of The Chandlery (/chandlery)."""
    return Starlette(
        routes=[
            Route("/commons/releases.json", _feed("Millrace Commons", COMMONS, guarded=False)),
            Route("/commons/packages/{file}", _packages(COMMONS, guarded=False)),
            Route("/chandlery/releases.json", _feed("The Chandlery", CHANDLERY, guarded=True)),
            Route("/chandlery/packages/{file}", _packages(CHANDLERY, guarded=True)),
            Route("/chandlery/whoami", _whoami),
        ]
    )


def _base(request: Request, path: str) -> str:
    return f"{request.url.scheme}://{request.url.netloc}{path}"


def _refused(request: Request) -> Response | None:
    if request.headers.get("authorization") == f"Bearer {TOKEN}":
        return None
    return JSONResponse({"error": "a token is needed"}, 401, {"www-authenticate": "Bearer"})


def _feed(title: str, made: tuple[Made, ...], *, guarded: bool):  # type: ignore[no-untyped-def]
    def feed(request: Request) -> Response:
        if guarded and (refused := _refused(request)):
            return refused
        base = _base(request, request.url.path.rsplit("/", 1)[0])
        check = f"{base}/whoami" if guarded else None
        document = feed_document(title, made, base, datetime.now(UTC).date(), check)
        text = json.dumps(document).encode()
        tag = f'"{hashlib.sha256(text).hexdigest()[:20]}"'
        if request.headers.get("if-none-match") == tag:
            return Response(status_code=304, headers={"etag": tag})
        return Response(text, 200, {"etag": tag}, "application/feed+json")

    return feed


def _packages(made: tuple[Made, ...], *, guarded: bool):  # type: ignore[no-untyped-def]
    def package(request: Request) -> Response:
        if guarded and (refused := _refused(request)):
            return refused
        for one in made:
            if one.file == request.path_params["file"] and one.package:
                return Response(archive(one, made), media_type="application/zip")
        return JSONResponse({"error": "there is no such package"}, 404)

    return package


def _whoami(request: Request) -> Response:
    if refused := _refused(request):
        return refused
    return JSONResponse({"account": "saltgrass", "permissions": PERMISSIONS})
