"""A run on a real WordPress: a plugin moved and read back by the system itself; a fatal one put
back though every page of the site is broken by it; what leaves, and comes back.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import secrets
import shutil
import signal
import subprocess
import threading
import time
import zipfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

import httpx

from tests.agent.test_real import SITE, WithReal
from tests.links.adapter import followed
from tests.operations.within import RHONA
from windbreak.core.values.plans import ApprovePlan, SitePlan
from windbreak.core.values.releases import NewRelease
from windbreak.core.values.runs import Run
from windbreak.links.errors import CallFailed, UnderWay
from windbreak.operations.planning import planning, removing
from windbreak.operations.runs import runs
from windbreak.operations.scheduling import approving
from windbreak.operations.sites import sites
from windbreak.operations.tracking import catalogue, shelving

FORMS = "plugin/tide-forms"
_PLUGIN = """<?php
/*
Plugin Name: Tide Forms
Version: {version}
*/
add_filter(
	'the_content',
	static function ( $text ) {{ return $text . '<p>form {version}</p>'; }}
);
{more}
"""


def package(version: str, more: str = "") -> bytes:
    """Tide Forms as its maker packs it."""
    archive = io.BytesIO()
    with zipfile.ZipFile(archive, "w") as opened:
        opened.writestr("tide-forms/tide-forms.php", _PLUGIN.format(version=version, more=more))
        opened.writestr("tide-forms/languages/en.txt", f"words of {version}\n")
    return archive.getvalue()


FATAL = "no_such_function();"
_COMPILED = """<?php
$scripts = array_keys( opcache_get_status()['scripts'] );
echo json_encode( array_values( array_filter( $scripts, 'opcache_is_script_cached' ) ) );
"""
WHITE = "add_action( 'wp', static function () { exit; } );"
SHOP = """<?php
add_action( 'init', static function () {
	global $wpdb;
	if ( 'buy' === ( $_GET['tide'] ?? '' ) ) {
		$wpdb->insert( 'wp_tides', array( 'stock' => 2 ) );
	} elseif ( 'stock' === ( $_GET['tide'] ?? '' ) ) {
		$wpdb->query( 'UPDATE wp_tides SET stock = stock - 1 WHERE id = 1' );
	}
} );
"""
RUIN = (
    "UPDATE wp_posts SET post_title = 'ruined'; "
    "DELETE FROM wp_options WHERE option_name = 'blogname'"
)


class WithForms(WithReal):
    """A real site with a plugin of ours, and what its maker has released."""

    def setUp(self) -> None:
        super().setUp()
        self.plugin = self.real.root / "wp-content/plugins/tide-forms"
        with zipfile.ZipFile(io.BytesIO(package("1.0"))) as opened:
            opened.extractall(self.plugin.parent)
        self.activate("windbreak-agent/windbreak-agent.php", "tide-forms/tide-forms.php")
        self.linked()
        sites.refresh(self.context, SITE)
        new = NewRelease(product=FORMS, version="1.0", published="2026-01-01", source="its maker")
        catalogue.type_in(self.context, new, RHONA)
        shelving.put_on_shelf(self.context, package("1.0"), RHONA, (SITE,))

    def tearDown(self) -> None:
        self.activate("windbreak-agent/windbreak-agent.php")
        for path in sorted(self.plugin.rglob("*"), reverse=True):
            path.rmdir() if path.is_dir() and not path.is_symlink() else path.unlink()
        if self.plugin.exists():
            self.plugin.rmdir()
        self.real.error_log.unlink(missing_ok=True)
        super().tearDown()

    def brought(self, version: str, more: str = "") -> SitePlan:
        """A plan that takes a package which was brought for the site, approved."""
        shelving.put_on_shelf(self.context, package(version, more), RHONA, (SITE,))
        plan = planning.draft(self.context, SITE)
        self.assertEqual(plan.targets, {FORMS: version})
        return approving.approve(self.context, plan.id, ApprovePlan(why="a test"), RHONA)

    def carried_out(self, plan: SitePlan) -> Run:
        run = runs.start(self.context, plan.id, RHONA.name)
        return runs.carry_out(self.context, run.id)

    def page(self) -> httpx.Response:
        return httpx.get(f"{self.real.address}/?p=1", trust_env=False, timeout=30)

    def witness(self) -> dict[str, str]:
        return self.real.listed()


class RealRuns(WithForms):
    def test_a_plugin_is_moved_and_its_own_files_go_with_it(self) -> None:
        own = self.plugin / "languages/cy.txt"
        own.write_text("geiriau\n")
        self.assertIn("form 1.0", self.page().text)
        run = self.carried_out(self.brought("1.1"))
        self.assertEqual(run.state, "done", run.text)
        self.assertEqual(self.witness()["plugin/tide-forms"], "1.1")
        self.assertIn("form 1.1", self.page().text)
        self.assertEqual(own.read_text(), "geiriau\n")
        self.assertEqual((self.plugin / "languages/en.txt").read_text(), "words of 1.1\n")
        copies = [*Path(self.real.root).rglob("tide-forms.php")]
        self.assertEqual(copies, [self.plugin / "tide-forms.php"])

    def test_one_that_is_fatal_is_put_back_though_every_page_is_broken_by_it(self) -> None:
        run = self.carried_out(self.brought("1.2", FATAL))
        self.assertEqual(run.state, "put back", run.text)
        self.assertRegex(run.text, r"3 of 3 pages (worse|answer 5\d\d)")
        self.assertEqual(self.witness()["plugin/tide-forms"], "1.0")
        answer = self.page()
        self.assertEqual(answer.status_code, 200)
        self.assertIn("form 1.0", answer.text)

    def test_a_white_page_is_seen_and_put_back(self) -> None:
        run = self.carried_out(self.brought("1.3", WHITE))
        self.assertEqual(run.state, "put back", run.text)
        self.assertIn("form 1.0", self.page().text)

    def test_what_leaves_is_gone_and_the_pages_stand(self) -> None:
        plan = removing.draft(self.context, SITE, [FORMS])
        approving.approve(self.context, plan.id, ApprovePlan(why="a test"), RHONA)
        run = self.carried_out(plan)
        self.assertEqual(run.state, "done", run.text)
        self.assertNotIn("plugin/tide-forms", self.witness())
        self.assertEqual(self.page().status_code, 200)
        self.assertNotIn("form 1.0", self.page().text)

    def test_a_snapshot_brings_back_files_and_database(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        link, elsewhere = self.real.root / "wp-content/pictures", self.real.folder / "pictures"
        elsewhere.mkdir(exist_ok=True)
        link.symlink_to(elsewhere)
        self.addCleanup(link.unlink, missing_ok=True)
        self.sql("CREATE TABLE wp_tides (id INT PRIMARY KEY, words TEXT)")
        self.addCleanup(self.sql, "DROP TABLE IF EXISTS wp_tides")
        rows = ", ".join(f"({n}, 'it''s -- next\\n {n}')" for n in range(1203))
        self.sql(f"INSERT INTO wp_tides VALUES {rows}")
        whole = self.sql("CHECKSUM TABLE wp_tides")
        made = self.done(agent, "snapshot", "c-1-aa")
        self.assertEqual(agent.change("c-1-aa").state, "done")
        self.assertGreater(made["files"], 1000)
        self.sql(RUIN)
        self.sql("DELETE FROM wp_tides WHERE id > 3")
        link.unlink()
        (self.plugin / "tide-forms.php").write_text("<?php broken")
        self.assertNotEqual(self.page().status_code, 200)
        self.done(agent, "restore", "c-1-ab", snapshot=made["snapshot"])
        answer = self.page()
        self.assertEqual(answer.status_code, 200)
        self.assertIn("form 1.0", answer.text)
        self.assertNotIn("ruined", answer.text)
        self.assertEqual(self.sql("CHECKSUM TABLE wp_tides"), whole)
        self.assertEqual(link.readlink(), elsewhere)
        self.assertEqual(
            self.done(agent, "snapshot", "c-1-aa")["snapshot"], made["snapshot"]
        )  # once
        agent.do("drop", "c-1-ac", snapshots=[made["snapshot"]], kept=["c-1-ab"])

    def test_what_visitors_write_after_a_snapshot_is_noted_by_table(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        self.sql("CREATE TABLE wp_tides (id INT PRIMARY KEY AUTO_INCREMENT, stock INT)")
        self.addCleanup(self.sql, "DROP TABLE IF EXISTS wp_tides")
        self.sql("INSERT INTO wp_tides (stock) VALUES (7)")
        shop = self.real.root / "wp-content/mu-plugins/zz-shop.php"
        shop.write_text(SHOP)
        self.addCleanup(shop.unlink)
        made = self.done(agent, "snapshot", "c-6-aa")
        self.assertEqual(self.page().status_code, 200)
        seen = agent.look()
        self.assertEqual((seen.wrote, seen.written), ({}, made["written"]))  # a look writes nothing
        for asked in ("buy", "buy", "stock"):
            answer = httpx.get(f"{self.real.address}/?tide={asked}", trust_env=False, timeout=30)
            self.assertEqual(answer.status_code, 200)
        seen = agent.look()
        self.assertEqual(seen.wrote, {"wp_tides": 3})
        self.assertNotEqual(seen.written, made["written"])
        with self.assertRaises(CallFailed) as caught:
            self.done(
                agent, "restore", "c-6-ab", snapshot=made["snapshot"], written=made["written"]
            )
        self.assertEqual(caught.exception.failure, "not-as-expected")
        self.assertIn("2", self.sql("SELECT max(stock) FROM wp_tides WHERE id > 1"))
        self.done(agent, "restore", "c-6-ac", snapshot=made["snapshot"])
        self.assertIn("7", self.sql("SELECT sum(stock) FROM wp_tides"))
        self.assertEqual(agent.look().wrote, {})
        agent.do("purge", "c-6-ad")
        httpx.get(f"{self.real.address}/?tide=buy", trust_env=False, timeout=30)
        self.assertEqual(agent.look().wrote, {})  # no run is at work
        agent.do("drop", "c-6-ae", snapshots=[made["snapshot"]], kept=["c-6-ac"])

    def test_what_came_runs_where_php_never_looks_whether_a_file_changed(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        self.addCleanup(self.real.serve_with)
        # Nor can this PHP do anything else while the database is at a statement.
        self.real.serve_with("opcache.validate_timestamps=0", "disable_functions=mysqli_poll")
        made = self.done(agent, "snapshot", "c-4-aa")
        self.assertIn("form 1.0", self.page().text)
        compiled = self.compiled()
        self.assertIn(f"{self.real.root}/wp-includes/post.php", compiled)
        run = self.carried_out(self.brought("1.1"))
        self.assertEqual(run.state, "done", run.text)
        self.assertIn("form 1.1", self.page().text)
        self.done(agent, "restore", "c-4-ab", snapshot=made["snapshot"])
        self.assertLess(len(compiled - self.compiled()), 9)  # the rest is what it was
        self.assertIn("form 1.0", self.page().text)
        agent.do("drop", "c-4-ac", snapshots=[made["snapshot"]], kept=["c-4-ab"])

    def compiled(self) -> set[str]:
        """The files that the server has compiled."""
        script = self.real.root / "compiled.php"
        script.write_text(_COMPILED)
        self.addCleanup(script.unlink, missing_ok=True)
        url = f"{self.real.address}/compiled.php"
        return set(httpx.get(url, trust_env=False, timeout=30).json())

    def test_a_restore_takes_away_what_came_since_and_leaves_other_sites_alone(self) -> None:
        agent, root = sites.agent_for(self.context, SITE), self.real.root
        shop = root / "shop.example/public"
        shop.mkdir(parents=True)
        self.addCleanup(shutil.rmtree, shop.parent)
        (shop / "wp-load.php").write_text("<?php // another site")
        (shop / "order-1.pdf").write_text("an order")
        made = self.done(agent, "snapshot", "c-41-aa")
        state = next(root.parent.glob(".windbreak-*"))
        with zipfile.ZipFile(state / "snapshots/c-41-aa.zip") as opened:
            self.assertEqual([n for n in opened.namelist() if "shop.example" in n], [])
        (shop / "order-2.pdf").write_text("another order")
        (root / "since.php").write_text("<?php // it came since")
        (root / "since/deep").mkdir(parents=True)
        self.done(agent, "restore", "c-41-ab", snapshot=made["snapshot"])
        self.assertEqual([*root.glob("since*")], [])
        self.assertTrue((state / "kept/c-41-ab/since.php").exists())
        self.assertTrue((state / "kept/c-41-ab/since/deep").exists())
        self.assertEqual(sorted(p.name for p in shop.glob("*.pdf")), ["order-1.pdf", "order-2.pdf"])
        self.assertEqual(self.page().status_code, 200)
        agent.do("drop", "c-41-ac", snapshots=[made["snapshot"]], kept=["c-41-ab"])

    def test_what_is_not_what_it_says_touches_nothing(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        good = shelving.put_on_shelf(self.context, package("1.1"), RHONA, (SITE,))
        lies = good.model_copy(update={"version": "9.9"})
        for told, archive, code in (
            (lies, package("1.1"), "wrong-archive"),
            (good, package("1.1")[:-9], "checksum"),
            (good.model_copy(update={"product": "plugin/other"}), package("1.1"), "wrong-archive"),
            (
                good.model_copy(update={"product": "core/wordpress"}),
                package("1.1"),
                "wrong-archive",
            ),
        ):
            with self.assertRaises(CallFailed) as caught:
                change = f"c-2-{told.product.replace('/', '.')}-{told.version}-{len(archive)}"
                followed(agent, change, partial(agent.apply, change, told, archive, SITE))
            self.assertEqual(caught.exception.failure, code)
        with self.assertRaises(CallFailed) as caught:  # nor is the agent anybody's component
            agent.do("remove", "c-2-self", product="plugin/windbreak-agent")
        self.assertEqual(caught.exception.failure, "not-permitted")
        self.assertEqual(self.witness()["plugin/tide-forms"], "1.0")
        self.assertIn("form 1.0", self.page().text)


class BadNights(WithForms):
    """What happens on a bad night, to the real system."""

    def test_a_table_that_cannot_be_read_makes_no_snapshot(self) -> None:
        self.sql("CREATE TABLE wp_torn (id INT); ALTER TABLE wp_torn DISCARD TABLESPACE")
        self.addCleanup(self.sql, "DROP TABLE wp_torn")
        with self.assertRaises(CallFailed) as caught:
            self.done(sites.agent_for(self.context, SITE), "snapshot", "c-6-aa")
        self.assertIn("the database", str(caught.exception))
        state = next(self.real.root.parent.glob(".windbreak-*"))
        self.assertEqual([*state.glob("snapshots/c-6-aa*")], [])

    def test_a_snapshot_whose_database_is_cut_off_is_refused_and_touches_nothing(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        state = next(self.real.root.parent.glob(".windbreak-*"))
        with zipfile.ZipFile(state / "snapshots/c-7-aa.zip", "w") as cut:
            cut.writestr("database.sql", "DROP TABLE IF EXISTS `wp_posts`;\n-- next\n")
            cut.writestr("files/wp-content/index.php", "")
        with self.assertRaises(CallFailed) as caught:
            self.done(agent, "restore", "c-7-ab", snapshot="c-7-aa")
        self.assertEqual(caught.exception.failure, "wrong-archive")
        self.assertIn("form 1.0", self.page().text)
        agent.do("drop", "c-7-ac", snapshots=["c-7-aa"], kept=["c-7-ab"])

    def test_a_snapshot_with_a_damaged_file_leaves_no_tables_of_its_own(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        made = self.done(agent, "snapshot", "c-9-aa")
        file = next(self.real.root.parent.glob(".windbreak-*/snapshots/c-9-aa.zip"))
        with zipfile.ZipFile(file) as opened:  # the last file, so that its tables are begun
            last = [entry for entry in opened.infolist() if entry.file_size > 2000][-2]
        whole = bytearray(file.read_bytes())
        whole[last.header_offset + 1000] ^= 1
        file.write_bytes(whole)
        with self.assertRaises(CallFailed) as caught:
            self.done(agent, "restore", "c-9-ab", snapshot=made["snapshot"])
        self.assertIn("is not what was put in", str(caught.exception))
        self.assertNotIn("windbreak_", self.sql("SHOW TABLES"))
        self.assertEqual(self.page().status_code, 200)
        agent.do("drop", "c-9-ac", snapshots=[made["snapshot"]], kept=[])

    def test_two_changes_at_once_are_told_apart_and_the_second_is_told_to_wait(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        with self.assertRaises(UnderWay):
            agent.do("snapshot", "c-3-a")
        with self.assertRaises(CallFailed) as caught:
            agent.do("switch", "c-3-b", product=FORMS, on=True)
        self.assertEqual(caught.exception.failure, "busy")
        self.assertEqual(self.done(agent, "snapshot", "c-3-a")["snapshot"], "c-3-a")
        self.assertEqual(agent.do("switch", "c-3-b", product=FORMS, on=True), {"was": True})
        agent.do("drop", "c-3-c", snapshots=["c-3-a"], kept=[])

    def test_a_database_that_dies_in_mid_run_makes_the_run_wait_and_nothing_is_lost(self) -> None:
        plan = self.brought("1.1")
        run = runs.start(self.context, plan.id, RHONA.name)

        def go() -> None:
            runs.carry_out(self.context, run.id)
            self.context.store.close()

        thread = threading.Thread(target=go)
        thread.start()
        self.until(lambda: ("snapshot", "done") in self.acts(run.id))
        self.real.kill_database()
        time.sleep(3)
        self.real.start_database()
        thread.join(120)
        ended = self.context.store.runs.get(run.id)
        self.assertEqual(ended.state, "done", ended.text)
        applied = [one for one in self.acts(run.id) if one == (f"apply 1 {FORMS}", "done")]
        self.assertEqual(len(applied), 1)
        self.assertEqual(self.witness()["plugin/tide-forms"], "1.1")
        self.assertIn("form 1.1", self.page().text)

    def test_php_killed_in_mid_restore_leaves_the_old_or_the_new_and_never_half_of_each(
        self,
    ) -> None:
        agent = sites.agent_for(self.context, SITE)
        # Large enough that its loading can be met under way.
        self.sql("CREATE TABLE wp_tide_long (id INT PRIMARY KEY, words TEXT)")
        self.addCleanup(self.sql, "DROP TABLE IF EXISTS wp_tide_long")
        self.sql("INSERT INTO wp_tide_long SELECT seq, REPEAT('ebb ', 100) FROM seq_1_to_60000")
        made = self.done(agent, "snapshot", "c-8-aa")
        state = next(self.real.root.parent.glob(".windbreak-*"))
        seen = set[str]()
        for n, at in enumerate(("staging", "tables", "putting in place", "putting in place")):
            change = f"c-8-r{n}"
            self.sql("UPDATE wp_posts SET post_title = 'ruined' WHERE ID = 1")
            marker = self.plugin / "since.txt"
            marker.write_text("since")
            with self.assertRaises(UnderWay):
                agent.do("restore", change, snapshot=made["snapshot"])
            match at:
                case "staging":
                    self.until((state / "staging" / change / "files").exists)
                case "tables":
                    self.until(lambda: "windbreak_new_" in self.sql("SHOW TABLES"))
                case _:
                    self.until(lambda c=change: self.is_near_its_end(state, c))
            for pid in self.real.server_processes():
                os.kill(pid, signal.SIGKILL)
            self.real.serve_again()
            self.assertIn(agent.change(change).state, ("done", "failed"))
            titles = self.sql("SELECT post_title FROM wp_posts WHERE ID = 1")
            old = ("ruined" in titles, marker.exists())
            self.assertIn(old, {(True, True), (False, False)}, at)
            seen.add("old" if old[0] else "new")
            self.assertFalse((state / "restore.json").exists())
            self.assertEqual(self.page().status_code, 200)
        self.done(agent, "restore", "c-8-last", snapshot=made["snapshot"])
        self.assertNotIn("ruined", self.sql("SELECT post_title FROM wp_posts WHERE ID = 1"))
        self.assertNotIn("windbreak_", self.sql("SHOW TABLES"))
        self.assertIn("old", seen)

    def is_near_its_end(self, state: Path, change: str) -> bool:
        """Whether a restore is being put in place, or has been."""
        if (state / "restore.json").exists():
            return True
        with contextlib.suppress(ValueError):  # it is just being written
            became = json.loads((state / f"changes/{change}.json").read_text())
            return bool(became["state"] != "running" or became["phase"] == "putting in place")
        return False

    def test_where_there_is_no_room_nothing_is_touched_and_it_is_told(self) -> None:
        small = self.real.folder / "small"
        small.mkdir(exist_ok=True)
        mounted = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", "size=3m", "tmpfs", str(small)], capture_output=True
        )
        if mounted.returncode:
            self.skipTest("no small disk can be mounted here")
        self.addCleanup(subprocess.run, ["umount", "-l", str(small)], capture_output=True)
        config = self.real.root / "wp-config.php"
        whole = config.read_text()
        self.addCleanup(config.write_text, whole)
        there = f"<?php define( 'WINDBREAK_STATE', '{small}/state' );"
        config.write_text(whole.replace("<?php", there, 1))
        agent = self.linked()
        with self.assertRaises(CallFailed) as caught:
            self.done(agent, "snapshot", "c-5-aa")
        self.assertEqual(caught.exception.failure, "no-room")
        self.assertEqual([*small.rglob("*.part")], [])
        big = package("1.1", f"// {secrets.token_hex(500_000)}")
        kept = shelving.put_on_shelf(self.context, big, RHONA, (SITE,))
        with self.assertRaises(CallFailed) as caught:
            agent.apply("c-5-ab", kept, big, SITE)
        self.assertEqual(caught.exception.failure, "no-room")
        self.assertEqual(self.witness()["plugin/tide-forms"], "1.0")
        self.assertIn("form 1.0", self.page().text)

    def acts(self, run: int) -> list[tuple[str, str]]:
        return [(str(line.act), line.state) for line in self.context.store.journal.all(run=run)]

    def until(self, holds: Callable[[], bool]) -> None:
        end = time.monotonic() + 60
        while not holds():
            self.assertLess(time.monotonic(), end, "it did not come")
            time.sleep(0.02)
