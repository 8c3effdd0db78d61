"""Hosts and sites: registered, linked, refreshed, reasoned about."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query, Request, Response

from windbreak.core.values.basics import State, Value, Zone, example
from windbreak.core.values.entitlements import Entitlement
from windbreak.core.values.integrity import Integrity
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.plans import Removal, SitePlan
from windbreak.core.values.sites import (
    Host,
    LinkCode,
    LinkState,
    NewByHand,
    NewNote,
    NewSite,
    NoteFor,
    Site,
    SiteChange,
    Window,
    WindowsOf,
)
from windbreak.core.values.verdicts import Answer, Verdict
from windbreak.documents.named import Kind, Named
from windbreak.documents.outlook import ActRow, Outlook
from windbreak.documents.sites import SiteSummary, SiteView
from windbreak.operations import naming
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import entitlements
from windbreak.operations.planning import planning, removing
from windbreak.operations.reasoning import cases, supposing
from windbreak.operations.sites import integrity, marks, retiring, sites
from windbreak.operations.views import sites as site_views
from windbreak.service import hanging
from windbreak.service.paging import After, next_of, page
from windbreak.service.ready import ready
from windbreak.service.routing import Router
from windbreak.service.signin import Ctx, Limit, Who

router = Router("sites")

If = Annotated[
    tuple[str, ...],
    Query(alias="if", description="an act taken as done, as: offer loom 8.1 on jetty"),
]


class Windows(Value):
    model_config = example(
        windows=[{"days": ["mon", "tue"], "start": "01:00", "end": "05:00"}],
        timezone="Europe/London",
    )

    windows: tuple[Window, ...]
    timezone: Zone = "Europe/London"


class Retire(Value):
    model_config = example(why="the client went elsewhere")

    why: str = ""


@router.get("/hosts")
@ready("host", stands=True, exact=True)
def list_hosts(context: Ctx, who: Who) -> list[Host]:
    """The hosts."""
    return context.store.hosts.all()


@router.put("/hosts/{id}")
def put_host(
    context: Ctx,
    who: Who,
    id: str,
    host: Host,
) -> Host:
    """Register a host, or change what it offers."""
    if host.id != id:
        raise Refused("other-id", f"the address says {id!r}, the host says {host.id!r}")
    return sites.put_host(context, host, who)


@router.delete("/hosts/{id}", status_code=204)
def drop_host(context: Ctx, who: Who, id: str) -> None:
    """Forget a host that no site is on."""
    sites.drop_host(context, id, who)


@router.get("/sites", response_model=list[SiteSummary])
@ready(*hanging.FLEET, stands=True)
def list_sites(
    request: Request,
    context: Ctx,
    who: Who,
    client: Annotated[str | None, Query(description="only those of this client")] = None,
    host: Annotated[str | None, Query(description="only those on this host")] = None,
    state: Annotated[State | None, Query(description="only those in this state")] = None,
    link: Annotated[LinkState | None, Query(description="only those so linked")] = None,
    tag: Annotated[str | None, Query(description="only those with this tag")] = None,
    runs: Annotated[str | None, Query(description="a fact, as trestle<5.1")] = None,
    text: Annotated[str | None, Query(description="part of a name, client or address")] = None,
    limit: Limit = 10_000,
    after: Annotated[str | None, Query(description="the site that the page begins after")] = None,
) -> Response:
    """The sites as rows, worst first, each twin after its site.

    ``x-total-count`` says how many match in all; ``link`` leads to the next page.
    """
    equal = {"client": client, "host": host, "state": state, "link": link}
    wanted = site_views.Wanted(equal, text, tag, runs, limit, after)
    rows, count, last = site_views.rows(context, wanted)
    # The rows are kept as the JSON of SiteSummary: they go out as they are.
    headers = {"x-total-count": str(count)}
    if last is not None:
        headers["link"] = next_of(request, last)
    return Response(f"[{','.join(rows)}]", media_type="application/json", headers=headers)


@router.get("/named")
def list_named(
    context: Ctx,
    who: Who,
    kind: Annotated[Kind, Query(description="what is looked for")],
    text: Annotated[str, Query(min_length=1, description="an id, a name or a part of one")],
) -> list[Named]:
    """The sites or products that a person may mean by a text, at most twenty."""
    return naming.named(context, kind, text)


@router.post("/sites", status_code=201)
def register_site(
    context: Ctx,
    who: Who,
    new: NewSite,
    id: Annotated[
        str | None, Query(description="its id; made from the label when not given")
    ] = None,
) -> Site:
    """Register a site."""
    return sites.register(context, new, who, id)


@router.get("/sites/{id}")
@ready(*hanging.BESIDE_SITE, own=hanging.OF_SITE, of="id")
def show_site(context: Ctx, who: Who, id: str) -> SiteView:
    """One site whole."""
    return site_views.site_view(context, id)


@router.patch("/sites/{id}")
def change_site(context: Ctx, who: Who, id: str, change: SiteChange) -> Site:
    """Change a site's label, client, host or tags."""
    return marks.change(context, id, change, who)


