"""The routes of the API: those that are marked ``ready`` give what is kept, and a router looks at
the first word of a path before it looks at its routes.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property, wraps
from typing import Any, get_type_hints

from fastapi import APIRouter, Request, Response
from fastapi.routing import APIRoute
from pydantic import TypeAdapter
from starlette.routing import Match
from starlette.types import Scope

from windbreak.service.around import API, Asked
from windbreak.service.ready import Handler, HangsOn, Ready


class Router(APIRouter):
    """Routes of the API. All of them begin with a word of their own, below its address: of a
    hundred and fifty routes, those of other routers cost a request nothing.
    """

    def __init__(self, tag: str) -> None:
        super().__init__(tags=[tag], route_class=ReadyRoute)

    def matches(self, scope: Scope) -> tuple[Match, Scope]:
        word = _first_word(str(scope["path"]).removeprefix(API))
        return super().matches(scope) if word in self._first_words else (Match.NONE, {})

    @cached_property
    def _first_words(self) -> frozenset[str]:
        routes = [route for route in self.routes if isinstance(route, APIRoute)]
        return frozenset([_first_word(route.path) for route in routes])


def _first_word(path: str) -> str:
    return path.strip("/").partition("/")[0]


def _serialized(function: Callable[..., Any]) -> Callable[..., Response]:
    """The same, with its value made into bytes where it is made: one turn of a thread."""
    given_back = get_type_hints(function, include_extras=True)["return"]
    if isinstance(given_back, type) and issubclass(given_back, Response):
        return function
    adapter = TypeAdapter[Any](given_back)

    @wraps(function)
    def made(**given: Any) -> Response:
        value = function(**given)
        if isinstance(value, Response):
            return value
        beside = [x.headers for x in given.values() if type(x) is Response]
        return Response(
            adapter.dump_json(value, by_alias=True),
            headers=beside[0] if beside else None,
            media_type="application/json",
        )

    return made


class ReadyRoute(APIRoute):
    """A route whose answers are kept ready, where its function is marked so."""

    def __init__(self, path: str, endpoint: Callable[..., Any], **given: Any) -> None:
        if hasattr(endpoint, "hangs_on"):
            endpoint = _serialized(endpoint)
        super().__init__(path, endpoint, **given)

    def get_route_handler(self) -> Handler:
        hangs_on: HangsOn | None = getattr(self.endpoint, "hangs_on", None)
        if hangs_on is None:
            return super().get_route_handler()
        handler = super().get_route_handler()

        async def answer(request: Request) -> Response:
            asked: Asked = request.state.asked
            asked.who()
            if asked.own or request.query_params.get("wait"):
                return await handler(request)  # asked by ourselves, or by who has patience
            kept: Ready = request.app.state.ready
            return await kept.answer(handler, request, hangs_on)

        return answer
