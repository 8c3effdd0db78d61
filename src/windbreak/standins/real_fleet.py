"""The real sites of ``windbreak demo --real``: a site and its twin beside the demo fleet, with what
the Sandglass Workshop made for them, and a newer WordPress.
"""

from __future__ import annotations

import shutil
from datetime import date, timedelta
from pathlib import Path

from windbreak.client import Windbreak
from windbreak.core.values.licences import NewSeat
from windbreak.core.values.products import ProductChange
from windbreak.core.values.releases import NewRelease
from windbreak.core.values.sites import NewSite
from windbreak.standins import catalogue, workshop
from windbreak.standins.real import RealSite, prepared

CLIENT, CORE = "Saltgrass", "core/wordpress"
SITES = (
    ("saltgrass-journal", "Saltgrass Journal", None),
    ("saltgrass-journal-twin", "Saltgrass Journal, twin", "saltgrass-journal"),
)


def join(windbreak: Windbreak, folder: Path, feeds: str) -> tuple[list[RealSite], list[str]]:
    """Start the real sites, register and link those that are not yet, and the feed of what runs
    there, beside the others at an address; what was done.
    """
    sites_now, started, lines = (
        {site.id for site in windbreak.sites()},
        list[RealSite](),
        list[str](),
    )
    registered = {feed.id for feed in windbreak.feeds()}
    for feed in workshop.feeds(feeds):
        if feed.id not in registered:
            windbreak.register_feed(feed)
            lines.append(windbreak.poll_feed(feed.id).text)
    if workshop.LICENCE.id not in {view.licence.id for view in windbreak.licences()}:
        windbreak.add_licence(workshop.LICENCE)
    whole = all((folder / slug / "installed").exists() for slug, _, _ in SITES)
    template = None if whole else prepared(folder)
    try:
        for slug, label, twin_of in SITES:
            real = RealSite(folder / slug, label, template=template)
            started.append(real)
            real.start()
            if slug in sites_now:
                continue
            made = [*(workshop.release(*which) for which in workshop.INSTALLED), workshop.OWN]
            real.put([catalogue.archive(release) for release in made])
            new = NewSite(
                label=label,
                address=real.address,
                client=CLIENT,
                system="wordpress",
                environment="staging" if twin_of else "production",
                twin_of=twin_of,
                tags=("real",),
            )
            windbreak.register_site(new, slug)
            real.paste(windbreak.link_line(slug).line)
            windbreak.link_site(slug)
            windbreak.seat_site(workshop.LICENCE.id, NewSeat(site=slug))  # the twin's rides along
            site = windbreak.refresh_site(slug)
            lines.append(
                f"{label} is linked, a real WordPress at {real.address}: {site.link.reason}"
            )
        if template is not None:
            shutil.rmtree(template)
        added = [slug for slug, _, _ in SITES if slug not in sites_now]
        if added:
            newer, archive = started[0].newer_system()
            since = date.today() - timedelta(days=30)  # so that it has soaked
            release = NewRelease(product=CORE, version=newer, published=since, source="ourselves")
            windbreak.type_in_release(release)
            windbreak.change_product(CORE, ProductChange(name="WordPress"))
            windbreak.put_on_shelf(archive, tuple(added))
            lines.append(f"WordPress {newer} is brought for them, made from the installed one")
    except BaseException:
        for real in started:
            real.stop()
        raise
    return started, lines