@router.post("/sites/{id}/retirement")
def retire_site(context: Ctx, who: Who, id: str, retire: Retire) -> Site:
    """Retire a site: its work stops, its link ends, its seats are freed, its history stays."""
    return retiring.retire(context, id, who, retire.why)


@router.put("/sites/{id}/own/{kind}/{slug}")
def mark_own(context: Ctx, who: Who, id: str, kind: str, slug: str) -> Site:
    """Mark a component as made for this site."""
    return marks.mark_own(context, id, f"{kind}/{slug}", who)


@router.delete("/sites/{id}/own/{kind}/{slug}")
def unmark_own(context: Ctx, who: Who, id: str, kind: str, slug: str) -> Site:
    """Take the mark away that a component was made for this site."""
    return marks.mark_own(context, id, f"{kind}/{slug}", who, own=False)


@router.put("/sites/{id}/by-hand/{kind}/{slug}")
def look_after(context: Ctx, who: Who, id: str, kind: str, slug: str, new: NewByHand) -> Site:
    """Note that a person looks after a component of which no feed tells."""
    return marks.look_after(context, id, f"{kind}/{slug}", new, who)


@router.delete("/sites/{id}/by-hand/{kind}/{slug}")
def look_after_no_more(context: Ctx, who: Who, id: str, kind: str, slug: str) -> Site:
    """Nobody looks after a component by hand any longer."""
    return marks.look_after(context, id, f"{kind}/{slug}", None, who)


@router.put("/sites/{id}/notes/{audience}")
def write_note(context: Ctx, who: Who, id: str, audience: NoteFor, new: NewNote) -> Site:
    """Write a note on a site, for staff or for its client; empty text takes it away."""
    return marks.note(context, id, audience, new, who)


@router.put("/windows")
def set_windows_of(context: Ctx, who: Who, where: WindowsOf) -> list[Site]:
    """Set the hours of all sites of a client, or on a host, at once."""
    return list(sites.set_windows_of(context, where, who))


@router.put("/sites/{id}/windows")
def set_windows(context: Ctx, who: Who, id: str, windows: Windows) -> Site:
    """Set the hours in which a site may be worked on."""
    return sites.set_windows(context, id, windows.windows, windows.timezone, who)


@router.post("/sites/{id}/link-line", status_code=201)
def link_line(context: Ctx, who: Who, id: str) -> LinkCode:
    """Make the one line for the site's agent."""
    return sites.link_line(context, id, who)


@router.post("/sites/{id}/link")
def link_site(context: Ctx, who: Who, id: str) -> Site:
    """Link the site, once the line was pasted into its agent; then refresh it."""
    sites.link(context, id, who)
    return sites.refresh(context, id)


@router.delete("/sites/{id}/link")
def unlink_site(context: Ctx, who: Who, id: str) -> Site:
    """End the link."""
    return sites.unlink(context, id, who)


@router.post("/sites/{id}/refresh")
def refresh_site(context: Ctx, who: Who, id: str) -> Site:
    """Ask the site's agent what is installed."""
    if context.store.agents.key(id) is None:
        sites.agent_for(context, id)
    return sites.refresh(context, id)


