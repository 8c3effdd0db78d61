"""The system itself updated through its own upgrader, and brought back where that ends half-way."""

from __future__ import annotations

import json
import os
import signal
import threading
import time
from functools import partial
from pathlib import Path
from typing import ClassVar

import httpx

from tests.agent.test_real import SITE, WithReal
from tests.links.adapter import followed
from tests.operations.within import RHONA
from windbreak.core.values.packages import Package
from windbreak.core.values.plans import ApprovePlan
from windbreak.links.errors import CallFailed, LinkError
from windbreak.operations.planning import planning
from windbreak.operations.runs import runs
from windbreak.operations.scheduling import approving
from windbreak.operations.sites import sites
from windbreak.operations.tracking import shelving
from windbreak.standins import real_hands

CORE = "core/wordpress"


class Core(WithReal):
    newer: ClassVar[str]
    archive: ClassVar[bytes]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.newer, cls.archive = cls.real.newer_system()

    def setUp(self) -> None:
        super().setUp()
        self.linked()
        sites.refresh(self.context, SITE)
        self.was = self.there()

    def there(self) -> str:
        inventory = sites.agent_for(self.context, SITE).inventory(SITE, self.context.clock())
        return inventory.version_of(CORE) or ""

    def state(self) -> Path:
        return next(self.real.root.parent.glob(".windbreak-*"))

    def page(self) -> httpx.Response:
        return httpx.get(self.real.address, trust_env=False, timeout=30)

    def package(self) -> Package:
        return shelving.put_on_shelf(self.context, self.archive, RHONA, (SITE,))

    def test_a_run_takes_it_through_the_system_s_own_upgrader_and_it_is_put_back(self) -> None:
        package = self.package()
        self.assertEqual((package.product, package.version), (CORE, self.newer))
        self.sql(  # what an update that died leaves: the system's own lock, minutes old
            "INSERT INTO wp_options (option_name, option_value, autoload) "
            "VALUES ('core_updater.lock', UNIX_TIMESTAMP() - 60, 'no')"
        )
        plan = planning.draft(self.context, SITE)
        self.assertEqual(plan.targets, {CORE: self.newer})
        approving.approve(self.context, plan.id, ApprovePlan(why="a test"), RHONA)
        run = runs.carry_out(self.context, runs.start(self.context, plan.id, RHONA.name).id)
        self.assertEqual(run.state, "done", run.text)
        self.assertEqual(self.real.listed()[CORE], self.newer)
        self.assertNotIn("updater.lock", self.sql("SELECT option_name FROM wp_options"))
        self.assertEqual(self.page().status_code, 200)
        self.assertFalse((self.real.root / ".maintenance").exists())
        agent = sites.agent_for(self.context, SITE)
        (change,) = [
            e.change
            for e in self.context.store.journal.all(run=run.id)
            if str(e.act) == f"apply 1 {CORE}" and e.state == "done"
        ]
        self.done(agent, "put-back", "c-1-back", product=CORE, of=change)
        self.assertEqual(self.real.listed()[CORE], self.was)
        self.assertEqual(self.page().status_code, 200)
        # What is kept shares no file with what is in place: whoever writes there spares it.
        version = self.real.root / "wp-includes/version.php"
        version.write_text(version.read_text().replace(self.was, self.newer))
        self.assertEqual(self.real.listed()[CORE], self.newer)
        self.done(agent, "put-back", "c-1-again", product=CORE, of=change)
        self.assertEqual(self.real.listed()[CORE], self.was)

    def test_where_it_dies_half_way_the_next_request_brings_the_old_one_back(self) -> None:
        agent, package = sites.agent_for(self.context, SITE), self.package()
        before = self.real.server_processes()
        (self.real.root / "wp-includes.half/of-one-that-died").mkdir(parents=True)
        with self.assertRaises(LinkError):
            agent.apply("c-2-aa", package, self.archive, SITE)
        maintenance = self.real.root / ".maintenance"
        end = time.monotonic() + 30
        while not (maintenance.exists() and "Windbreak" in maintenance.read_text()):
            self.assertLess(time.monotonic(), end)
            time.sleep(0.001)
        for pid in before:
            os.kill(pid, signal.SIGKILL)
        self.real.serve_again()
        end = time.monotonic() + 30
        while self.page().status_code != 200:
            self.assertLess(time.monotonic(), end)
            time.sleep(0.2)
        self.assertFalse(maintenance.exists())
        self.assertFalse((self.real.root / "wp-includes.half").exists())
        agent = sites.agent_for(self.context, SITE)
        self.assertEqual(agent.change("c-2-aa").code, "timed-out")
        self.assertEqual(self.there(), self.was)
        self.assertEqual(self.real.listed()[CORE], self.was)
        self.assertFalse((self.state() / "core.json").exists())
        # And it can be taken then.
        call = partial(agent.apply, "c-2-ab", package, self.archive, SITE)
        self.assertEqual(followed(agent, "c-2-ab", call)["version"], self.newer)
        self.done(agent, "put-back", "c-2-ac", product=CORE, of="c-2-ab")
        self.assertEqual(self.there(), self.was)

    def test_where_the_disk_fills_while_it_is_opened_the_old_one_stays_and_the_site_answers(
        self,
    ) -> None:
        try:
            self.enterContext(real_hands.on_a_small_disk(self.real, 260))
        except RuntimeError as error:
            self.skipTest(f"no small disk can be mounted here: {error}")
        root = self.real.root
        agent, package = sites.agent_for(self.context, SITE), self.package()
        filling = threading.Thread(target=real_hands.fill_disk, args=[self.real])
        filling.start()
        with self.assertRaises(CallFailed) as caught:
            call = partial(agent.apply, "c-5-aa", package, self.archive, SITE)
            followed(agent, "c-5-aa", call)
        filling.join()
        self.assertEqual(caught.exception.failure, "no-room", caught.exception)
        self.assertEqual(self.page().status_code, 200)  # with no byte of room
        self.assertEqual(self.real.listed()[CORE], self.was)
        self.assertFalse((root / ".maintenance").exists())
        self.assertEqual([*root.glob("wp-*.back"), *root.glob("wp-content/upgrade/*")], [])
        (root / "filler").unlink()
        call = partial(agent.apply, "c-5-ab", package, self.archive, SITE)
        self.assertEqual(followed(agent, "c-5-ab", call)["version"], self.newer)

    def test_what_is_no_package_of_it_touches_nothing(self) -> None:
        agent, package = sites.agent_for(self.context, SITE), self.package()
        lies = package.model_copy(update={"version": "99.0"})
        with self.assertRaises(CallFailed) as caught:
            call = partial(agent.apply, "c-3-aa", lies, self.archive, SITE)
            followed(agent, "c-3-aa", call)
        self.assertEqual(caught.exception.failure, "wrong-archive")
        self.assertEqual(self.there(), self.was)
        self.assertEqual([*self.state().glob("kept/c-3-*")], [])

    def test_where_its_database_was_moved_on_nothing_goes_back_but_by_a_restore(self) -> None:
        agent, package = sites.agent_for(self.context, SITE), self.package()
        followed(agent, "c-4-aa", partial(agent.apply, "c-4-aa", package, self.archive, SITE))
        was = self.sql("SELECT option_value FROM wp_options WHERE option_name = 'db_version'")
        number = was.split()[-1]
        self.db_version(int(number) + 1)
        with self.assertRaises(CallFailed) as caught:
            self.done(agent, "put-back", "c-4-ab", product=CORE, of="c-4-aa")
        self.assertEqual(caught.exception.failure, "not-permitted")
        # Nor where the update died after that.
        note = {"kept": str(self.state() / "kept/c-4-aa"), "root": str(self.real.root)}
        (self.state() / "core.json").write_text(json.dumps(note))
        self.assertEqual(self.there(), self.newer)
        self.assertFalse((self.state() / "core.json").exists())
        self.db_version(int(number))
        self.done(agent, "put-back", "c-4-ac", product=CORE, of="c-4-aa")
        self.assertEqual(self.there(), self.was)

    def db_version(self, number: int) -> None:
        self.sql(
            f"UPDATE wp_options SET option_value = '{number}' WHERE option_name = 'db_version'"
        )
