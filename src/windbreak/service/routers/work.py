"""Plans, runs, holds, findings."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response
from fastapi.responses import FileResponse

from windbreak.core.values.charts import Chart
from windbreak.core.values.findings import Finding, SnoozeFinding
from windbreak.core.values.holds import NewHold, StandingHold
from windbreak.core.values.matters import Debt, Matter, TakeWayOut
from windbreak.core.values.plans import ApprovePlan, SitePlan
from windbreak.core.values.policy import InForce, NewRule, Rule
from windbreak.core.values.runs import Run, RunNow
from windbreak.documents.runs import MatterStory, RunStory
from windbreak.documents.sheets import PlanSheet
from windbreak.documents.today import Today
from windbreak.operations.administration import exports
from windbreak.operations.findings import findings, today
from windbreak.operations.planning import planning, policy
from windbreak.operations.runs import debts, matters, pictures, runs, ways_out
from windbreak.operations.scheduling import approving
from windbreak.operations.views import runs as run_views
from windbreak.operations.views import sheets
from windbreak.service import hanging
from windbreak.service.paging import After, page
from windbreak.service.ready import ready
from windbreak.service.routers.outward import CSV
from windbreak.service.routing import Router
from windbreak.service.signin import Ctx, Limit, Number, Who

router = Router("work")
IN_ITS_WINDOW = RunNow()


@router.get("/plans/{id}")
def show_plan(context: Ctx, who: Who, id: Number) -> SitePlan:
    """One plan."""
    return context.store.plans.get(id)


@router.get("/plans/{id}/sheet")
def show_sheet(context: Ctx, who: Who, id: Number) -> PlanSheet:
    """A plan as a sheet: when it runs, how long each part takes, what is switched for it, and what
    it asks of a person.
    """
    return sheets.sheet(context, id)


@router.get("/plans/{id}/charts")
def show_charts(context: Ctx, who: Who, id: Number) -> list[Chart]:
    """The pairs of a plan that bind each other: which versions go together, and the way through."""
    return planning.charts_of(context, context.store.plans.get(id))


@router.post("/plans/{id}/approval")
def approve_plan(context: Ctx, who: Who, id: Number, approval: ApprovePlan) -> SitePlan:
    """Let a plan go: exactly its targets."""
    return approving.approve(context, id, approval, who)


@router.post("/plans/{id}/runs", status_code=201)
def run_plan(
    context: Ctx, who: Who, id: Number, request: Request, how: RunNow = IN_ITS_WINDOW
) -> Run:
    """Carry an approved plan out now."""
    run = runs.begin(
        context,
        id,
        who.name,
        outside_window=how.outside_window,
        although_it_failed=how.although_it_failed,
    )
    request.app.state.driver.carry_out(run)
    return run


@router.get("/runs")
@ready(*hanging.WORK, "fleet", "site", exact=True)
def list_runs(
    request: Request,
    response: Response,
    context: Ctx,
    who: Who,
    site: str | None = None,
    limit: Limit = 50,
    after: After = None,
) -> list[Run]:
    """The runs, newest first; ``link`` leads to the next page."""
    where = {"site": site} if site else {}

    def read(count: int) -> list[Run]:
        return context.store.runs.page(after=after, limit=count, newest_first=True, **where)

    return page(request, response, limit, read, lambda run: run.id)


@router.get("/runs/{id}")
def show_run(context: Ctx, who: Who, id: Number) -> RunStory:
    """A run with its steps, what the probes saw, and its journal."""
    return run_views.run_story(context, id)


@router.get("/runs/{id}/pictures/{name}", response_class=FileResponse)
def show_picture(context: Ctx, who: Who, id: Number, name: str) -> FileResponse:
    """A picture of a page, before or after a run, as a PNG."""
    return FileResponse(pictures.picture(context, id, name), media_type="image/png")


@router.get("/runs/{id}/lost.csv", response_class=Response, responses=CSV)
def show_lost(context: Ctx, who: Who, id: Number) -> Response:
    """What was written on the site and lost when the run restored its snapshot, as CSV."""
    return Response(exports.lost_csv(context, id), media_type="text/csv; charset=utf-8")


@router.post("/runs/{id}/stop")
def stop_run(context: Ctx, who: Who, id: Number) -> Run:
    """Stop a run after the step it is at."""
    return runs.ask_to_stop(context, id, who)


@router.post("/runs/{id}/ask", status_code=202)
def ask_now(context: Ctx, who: Who, id: Number) -> Run:
    """Ask the site of a run that waits for it now, and not at the next time."""
    run = context.store.runs.get(id)
    context.wake()
    return run


@router.post("/runs/{id}/go-on", status_code=202)
def go_on(context: Ctx, who: Who, id: Number, request: Request) -> Run:
    """Go on with a run that waited for an errand which is done."""
    run = runs.go_on(context, id, who.name)
    request.app.state.driver.carry_out(run)
    return run


@router.get("/matters")
def list_matters(
    context: Ctx,
    who: Who,
    every: Annotated[bool, Query(description="also those that are closed")] = False,
) -> list[Matter]:
    """Runs that ended badly and wait for a person, newest first."""
    return matters.listed(context, every=every)


@router.get("/matters/{id}")
def show_matter(context: Ctx, who: Who, id: Number) -> MatterStory:
    """A matter with what is owed to its site, and the ways out as they stand now."""
    return ways_out.story(context, id)


@router.post("/matters/{id}/ways", status_code=202)
def take_way_out(context: Ctx, who: Who, id: Number, how: TakeWayOut, request: Request) -> Matter:
    """Take a way out of a matter; it is done in the background, and the matter says what came."""
    ways_out.check(context, id, how.act)
    matter = matters.take(context, id, how, who)
    request.app.state.driver.take_way_out(id)
    return matter


@router.get("/sites/{id}/debts")
def list_debts(context: Ctx, who: Who, id: str) -> list[Debt]:
    """What runs still owe to a site: switched for them, and not yet read back as it was."""
    return debts.owed(context, context.store.sites.get(id).id)


@router.get("/holds")
def list_holds(context: Ctx, who: Who) -> list[StandingHold]:
    """The holds."""
    return context.store.holds.all()


@router.post("/holds", status_code=201)
def make_hold(context: Ctx, who: Who, new: NewHold) -> StandingHold:
    """Decide not to move a product."""
    return policy.hold(context, new, who)


@router.delete("/holds/{id}", status_code=204)
def lift_hold(context: Ctx, who: Who, id: str) -> None:
    """Lift a hold."""
    policy.lift(context, id, who)


@router.get("/rules")
@ready("rule", stands=True, exact=True)
def list_rules(context: Ctx, who: Who) -> list[Rule]:
    """The rules of the house."""
    return context.store.rules.all()


@router.post("/rules", status_code=201)
def set_rule(context: Ctx, who: Who, new: NewRule) -> Rule:
    """Decide how releases are taken, somewhere or everywhere."""
    return policy.set_rule(context, new, who)


@router.delete("/rules/{id}", status_code=204)
def drop_rule(context: Ctx, who: Who, id: str) -> None:
    """Drop a rule."""
    policy.drop_rule(context, id, who)


@router.get("/sites/{id}/policy")
def show_policy(context: Ctx, who: Who, id: str) -> list[InForce]:
    """What holds for each product on a site, and which rule says so."""
    return policy.of_site(context, id)


@router.get("/findings")
def list_findings(
    context: Ctx,
    who: Who,
    snoozed: Annotated[bool, Query(description="also those that are put aside")] = False,
) -> list[Finding]:
    """What wants attention, most urgent first."""
    return findings.listed(context, snoozed=snoozed)


@router.put("/findings/{id:path}/snooze")
def snooze_finding(context: Ctx, who: Who, id: str, snooze: SnoozeFinding) -> Finding:
    """Put a finding aside until a day; dismissed is not solved."""
    return findings.snooze(context, id, snooze, who)


@router.delete("/findings/{id:path}/snooze")
def wake_finding(context: Ctx, who: Who, id: str) -> Finding:
    """Bring a snoozed finding back."""
    return findings.wake(context, id, who)


@router.get("/today", response_model=Today)
@ready(*hanging.FLEET, stands=True)
def show_today(context: Ctx, who: Who) -> Response:
    """What wants attention, what is booked, and how old the facts are."""
    return Response(today.today(context), media_type="application/json")