@router.get("/sites/{id}/inventory")
def show_inventory(context: Ctx, who: Who, id: str) -> Inventory:
    """What is on the site, as its agent last said."""
    inventory = sites.inventory_of(context, id)
    if inventory is None:
        raise Refused("no-inventory", f"{id} was never refreshed; link it, then refresh it")
    return inventory


@router.get("/sites/{id}/case")
def export_case(context: Ctx, who: Who, id: str) -> dict[str, Any]:
    """The site's situation as a windbreak-case/1 document."""
    return cases.case_of(context, id).model_dump(mode="json", by_alias=True)


@router.get("/sites/{id}/verdicts")
def show_verdicts(context: Ctx, who: Who, id: str, if_: If = ()) -> Answer:
    """What the reasoning says of each component; with ``if``, what it would say."""
    return supposing.outlook(context, id, if_).answer


@router.get("/sites/{id}/verdicts/{kind}/{slug}")
def show_verdict(context: Ctx, who: Who, id: str, kind: str, slug: str, if_: If = ()) -> Verdict:
    """What the reasoning says of one product on a site; with ``if``, what it would say."""
    for verdict in supposing.outlook(context, id, if_).answer.verdicts:
        if verdict.product == f"{kind}/{slug}":
            return verdict
    raise Refused("not-installed", f"{kind}/{slug} is not on {id}")


@router.get("/sites/{id}/rights/{kind}/{slug}")
def show_right(
    context: Ctx,
    who: Who,
    id: str,
    kind: str,
    slug: str,
    version: Annotated[
        str | None, Query(description="the release asked about; the newest when not given")
    ] = None,
) -> Entitlement:
    """Whether a site may take a release of a product, and by which right; what would bring it."""
    return entitlements.right(context, id, f"{kind}/{slug}", version)


@router.get("/sites/{id}/files")
def show_files(context: Ctx, who: Who, id: str) -> Integrity:
    """The files of its components, held against their packages, as they were seen last."""
    context.store.sites.get(id)
    seen = integrity.of(context, id)
    if seen is None:
        raise Refused("not-looked", f"nobody has looked at the files of {id} yet")
    return seen


@router.post("/sites/{id}/files")
def look_at_files(context: Ctx, who: Who, id: str) -> Integrity:
    """Hold the files of its components against their packages now."""
    return integrity.look(context, id)


@router.get("/sites/{id}/outlook")
@ready(*hanging.BESIDE_SITE, own=hanging.OF_SITE, of="id")
def show_outlook(context: Ctx, who: Who, id: str, if_: If = ()) -> Outlook:
    """A site's verdicts and plan, with acts taken as done. Nothing is changed or kept."""
    return supposing.outlook(context, id, if_)


@router.get("/acts")
@ready(*hanging.VERDICTS, "run", stands=True)
def list_acts(
    context: Ctx,
    who: Who,
    if_: If = (),
    product: Annotated[
        str | None, Query(description="only those that free a move of this product")
    ] = None,
) -> list[ActRow]:
    """What somebody could do, what frees most across the fleet first."""
    return supposing.acts(context, if_, product)


@router.post("/sites/{id}/plans", status_code=201)
def draft_plan(context: Ctx, who: Who, id: str) -> SitePlan:
    """Make a plan for the site as it stands."""
    return planning.draft(context, id)


@router.post("/sites/{id}/removals", status_code=201)
def draft_removal(context: Ctx, who: Who, id: str, removal: Removal) -> SitePlan:
    """Make a plan by which some components leave the site: a step for each, nothing else moves."""
    return removing.draft(context, id, removal.products)


@router.get("/sites/{id}/plans")
@ready(*hanging.WORK, own=hanging.OF_SITE, of="id", exact=True)
def list_plans(
    request: Request,
    response: Response,
    context: Ctx,
    who: Who,
    id: str,
    limit: Limit = 50,
    after: After = None,
) -> list[SitePlan]:
    """The site's plans, newest first; ``link`` leads to the next page."""
    context.store.sites.get(id)

    def read(count: int) -> list[SitePlan]:
        return context.store.plans.page(after=after, limit=count, newest_first=True, site=id)

    return page(request, response, limit, read, lambda plan: plan.id)
