"""What happens, as it happens: Server-Sent Events."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import Header, Query, Request
from fastapi.sse import EventSourceResponse, ServerSentEvent
from starlette.concurrency import run_in_threadpool

from windbreak.core.values.ledger import Event
from windbreak.operations.context import Context
from windbreak.service.ready import Ready
from windbreak.service.routing import Router
from windbreak.service.signin import MOST, Ctx, Who

router = Router("events")

_QUIET_SECONDS = 1.0
_READABLE_SECONDS = 1.0  # for which an event is held back at the most


@router.get("/events", response_class=EventSourceResponse)
async def stream_events(
    context: Ctx,
    who: Who,
    request: Request,
    after: Annotated[
        int | None, Query(ge=0, le=MOST, description="begin after this event; default: now")
    ] = None,
    last_event_id: Annotated[int | None, Header(ge=0, le=MOST)] = None,
) -> AsyncIterator[ServerSentEvent]:
    """Every change of state, from now on or from after an event; ids let a reader go on."""
    first = last_event_id if last_event_id is not None else after
    at = first if first is not None else await run_in_threadpool(context.store.events.last)
    yield ServerSentEvent(comment="events follow", id=str(at))
    stopping = request.app.state.stopping
    while not stopping.is_set() and not await request.is_disconnected():
        for event in await run_in_threadpool(_wait, context, request.app.state.ready, at):
            at = event.id
            yield ServerSentEvent(
                raw_data=event.model_dump_json(), event=event.kind, id=str(event.id)
            )


def _wait(context: Context, ready: Ready, at: int) -> list[Event]:
    """The events after one, waiting a moment for the first. They are told once what they tell of
    can be read: whoever hears of one reads at once, and would else read what was before.
    """
    events = context.store.events.after(at)
    if not events:
        with context.news:
            context.news.wait(_QUIET_SECONDS)
        events = context.store.events.after(at)
    if events:
        ready.settled(context.store.database.generation(), _READABLE_SECONDS)
    return events
