"""The ledger, and what clients are told of a month."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Annotated

from fastapi import Depends, Query, Request, Response
from fastapi.responses import PlainTextResponse

from windbreak.core.values.basics import Instant
from windbreak.core.values.ledger import LedgerAsked, LedgerPart
from windbreak.documents.ledger import ClientReport, LedgerLine, LedgerSummary
from windbreak.operations.administration import exports
from windbreak.operations.context import Context
from windbreak.operations.views import ledger, reports
from windbreak.service import hanging
from windbreak.service.paging import After, page
from windbreak.service.ready import ready
from windbreak.service.routers.outward import CSV
from windbreak.service.routing import Router
from windbreak.service.signin import Ctx, Limit, Who

router = Router("ledger")

Client = Annotated[str, Query(description="by name")]
Month = Annotated[str, Query(description="as 2026-11")]
Looks = Annotated[bool, Query(description="also what was seen after each step")]


@dataclass(frozen=True)
class _Query:
    """Which lines are asked for, as it was asked."""

    subject: str | None
    client: str | None
    who: str | None
    part: LedgerPart | None
    since: datetime | None
    until: datetime | None
    words: str
    wrong: bool

    def meant(self, context: Context) -> LedgerAsked:
        """The same, with names made into subjects. Reads. It is called where the answer is made:
        one turn of a thread and not two.
        """
        return ledger.asked(context, **vars(self))


async def _query(
    subject: Annotated[str | None, Query(description="a site, product, feed or licence")] = None,
    client: Annotated[str | None, Query(description="its sites")] = None,
    person: Annotated[str | None, Query(description="who decided or did it, by name")] = None,
    part: Annotated[LedgerPart | None, Query(description="by people, or by itself")] = None,
    since: Instant | None = None,
    until: Instant | None = None,
    words: Annotated[str, Query(max_length=200, description="in the line or a name")] = "",
    wrong: Annotated[bool, Query(description="runs that did not end well")] = False,
) -> _Query:
    return _Query(subject, client, person, part, since, until, words, wrong)


Asked = Annotated[_Query, Depends(_query)]


@router.get("/ledger")
@ready(*hanging.LEDGER, "run", exact=True)
def show_ledger(
    request: Request,
    response: Response,
    context: Ctx,
    who: Who,
    wanted: Asked,
    limit: Limit = 100,
    after: After = None,
) -> list[LedgerLine]:
    """What was decided and done, newest first; ``link`` leads to the next page."""

    asked = wanted.meant(context)

    def read(count: int) -> list[LedgerLine]:
        return ledger.lines(context, asked, after=after, limit=count)

    return page(request, response, limit, read, lambda line: line.id)


@router.get("/ledger.csv", response_class=Response, responses=CSV)
def export_ledger(context: Ctx, who: Who, wanted: Asked) -> Response:
    """All of the ledger that is wanted, as CSV."""
    return Response(
        exports.ledger_csv(context, wanted.meant(context)), media_type="text/csv; charset=utf-8"
    )


@router.get("/ledger/summary")
@ready(*hanging.LEDGER, "run", exact=True)
def show_ledger_summary(context: Ctx, who: Who, wanted: Asked) -> LedgerSummary:
    """How much of the ledger is wanted, and what it can be narrowed by."""
    return ledger.summary(context, wanted.meant(context))


@router.get("/report")
@ready(*hanging.LEDGER, *hanging.WORK, *hanging.CATALOGUE)
def show_report(
    context: Ctx, who: Who, client: Client, month: Month, looks: Looks = False
) -> ClientReport:
    """What a client is told of a month, written from the record."""
    return reports.report(context, client, month, looks=looks)


@router.get("/report/text")
def show_report_text(
    context: Ctx, who: Who, client: Client, month: Month, looks: Looks = False
) -> Response:
    """The same as Markdown."""
    month_report = reports.report(context, client, month, looks=looks)
    return PlainTextResponse(month_report.text, media_type="text/markdown; charset=utf-8")
