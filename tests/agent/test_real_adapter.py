"""The suite of every adapter, over the real system."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from tests.agent.test_real import SITE
from tests.agent.test_real_runs import FORMS, WithForms, package
from tests.links.adapter import Adapter, System
from windbreak.operations.sites import sites
from windbreak.standins import catalogue, workshop


class Real(Adapter, WithForms):
    def setUp(self) -> None:
        super().setUp()
        self.system = System(
            context=self.context,
            site=SITE,
            address=self.real.address,
            folder=self.plugin,
            plugin=FORMS,
            was="1.0",
            now="1.1",
            archives={version: package(version) for version in ("1.0", "1.1")},
            another=catalogue.archive(workshop.release("plugin/dune-dock", "1.0")),
            agent=partial(sites.agent_for, self.context, SITE),
            slow=self.slow,
        )

    def slow(self, call: str, seconds: float) -> Callable[[], object]:
        """Much to read: a file of some hundred megabytes, of which the disk holds nothing."""
        large = self.real.root / "wp-content/large.bin"
        with large.open("wb") as written:
            written.truncate(int(seconds * 200 * 2**20))
        return partial(large.unlink, missing_ok=True)


del Adapter, WithForms
