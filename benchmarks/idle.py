"""What a second costs in which nothing happens, with 3,000 sites and 200 feeds."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

from benchmarks.figures import Figure
from benchmarks.views import RHONA, fleet
from windbreak.core.values.feeds import NewFeed
from windbreak.core.values.sites import Link
from windbreak.core.values.visits import Visit
from windbreak.notices.mail import MailSettings
from windbreak.operations.administration.retention import Retention
from windbreak.operations.context import close, open_context
from windbreak.operations.tracking import feeds
from windbreak.operations.views.projector import catch_up
from windbreak.service.drive import Driver
from windbreak.service.settings import ShelfSettings

SITES, FEEDS, SECONDS = 3000, 200, 10


def figures() -> Iterator[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        context = open_context(Path(folder), private_networks="127.0.0.0/8")
        fleet(context, SITES)
        now = context.clock()
        with context.store.transaction():
            for site in context.store.sites.live():
                context.store.sites.change(site.id, link=Link(state="linked", looked_at=now))
                context.store.visits.put(Visit(id=site.id, state="fine", looked_at=now))
            for n in range(FEEDS):
                new = NewFeed(id=f"feed-{n}", label=f"Feed {n}", url=f"http://127.0.0.1:9/{n}")
                feeds.register(context, new, RHONA)
                context.store.feeds.change(
                    new.id, polled_at=now, next_poll_at=now + timedelta(hours=4)
                )
        context.store.facts.set("day", now.date().isoformat())
        context.store.facts.set("hour", f"{now:%Y-%m-%dT%H}")
        catch_up(context)
        driver = Driver(context, 240, 15, ShelfSettings(), MailSettings(), 24, Retention())
        driver.start()
        time.sleep(4)  # the first day, hour and looks are behind it
        start = time.process_time()
        time.sleep(SECONDS)
        spent = (time.process_time() - start) / SECONDS * 1000
        driver.stop()
        close(context)
    yield Figure(
        "idle second of the driver, 3,000 sites, 200 feeds",
        spent,
        "ms",
        2.0,
        how=f"CPU time of the process over {SECONDS} seconds",
    )
