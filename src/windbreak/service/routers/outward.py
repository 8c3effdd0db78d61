"""What goes out and comes in by open formats, web hooks, and this service itself."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Request
from fastapi.responses import Response
from pydantic import Field

from windbreak.core.values.accounts import Account, Invitation
from windbreak.core.values.basics import Slug, Value, example
from windbreak.core.values.hooks import Delivery, Hook, Instance, NewHook
from windbreak.operations.administration import accounts, exports, instance, outward
from windbreak.operations.administration.exports import Imported
from windbreak.operations.errors import Refused
from windbreak.operations.findings import digest
from windbreak.operations.runs import runs
from windbreak.service.paging import After, page
from windbreak.service.ready import ready
from windbreak.service.routing import Router
from windbreak.service.signin import Ctx, Limit, Who

router = Router("in and out")
open_router = Router("in and out")


class CalendarAddress(Value):
    """An address that calendars read; whoever knows it can read deadlines and bookings."""

    url: str


class DigestSent(Value):
    text: str


class TakeOver(Value):
    model_config = example(why="the old machine is gone")

    why: Annotated[str, Field(min_length=1)]


class NewAccount(Value):
    model_config = example(id="owen", name="Owen Pell")

    id: Slug
    name: Annotated[str, Field(min_length=1, max_length=120)]


CSV: dict[int | str, Any] = {200: {"content": {"text/csv": {"schema": {"type": "string"}}}}}
_CDX: dict[int | str, Any] = {
    200: {"content": {"application/vnd.cyclonedx+json": {"schema": {"type": "object"}}}}
}
ICS: dict[int | str, Any] = {200: {"content": {"text/calendar": {"schema": {"type": "string"}}}}}
_METRICS: dict[int | str, Any] = {
    200: {"content": {"application/openmetrics-text": {"schema": {"type": "string"}}}}
}


@router.get("/sites.csv", response_class=Response, responses=CSV)
def export_sites(context: Ctx, who: Who) -> Response:
    """Every site, as CSV."""
    return Response(exports.sites_csv(context), media_type="text/csv; charset=utf-8")


@router.post(
    "/sites.csv",
    openapi_extra={
        "requestBody": {"required": True, "content": {"text/csv": {"schema": {"type": "string"}}}}
    },
)
async def import_sites(context: Ctx, who: Who, request: Request) -> Imported:
    """Register the sites of a CSV, all or none."""
    body = await request.body()
    if len(body) > exports.MOST_CSV:
        raise Refused("bad-csv", f"more than {exports.MOST_CSV} bytes")
    try:
        text = body.decode("utf-8")
    except UnicodeDecodeError as error:
        raise Refused("bad-csv", f"it is not UTF-8: {error}") from None
    return exports.import_sites(context, text, who)


@router.get("/sites/{id}/inventory.cdx.json", response_class=Response, responses=_CDX)
def export_inventory(context: Ctx, who: Who, id: str) -> Response:
    """A site's inventory, as CycloneDX."""
    text = exports.cyclonedx(context, id)
    return Response(text, media_type="application/vnd.cyclonedx+json; version=1.6")


@router.get("/metrics", response_class=Response, responses=_METRICS)
def export_metrics(context: Ctx, who: Who) -> Response:
    """The fleet in numbers, as OpenMetrics."""
    return Response(exports.metrics(context), headers={"content-type": exports.METRICS_TYPE})


@router.post("/calendar-address", status_code=201)
def make_calendar_address(context: Ctx, who: Who, request: Request) -> CalendarAddress:
    """Make the address of your calendar; an older one is good no more."""
    key = accounts.make_calendar_key(context, who.account)
    return CalendarAddress(url=f"{_own(request)}/api/v1/calendar.ics?key={key}")


@open_router.get("/calendar.ics", response_class=Response, responses=ICS)
def read_calendar(context: Ctx, request: Request, key: str) -> Response:
    """Deadlines and bookings, as iCalendar; the key is that of a calendar address."""
    accounts.reads_calendar(context, key)
    document = exports.calendar(context, _own(request))
    return Response(document, media_type="text/calendar; charset=utf-8")


def _own(request: Request) -> str:
    return f"{request.url.scheme}://{request.url.netloc}"


@router.post("/digest")
def send_digest(context: Ctx, who: Who, request: Request) -> DigestSent:
    """Mail the digest now, to whom the settings say."""
    return DigestSent(text=digest.send(context, request.app.state.mail, _own(request)))


@router.get("/hooks")
def list_hooks(context: Ctx, who: Who) -> list[Hook]:
    """The web hooks and how they take our news."""
    return context.store.hooks.all()


@router.post("/hooks", status_code=201)
def add_hook(context: Ctx, who: Who, new: NewHook) -> Hook:
    """Register a web hook; the answer holds the key to check our signatures with."""
    return outward.add_hook(context, new, who)


@router.delete("/hooks/{id}", status_code=204)
def drop_hook(context: Ctx, who: Who, id: str) -> None:
    """Tell a web hook no more."""
    outward.drop_hook(context, id, who)


@router.get("/hooks/{id}/deliveries")
def list_deliveries(
    request: Request,
    response: Response,
    context: Ctx,
    who: Who,
    id: str,
    limit: Limit = 100,
    after: After = None,
) -> list[Delivery]:
    """What was sent to a web hook, newest first; ``link`` leads to the next page."""
    context.store.hooks.get(id)

    def read(count: int) -> list[Delivery]:
        return context.store.deliveries.page(after=after, limit=count, newest_first=True, hook=id)

    return page(request, response, limit, read, lambda delivery: delivery.id)


@router.get("/accounts")
@ready("account", exact=True)
def list_accounts(context: Ctx, who: Who) -> list[Account]:
    """Who may sign in, and whose account is closed."""
    return context.store.accounts.all()


@router.post("/accounts", status_code=201)
def add_account(context: Ctx, who: Who, new: NewAccount) -> Account:
    """Open an account."""
    return accounts.add(context, Account(id=new.id, name=new.name), who)


@router.delete("/accounts/{id}")
def close_account(context: Ctx, who: Who, id: str) -> Account:
    """Close an account; what it did stays."""
    return accounts.close(context, id, who)


@router.post("/accounts/{id}/reopening")
def reopen_account(context: Ctx, who: Who, id: str) -> Account:
    """Open a closed account again."""
    return accounts.reopen(context, id, who)


@router.post("/accounts/{id}/invitations", status_code=201)
def invite_account(context: Ctx, who: Who, request: Request, id: str) -> Invitation:
    """A one-time link for somebody who can't sign in yet; it is good for half an hour."""
    secret = accounts.invite(context, id, who)
    return Invitation(account=id, url=f"{_own(request)}/sign-in#{secret}")


@router.get("/instance")
def show_instance(context: Ctx, who: Who) -> Instance:
    """This service itself, and whether it drives sites."""
    return instance.of(context)


@router.post("/instance/take-over")
def take_over(context: Ctx, who: Who, why: TakeOver) -> Instance:
    """Let a restored copy drive the sites."""
    taken = instance.take_over(context, who, why.why)
    runs.not_known(context)
    return taken
