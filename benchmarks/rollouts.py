"""Rollouts: one over 2,000 sites drafted, and how far off estimates are after fifty runs."""

from __future__ import annotations

import contextlib
import statistics
import tempfile
from collections.abc import Iterator
from pathlib import Path

from benchmarks.figures import Figure, timed
from benchmarks.views import RHONA, fleet
from windbreak.core.values.plans import ApprovePlan
from windbreak.core.values.rollouts import NewRollout
from windbreak.core.values.sites import Host, Link
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.errors import OperationError
from windbreak.operations.planning import planning
from windbreak.operations.runs import runs
from windbreak.operations.scheduling import approving, drafts, estimates
from windbreak.operations.views.projector import catch_up
from windbreak.standins.demo import Demo, set_up

SITES, HOSTS, AT_ONCE = 2000, 40, 4
TAUGHT, TOLD = 50, 25  # runs that teach, and then those that are told beforehand


def figures() -> Iterator[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        context = open_context(Path(folder))
        linked(context, SITES)
        took, draft = timed(lambda: drafts.finished(context, NewRollout()))
        placed = sum(member.starts_at is not None for member in draft.members)
        canaries = sum(member.wave == "canary" for member in draft.members)
        yield Figure(
            f"a rollout over {SITES} sites drafted, canaries and all",
            took / 1000,
            "s",
            5,
            how=f"{placed} of {len(draft.members)} placed, {canaries} canaries cover "
            f"{draft.covered} of {draft.kinds} kinds",
        )
        close(context)
    with tempfile.TemporaryDirectory() as folder:
        errors = _errors(Path(folder))
    yield Figure(
        f"estimates after {TAUGHT} runs: how far off, in the middle",
        100 * statistics.median(errors),
        "%",
        25,
        how=f"{len(errors)} runs on the demo's stand-ins; the furthest {100 * max(errors):.0f} %",
    )


def linked(context: Context, count: int) -> None:
    """A fleet whose sites are linked, on 40 hosts."""
    fleet(context, count)
    with context.store.transaction():
        for n in range(HOSTS):
            host = Host(
                id=f"host-{n}", name=f"Host {n}", offers={"runtime/loom": ("8.1",)}, at_once=AT_ONCE
            )
            context.store.hosts.put(host)
        for n, site in enumerate(context.store.sites.live()):
            context.store.sites.change(
                site.id, host=f"host-{n % HOSTS}", link=Link(state="linked", reason="It answers.")
            )
    catch_up(context)


def _errors(folder: Path) -> list[float]:
    """How far the estimate of each run was off, beside what it took, once fifty had taught."""
    demo = Demo(folder)
    errors: list[float] = []
    try:
        where = demo.start_standins()
        demo.start_service()
        set_up(demo, where)
        demo.kill_service()
        context = open_context(demo.service_folder, private_networks="127.0.0.0/8")
        done = 0
        for site, product in _single_moves(context):
            if done >= TAUGHT + TOLD:
                break
            took = _carried_out(context, site, product)
            if took is None:
                continue
            done += 1
            reckoned, seconds = took
            if done > TAUGHT:
                errors.append(abs(reckoned - seconds) / seconds)
        close(context)
    finally:
        demo.stop()
    return errors


def _single_moves(context: Context) -> list[tuple[str, str]]:
    """Single moves on the sites of the demo, one of each site after the other."""
    found: list[tuple[int, str, str]] = []
    for site, _, _ in context.store.views.sites_that_move():
        for n, standing in enumerate(context.store.views.standings_of_site(site)):
            if standing.target and not standing.product.startswith("runtime/"):
                found.append((n, site, standing.product))
    return [(site, product) for _, site, product in sorted(found)]


def _carried_out(context: Context, site: str, product: str) -> tuple[float, float] | None:
    """Seconds that a run with one product was reckoned at and took; None where it did not end well.

    What it was reckoned at is not rounded: these runs take seconds.
    """
    with contextlib.suppress(OperationError):
        plan = planning.draft(context, site, only=frozenset({product}))
        if not plan.plan.steps:
            return None
        approving.approve(context, plan.id, ApprovePlan(why="the benchmark"), RHONA)
        known = context.store.sites.get(site)
        reckoned = estimates.estimate(context, known, plan.plan.steps).seconds
        run = runs.carry_out(context, runs.start(context, plan.id, RHONA.name).id)
        if run.state == "done" and run.ended_at is not None:
            return reckoned, (run.ended_at - run.started_at).total_seconds()
    return None
