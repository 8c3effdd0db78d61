"""What it costs to look at every site's pages: 500 sites, each quarter of an hour."""

from __future__ import annotations

import json
import resource
import tempfile
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

from benchmarks.figures import Figure
from benchmarks.sleepers import running
from windbreak.core.values.accounts import Principal
from windbreak.core.values.sites import Link, NewSite, Site
from windbreak.links import signing
from windbreak.operations.administration import accounts
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.sites import sites, visits

SITES, EVERY = 500, 15 * 60
RHONA = Principal(account="rhona", name="Rhona Vale", via="service")


def figures() -> Iterator[Figure]:
    with tempfile.TemporaryDirectory() as folder, running(SITES, signing.new_key()) as process:
        assert process.stdout is not None
        context = open_context(Path(folder), private_networks="127.0.0.0/8")
        accounts.ensure_account(context, "rhona", "Rhona Vale")
        for n, port in enumerate(json.loads(process.stdout.readline())):
            new = NewSite(label=f"Site {n}", address=f"http://127.0.0.1:{port}")
            site = sites.register(context, new, RHONA)
            context.store.sites.change(site.id, link=Link(state="linked"))
        every = context.store.sites.live()
        before = _megabytes()
        _, peak = _round(context, every)  # the first time all are new
        start, begun = time.process_time(), time.monotonic()
        states, again = _round(context, every)
        spent, took = time.process_time() - start, time.monotonic() - begun
        assert states == {"fine"}, states
        memory = max(peak, again) - before
        close(context)
    how = f"{spent:.2f} s of one core for all of them, in {took:.0f} s, their answers included"
    yield Figure(
        f"looking at {SITES} sites’ pages each quarter of an hour, of one core",
        spent / EVERY * 100,
        "%",
        5.0,
        how=how,
    )
    yield Figure("the memory that it takes", memory, "MB", 50)


def _round(context: Context, every: Sequence[Site]) -> tuple[set[str], float]:
    """Look at all of them: what was seen, and the most memory meanwhile."""
    states, peak = set(), 0.0
    for visit in visits.visit_many(context, every):
        states.add(visit.state)
        peak = max(peak, _megabytes())
    return states, peak


def _megabytes() -> float:
    """What the process holds in memory now."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * resource.getpagesize() / 2**20
