"""Folders swapped where the agent dies in between, and where its state lies on another disk."""

from __future__ import annotations

import contextlib
import io
import json
import os
import shutil
import signal
import subprocess
import threading
import time
import zipfile
from pathlib import Path

from tests.agent.test_real import SITE
from tests.agent.test_real_runs import FORMS, WithForms, package
from tests.operations.within import RHONA
from windbreak.links.errors import CallFailed, LinkError
from windbreak.operations.sites import sites
from windbreak.operations.tracking import shelving


class WithState(WithForms):
    @property
    def state(self) -> Path:
        return next(self.real.root.parent.glob(".windbreak-*"))

    def version(self) -> str | None:
        now = self.context.clock()
        told = sites.agent_for(self.context, SITE).inventory(SITE, now).version_of(FORMS)
        self.assertEqual(self.witness().get(FORMS), told)  # the system lists nothing else
        return told

    def nothing_is_left(self) -> None:
        for folder in (self.real.root, self.plugin.parent, self.real.root / "wp-content/themes"):
            self.assertEqual([*folder.glob(".windbreak-*")], [])
        self.assertFalse((self.state / "swap.json").exists())


class Deaths(WithState):
    """The agent dies in mid-swap: each of the places that folders can have then."""

    def unpacked(self, place: Path, version: str) -> None:
        opened = self.folder / "opened"
        with zipfile.ZipFile(io.BytesIO(package(version))) as archive:
            archive.extractall(opened)
        (opened / "tide-forms").rename(place)

    def test_what_was_being_swapped_is_whole_at_the_next_call(self) -> None:
        place = self.plugin.parent
        new, old = place / ".windbreak-new-tide-forms", place / ".windbreak-old-tide-forms"
        half = place / ".windbreak-half-tide-forms"
        aside, fresh = self.state / "kept/c-9-dead", self.state / "staging/c-9-dead"
        # Which version lies where; whether the new one was noted to be in its place; what it is
        # to be, and where the other has to lie then.
        for layout, done, version, others in (
            ({self.plugin: "1.0", new: "1.1"}, False, "1.0", fresh),
            ({old: "1.0", new: "1.1"}, False, "1.0", fresh),
            ({self.plugin: "1.1", old: "1.0"}, False, "1.0", fresh),
            ({self.plugin: "1.0", old: "1.0", new: "1.1"}, False, "1.0", fresh),
            ({self.plugin: "1.0", half: "1.0", fresh: "1.1"}, False, "1.0", fresh),
            ({self.plugin: "1.0", new: "1.1", fresh: "1.0"}, False, "1.0", fresh),
            ({self.plugin: "1.1", old: "1.0"}, True, "1.1", aside),
            ({self.plugin: "1.1", old: "1.0", aside: "1.1"}, True, "1.1", aside),
        ):
            with self.subTest(layout={p.name: v for p, v in layout.items()}, done=done):
                for folder in (self.plugin, new, old, half, aside, fresh):
                    shutil.rmtree(folder, ignore_errors=True)
                    if folder in layout:
                        self.unpacked(folder, layout[folder])
                told = {"target": self.plugin, "aside": aside, "fresh": fresh, "new": new}
                note = {key: str(path) for key, path in {**told, "old": old}.items()}
                (self.state / "swap.json").write_text(json.dumps({**note, "done": done}))
                self.assertEqual(self.version(), version)
                other = "1.1" if version == "1.0" else "1.0"
                self.assertIn(f"Version: {other}", (others / "tide-forms.php").read_text())
                self.nothing_is_left()

    def test_what_a_change_that_died_had_laid_out_goes_with_the_next_change(self) -> None:
        staging = self.state / "staging"
        (staging / "c-8-dead/tide-forms").mkdir(parents=True)
        (staging / "c-8-dead/tide-forms/half.php").write_text("<?php")
        (staging / "c-8-dead.sql").write_text("half")
        (staging / f"held-{'0' * 64}").write_text("a part of a package")
        agent = sites.agent_for(self.context, SITE)
        agent.inventory(SITE, self.context.clock())
        self.assertTrue((staging / "c-8-dead.sql").exists())  # it may be under way
        agent.do("switch", "c-8-next", product=FORMS, on=True)
        self.assertEqual([path.name for path in staging.iterdir()], [f"held-{'0' * 64}"])

    def test_a_swap_that_an_older_agent_began_is_undone(self) -> None:
        aside = self.state / "kept/c-9-older"
        (self.state / "swap.json").write_text(
            json.dumps({"target": str(self.plugin), "aside": str(aside)})
        )
        self.plugin.rename(aside)
        self.assertEqual(self.version(), "1.0")
        self.nothing_is_left()


