"""What others do on a site that is worked on: its owner updates something by hand, its own updater
has old records, somebody's earlier try left a folder. What each did is seen by the system itself.
"""

from __future__ import annotations

import concurrent.futures
import io
import time
import zipfile
from pathlib import Path

from tests.agent.test_real import SITE
from tests.agent.test_real_runs import FORMS, WithForms, package
from tests.operations.within import RHONA
from windbreak.links.errors import CallFailed
from windbreak.operations.sites import sites
from windbreak.operations.tracking import shelving
from windbreak.standins import real_hands

MAIN = "tide-forms/tide-forms.php"


class Beside(WithForms):
    def test_its_own_updater_is_paused_for_a_run_and_on_again_after_it(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        self.assertFalse(real_hands.updater_is_off(self.real))
        self.assertEqual(agent.do("updates", "c-20-a", on=False), {"was": True})
        self.assertTrue(real_hands.updater_is_off(self.real))
        self.assertFalse(agent.inventory(SITE, self.context.clock()).automatic_updates)
        agent.do("updates", "c-20-b", on=True)
        self.assertFalse(real_hands.updater_is_off(self.real))

        run = self.carried_out(self.brought("1.1"))
        acts = [(str(x.act), x.state) for x in self.context.store.journal.all(run=run.id)]
        self.assertIn(("updates-paused", "done"), acts)
        self.assertFalse(real_hands.updater_is_off(self.real))
        self.assertEqual(self.context.store.debts.all(site=SITE, paid=False), [])

    def test_what_is_not_what_it_says_is_refused_by_hand_too(self) -> None:
        good = package("1.1")
        renamed, headless = io.BytesIO(), io.BytesIO()
        with zipfile.ZipFile(renamed, "w") as one, zipfile.ZipFile(headless, "w") as other:
            with zipfile.ZipFile(io.BytesIO(good)) as whole:
                for name in whole.namelist():
                    one.writestr(
                        name.replace("tide-forms/", "tide-forms-main/", 1), whole.read(name)
                    )
            other.writestr("tide-forms/tide-forms.php", "<?php // no header\n")
        for archive, version, why in (
            (renamed.getvalue(), "1.1", "its folder is tide-forms-main, and not tide-forms"),
            (headless.getvalue(), "1.1", "it holds no plugin that works"),
            (good, "1.2", "it holds version 1.1, and not 1.2"),
        ):
            code, text = real_hands.upgraded_by_hand(self.real, MAIN, version, archive)
            self.assertEqual(code, "windbreak_wrong_archive")
            self.assertIn(why, text)
            self.assertEqual(self.witness()["plugin/tide-forms"], "1.0")
            self.assertTrue("form 1.0" in self.page().text, "the plugin is off")
        self.assertEqual(real_hands.upgraded_by_hand(self.real, MAIN, "1.1", good), ("", ""))
        self.assertEqual(self.witness()["plugin/tide-forms"], "1.1")

    def test_a_theme_without_its_index_is_refused_by_hand(self) -> None:
        style = self.real.root / "wp-content/themes/twentytwentyone/style.css"
        archive = io.BytesIO()
        with zipfile.ZipFile(archive, "w") as opened:
            opened.writestr("twentytwentyone/style.css", style.read_text())
        told = real_hands.upgraded_by_hand(self.real, "twentytwentyone", "9.0", archive.getvalue())
        self.assertIn("it holds no theme that works", told[1])
        self.assertTrue((style.parent / "index.php").exists())
        self.assertEqual(self.page().status_code, 200)

    def test_two_updates_at_once_wait_for_each_other(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        self.done(agent, "snapshot", "c-21-a")  # as a run begins
        code, text = real_hands.upgraded_by_hand(self.real, MAIN, "1.1", package("1.1"))
        self.assertEqual(code, "windbreak_at_work")
        self.assertIn("Try again", text)
        self.assertEqual(self.witness()["plugin/tide-forms"], "1.0")
        agent.do("purge", "c-21-b")  # and as it ends

        with concurrent.futures.ThreadPoolExecutor() as hands:
            owner = hands.submit(
                real_hands.upgraded_by_hand, self.real, MAIN, "1.1", package("1.1"), seconds=4
            )
            opened = self.real.root / "wp-content/upgrade"
            while not owner.done() and not any(opened.glob("*/tide-forms/tide-forms.php")):
                time.sleep(0.01)
            with self.assertRaises(CallFailed) as refused:
                agent.do("switch", "c-21-x", product=FORMS, on=True)
            self.assertEqual((refused.exception.failure, owner.result()), ("busy", ("", "")))
        agent.do("switch", "c-21-c", product=FORMS, on=True)  # once that is done
        self.assertEqual(self.witness()["plugin/tide-forms"], "1.1")

    def test_a_record_of_what_can_be_had_is_not_left_stale(self) -> None:
        real_hands.offer(self.real, MAIN, "1.0.5", self.folder / "gone.zip")
        self.assertIn(MAIN, real_hands.offers(self.real))
        run = self.carried_out(self.brought("1.1"))
        self.assertEqual(run.state, "done", run.text)
        self.assertEqual(self.witness()["plugin/tide-forms"], "1.1")
        self.assertNotIn(MAIN, real_hands.offers(self.real))

    def test_what_an_earlier_try_left_is_in_nobody_s_way_and_is_not_lost(self) -> None:
        self.activate("windbreak-agent/windbreak-agent.php")
        (self.plugin / "tide-forms.php").unlink()  # half a folder: the system lists no such plugin
        (self.plugin / "notes.txt").write_text("half of 0.9")
        left = self.real.root / "wp-content/upgrade/tide-forms"
        left.mkdir(parents=True, exist_ok=True)
        (left / "tide-forms.php").write_text("<?php // of a try that died")
        self.assertNotIn("plugin/tide-forms", self.witness())
        agent = sites.agent_for(self.context, SITE)
        archive = package("1.1")
        kept = shelving.put_on_shelf(self.context, archive, RHONA, (SITE,))
        agent.apply("c-22-a", kept, archive, SITE)
        self.assertEqual(self.witness()["plugin/tide-forms"], "1.1")
        self.assertEqual([*Path(self.plugin).glob("notes.txt")], [])
        agent.do("put-back", "c-22-b", product=FORMS, of="c-22-a")
        self.assertEqual((self.plugin / "notes.txt").read_text(), "half of 0.9")
