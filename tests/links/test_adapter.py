"""The suite of every adapter, over the stand-in system."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from tests.links.adapter import Adapter, System
from tests.operations.within import WithContext
from windbreak.operations.sites import sites
from windbreak.standins import catalogue, faults

SITE = "skerry-light"


class StandIn(Adapter, WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.site(SITE)
        made = {v: catalogue.find("plugin/oarlock", v) for v in ("7.1.2", "7.2")}
        self.system = System(
            context=self.context,
            site=SITE,
            address=self.where[SITE],
            folder=self.demo.standins_folder / SITE / "site/plugins/oarlock",
            plugin="plugin/oarlock",
            was="7.1.2",
            now="7.2",
            archives={version: catalogue.archive(one) for version, one in made.items()},
            another=catalogue.archive(catalogue.find("plugin/lee", "5.5")),
            agent=partial(sites.agent_for, self.context, SITE),
            slow=self.slow,
        )

    def slow(self, call: str, seconds: float) -> Callable[[], object]:
        told = self.demo.standins_folder / SITE / "agent/faults.json"
        faults.put(told, {"slow": {call: seconds}})
        return partial(told.unlink, missing_ok=True)


del Adapter