class AnotherDisk(WithState):
    """The agent's state on a disk of its own: nothing can be renamed from there to the site."""

    def setUp(self) -> None:
        super().setUp()
        state, aside = self.state, self.state.with_name("aside")
        shutil.copytree(state, aside)
        mount = ["mount", "-t", "tmpfs", "-o", "size=400m", "tmpfs", str(state)]
        if subprocess.run(mount, capture_output=True).returncode:
            shutil.rmtree(aside)
            self.skipTest("no disk can be mounted here")
        self.addCleanup(subprocess.run, ["umount", "-l", str(state)], capture_output=True)
        shutil.copytree(aside, state, dirs_exist_ok=True)
        shutil.rmtree(aside)
        self.assertNotEqual(state.stat().st_dev, self.real.root.stat().st_dev)

    def test_a_package_is_applied_put_back_and_taken_away(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        (self.plugin / "link").symlink_to("tide-forms.php")
        (self.plugin / "tide-forms.php").chmod(0o640)
        kept = shelving.put_on_shelf(self.context, package("1.1"), RHONA, (SITE,))
        agent.apply("c-30-a", kept, package("1.1"), SITE)
        self.assertEqual(self.version(), "1.1")
        self.assertIn("form 1.1", self.page().text)
        agent.do("put-back", "c-30-b", product=FORMS, of="c-30-a")
        self.assertEqual(self.version(), "1.0")
        self.assertEqual((self.plugin / "link").readlink(), Path("tide-forms.php"))
        self.assertEqual((self.plugin / "tide-forms.php").stat().st_mode & 0o777, 0o640)
        agent.do("remove", "c-30-c", product=FORMS)
        self.assertIsNone(self.version())
        agent.do("put-back", "c-30-d", product=FORMS, of="c-30-c")
        self.assertEqual(self.version(), "1.0")
        self.nothing_is_left()

    def test_a_restore_is_whole_also_where_php_is_killed_in_it(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        made = self.done(agent, "snapshot", "c-31-a")
        marker = self.real.root / "wp-content/uploads/after.txt"

        def ruin() -> None:
            marker.parent.mkdir(exist_ok=True)
            marker.write_text("written after the snapshot")
            self.sql("UPDATE wp_posts SET post_title = 'ruined'")

        def restored(change: str) -> None:
            self.done(agent, "restore", change, snapshot=made["snapshot"])

        def killed(change: str) -> None:
            with contextlib.suppress(LinkError):
                restored(change)

        for n, part in enumerate(("wp-admin", "wp-content", "wp-includes")):
            ruin()
            asked = threading.Thread(target=killed, args=[f"c-31-b{n}"])
            asked.start()
            half = self.real.root / f".windbreak-half-.windbreak-new-{part}"
            while asked.is_alive() and not half.exists():
                time.sleep(0.001)
            for pid in self.real.server_processes():
                os.kill(pid, signal.SIGKILL)
            self.real.serve_again()
            agent.change(f"c-31-b{n}")  # any call finishes what was begun
            asked.join()
            self.assertEqual(self.page().status_code, 200)
            self.assertFalse(marker.exists(), part)
            self.assertNotIn("ruined", self.sql("SELECT post_title FROM wp_posts"))
            self.nothing_is_left()
        ruin()
        restored("c-31-c")
        self.assertFalse(marker.exists())

    def test_where_the_site_s_disk_has_no_room_nothing_is_touched(self) -> None:
        agent = sites.agent_for(self.context, SITE)
        archive = io.BytesIO(package("1.1"))
        with zipfile.ZipFile(archive, "a") as opened:
            opened.writestr("tide-forms/large.bin", os.urandom(6 * 2**20))
        data = archive.getvalue()
        plugins, aside = self.plugin.parent, self.plugin.parent.with_name("plugins-aside")
        shutil.copytree(plugins, aside)
        self.addCleanup(shutil.rmtree, aside)
        mount = ["mount", "-t", "tmpfs", "-o", "size=5m", "tmpfs", str(plugins)]
        subprocess.run(mount, check=True, capture_output=True)
        self.addCleanup(subprocess.run, ["umount", "-l", str(plugins)], capture_output=True)
        shutil.copytree(aside, plugins, dirs_exist_ok=True)
        kept = shelving.put_on_shelf(self.context, data, RHONA, (SITE,))
        with self.assertRaises(CallFailed) as caught:
            agent.apply("c-32-a", kept, data, SITE)
        self.assertEqual(caught.exception.failure, "no-room", caught.exception)
        self.assertEqual(self.version(), "1.0")
        self.assertEqual(self.page().status_code, 200)
        self.nothing_is_left()
