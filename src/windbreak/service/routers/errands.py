"""Errands, and tasks of the service that outlive a request."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request

from windbreak.core.values.errands import Errand, ErrandDone, NewErrand
from windbreak.core.values.sites import Site
from windbreak.core.values.tasks import RefreshMany, Task
from windbreak.operations.runs import errands
from windbreak.operations.sites import tasks
from windbreak.service import hanging
from windbreak.service.ready import ready
from windbreak.service.routing import Router
from windbreak.service.signin import Ctx, Who

router = Router("work")

Number = int


@router.get("/errands")
@ready(*hanging.WORK, exact=True)
def list_errands(
    context: Ctx,
    who: Who,
    site: str | None = None,
    every: Annotated[bool, Query(description="also those that are done")] = False,
) -> list[Errand]:
    """Work for a person: what keeps a run first, then by its day."""
    return errands.listed(context, site=site, every=every)


@router.post("/errands", status_code=201)
def add_errand(context: Ctx, who: Who, new: NewErrand) -> Errand:
    """Write down an errand."""
    return errands.add(context, new, who)


@router.get("/errands/{id}")
def show_errand(context: Ctx, who: Who, id: Number) -> Errand:
    """One errand."""
    return context.store.errands.get(id)


@router.post("/errands/{id}/done")
def close_errand(context: Ctx, who: Who, id: Number, done: ErrandDone) -> Errand:
    """Close an errand: it is done."""
    return errands.close(context, id, who.name, done.how)


@router.get("/tasks")
def list_tasks(
    context: Ctx, who: Who, limit: Annotated[int, Query(ge=1, le=200)] = 30
) -> list[Task]:
    """The work of the service that outlives a request, newest first."""
    return context.store.tasks.all(newest_first=True, limit=limit)


@router.get("/tasks/{id}")
def show_task(context: Ctx, who: Who, id: Number) -> Task:
    """One task, and how far it has come."""
    return context.store.tasks.get(id)


@router.post("/sites/refresh", status_code=202)
def refresh_all(context: Ctx, who: Who, request: Request, wanted: RefreshMany) -> Task:
    """Ask many sites what is installed, all that are linked where none is named; as a task."""
    return _begun(request, tasks.start(context, "refresh", wanted.sites, who.name))


@router.post("/sites/{id}/twin-refresh", status_code=202)
def refresh_twin(context: Ctx, who: Who, id: str, request: Request) -> Task:
    """Make a twin as its production site is now; as a task."""
    return _begun(request, tasks.start(context, "refresh twin", [_twin(context, id)], who.name))


@router.post("/sites/{id}/proof", status_code=202)
def prove_backup(context: Ctx, who: Who, id: str, request: Request) -> Task:
    """Prove on its twin that a site's backup can be restored; the twin is then as it was."""
    return _begun(request, tasks.start(context, "prove backup", [_twin(context, id)], who.name))


@router.post("/instance/keys", status_code=202)
def rotate_keys(context: Ctx, who: Who, request: Request) -> Task:
    """Turn the keys that sign for this service and its agents; as a task."""
    return _begun(request, tasks.start(context, "rotate keys", (), who.name))


def _begun(request: Request, task: Task) -> Task:
    request.app.state.driver.carry_out_task(task.id)
    return task


def _twin(context: Ctx, id: str) -> str:
    """A twin, named by itself or by its site."""
    site: Site = context.store.sites.get(id)
    for twin in context.store.sites.all(twin_of=site.id) if site.twin_of is None else ():
        return twin.id
    return site.id
