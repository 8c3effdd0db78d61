"""Long lists in pages by key: each page tells the address of the next (RFC 8288, ``rel="next"``).

A page begins after a key, not after a count, so that what is added meanwhile moves nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Annotated, TypeVar

from fastapi import Query, Request, Response

from windbreak.service.signin import MOST

T = TypeVar("T")

After = Annotated[
    int | None, Query(ge=1, le=MOST, description="the number that the page begins after")
]


def page(
    request: Request,
    response: Response,
    limit: int,
    read: Callable[[int], Sequence[T]],
    key: Callable[[T], object],
) -> list[T]:
    """So many values; where there are more, the answer links to them. ``read`` gives so many."""
    values = list(read(limit + 1))
    if len(values) > limit:
        values = values[:limit]
        response.headers["link"] = next_of(request, key(values[-1]))
    return values


def next_of(request: Request, after: object) -> str:
    """The link to the page after a key."""
    url = request.url.include_query_params(after=after)
    return f'<{url.path}?{url.query}>; rel="next"'
