"""What every system's agent has to do, whichever it sits in: one suite for all of them.

A test case that has a ``System`` mixes this in; all else is asked of the agent, over HTTP.
"""

from __future__ import annotations

import base64
import hashlib
import io
import itertools
import os
import shutil
import stat
import time
import zipfile
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple
from unittest import TestCase, mock

import httpx

from windbreak.core.values.packages import Package
from windbreak.links import signed_agent
from windbreak.links.adapter import Agent, SentPart, Start
from windbreak.links.errors import CallFailed, UnderWay
from windbreak.links.signed_agent import SignedAgent
from windbreak.links.visiting import PASS
from windbreak.operations.context import Context


class System(NamedTuple):
    """A site of one system. ``plugin`` is there in ``was``, and is shown on ``page`` with its
    version; ``archives`` are its packages, by version, and ``another`` is one of another plugin.
    ``slow`` lets a call take some seconds, until what it returns is called.
    """

    context: Context
    site: str
    address: str
    folder: Path
    plugin: str
    was: str
    now: str
    archives: dict[str, bytes]
    another: bytes
    agent: Callable[[], Agent]
    slow: Callable[[str, float], Callable[[], object]]


_numbers = itertools.count(1)


def followed(agent: Agent, change: str, call: Callable[[], dict[str, Any]]) -> dict[str, Any]:
    """What a change comes to, also where it is told to be under way. Raises CallFailed."""
    end = time.monotonic() + 120
    try:
        return call()
    except UnderWay:
        while (became := agent.change(change)).state == "running":
            assert time.monotonic() < end, became
            assert became.sign is not None
            time.sleep(0.1)
    if became.state != "done":
        raise CallFailed(became.code or "unknown", became.detail)
    return became.result


class Adapter(TestCase):
    system: System

    def change(self) -> str:
        return f"c-{next(_numbers)}-suite"

    def done(self, call: str, change: str | None = None, **args: object) -> dict[str, Any]:
        change = change or self.change()
        agent = self.system.agent()
        return self.followed(change, partial(agent.do, call, change, **args))

    def followed(self, change: str, call: Callable[[], dict[str, Any]]) -> dict[str, Any]:
        return followed(self.system.agent(), change, call)

    def refused(self, code: str, call: Callable[[], object]) -> CallFailed:
        with self.assertRaises(CallFailed) as caught:
            call()
        self.assertEqual(caught.exception.failure, code, caught.exception)
        return caught.exception

    def package(self, version: str, archive: bytes | None = None) -> Package:
        data = self.system.archives[version] if archive is None else archive
        return Package(
            id=hashlib.sha256(data).hexdigest(),
            product=self.system.plugin,
            version=version,
            name="",
            folder="",
            size=len(data),
            kept_at=self.system.context.clock(),
            source="a test",
        )

    def apply(
        self, version: str, change: str | None = None, archive: bytes | None = None, **more: Any
    ) -> dict[str, Any]:
        change, data = change or self.change(), archive or self.system.archives[version]
        package = self.package(version, data).model_copy(update=more.pop("lies", {}))
        site = more.pop("site", self.system.site)
        agent = self.system.agent()
        return self.followed(change, partial(agent.apply, change, package, data, site, **more))

    def there(self, product: str | None = None) -> str | None:
        now = self.system.context.clock()
        inventory = self.system.agent().inventory(self.system.site, now)
        return inventory.version_of(product or self.system.plugin)

    def page(self, pass_: str = "") -> httpx.Response:
        headers = {"cache-control": "no-cache"} | ({PASS: pass_} if pass_ else {})
        return httpx.get(self.system.address, headers=headers, trust_env=False, timeout=30)

    # What is there.

    def test_an_inventory_tells_core_runtime_and_components(self) -> None:
        inventory = self.system.agent().inventory(self.system.site, self.system.context.clock())
        kinds = {c.product.partition("/")[0] for c in inventory.components}
        self.assertEqual(kinds, {"core", "runtime", "theme", "plugin"})
        (plugin,) = [c for c in inventory.components if c.product == self.system.plugin]
        self.assertEqual((plugin.version, plugin.active), (self.system.was, True))
        self.assertGreater(inventory.free_mb or 0, 0)
        self.assertLessEqual({"apply", "put-back", "snapshot"}, set(inventory.agent_can))

    def test_a_look_names_pages_that_answer_and_a_place_where_content_is_shown(self) -> None:
        look = self.system.agent().look()
        self.assertTrue(look.counts)
        for _, where in look.pages:
            answer = httpx.get(self.system.address + where, trust_env=False, timeout=30)
            self.assertEqual(answer.status_code, 200, where)
        where, pass_ = self.system.address + look.editor, {"windbreak-pass": look.pass_}
        shown = httpx.get(where, headers=pass_, trust_env=False, timeout=30)
        self.assertEqual(shown.status_code, 200)
        self.assertIn("data-block", shown.text)

    def test_a_change_that_was_not_begun_can_be_made_void(self) -> None:
        agent, change = self.system.agent(), self.change()
        self.assertEqual(agent.void(change).state, "void")
        self.assertEqual((agent.void(change).state, agent.change(change).state), ("void", "void"))
        self.refused("not-permitted", lambda: self.done("updates", change, on=False))
        inventory = agent.inventory(self.system.site, self.system.context.clock())
        self.assertTrue(inventory.automatic_updates)

    def test_a_change_that_was_begun_stays_as_it_is(self) -> None:
        change = self.change()
        self.done("maintenance", change, on=False)
        became = self.system.agent().void(change)
        self.assertEqual((became.state, became.result), ("done", {"was": False}))

    def held(self) -> dict[tuple[str, str], tuple[bool, str]]:
        inventory = self.system.agent().inventory(self.system.site, self.system.context.clock())
        return {(h.kind, h.name): (h.was, h.change) for h in inventory.held}

    def test_what_was_switched_for_a_run_is_held_until_it_is_as_it_was(self) -> None:
        plugin, changes = self.system.plugin, [self.change() for _ in range(4)]
        self.assertEqual(self.held(), {})
        self.done("maintenance", changes[0], on=True)
        self.done("updates", changes[1], on=False)
        self.done("switch", changes[2], product=plugin, on=False)
        self.done("switch", changes[3], product=plugin, on=False)  # it is off already
        expected = {
            ("page", ""): (False, changes[0]),
            ("updates", ""): (True, changes[1]),
            ("plugin", plugin): (True, changes[2]),
        }
        self.assertEqual(self.held(), expected)
        self.done("updates", on=True)
        self.done("switch", product=plugin, on=True)
        self.assertEqual(self.held(), {("page", ""): (False, changes[0])})
        self.done("maintenance", on=False)
        self.assertEqual(self.held(), {})

    def test_files_are_held_against_sums(self) -> None:
        agent, folder = self.system.agent(), self.system.folder
        sums = {
            file.relative_to(folder).as_posix(): hashlib.sha256(file.read_bytes()).hexdigest()
            for file in folder.rglob("*")
            if file.is_file()
        }
        self.assertEqual(agent.own_files(self.system.plugin, sums), ())
        own = folder / "own.txt"
        own.write_text("ours")
        first = next(iter(sums))
        told = agent.own_files(self.system.plugin, {**sums, first: "0" * 64, "gone.txt": "0" * 64})
        self.assertEqual(
            {file.path: file.state for file in told},
            {"own.txt": "added", first: "changed", "gone.txt": "missing"},
        )
        own.unlink()

    # Packages.

    def test_an_apply_replaces_the_folder_once_and_is_put_back(self) -> None:
        leftover = self.system.folder / "of-the-old.txt"
        leftover.write_text("of the old version")
        change = self.change()
        first = self.apply(self.system.now, change)
        self.assertEqual((first["version"], first["kept"]), (self.system.now, True))
        self.assertEqual(self.there(), self.system.now)
        self.assertFalse(leftover.exists())
        self.done("put-back", product=self.system.plugin, of=change)
        self.assertEqual((self.there(), leftover.exists()), (self.system.was, True))
        self.assertEqual(self.apply(self.system.now, change), first)  # given again, not done again
        self.assertEqual(self.there(), self.system.was)
        leftover.unlink()

    def start(self, version: str | None = None, decided: dict[str, str] | None = None) -> Start:
        """What the plugin is now, and what its package holds."""
        folder = self.system.folder
        pristine = {
            file.relative_to(folder).as_posix(): hashlib.sha256(file.read_bytes()).hexdigest()
            for file in folder.rglob("*")
            if file.is_file()
        }
        return Start(version=version or self.system.was, pristine=pristine, decided=decided or {})

    def test_what_others_moved_meanwhile_is_not_replaced(self) -> None:
        start = self.start("0.9")
        error = self.refused("not-as-expected", lambda: self.apply(self.system.now, start=start))
        self.assertIn(f"is {self.system.was} here, and was to be 0.9", str(error))
        self.assertEqual(self.there(), self.system.was)

    def test_a_file_that_was_added_since_it_was_looked_at_is_carried_over(self) -> None:
        start, own = self.start(), self.system.folder / "late.txt"
        own.write_text("written since")
        change = self.change()
        self.apply(self.system.now, change, start=start)
        self.assertEqual((self.there(), own.read_text()), (self.system.now, "written since"))
        self.done("put-back", product=self.system.plugin, of=change)
        own.unlink()

    def test_a_file_that_was_changed_since_it_was_looked_at_keeps_its_folder(self) -> None:
        file = next(f for f in sorted(self.system.folder.iterdir()) if f.is_file())
        before = file.read_bytes()
        start = self.start(decided={file.name: "0" * 64})
        file.write_bytes(before + b"\n")
        error = self.refused("own-files-changed", lambda: self.apply(self.system.now, start=start))
        self.assertIn(f"{file.name} of {self.system.plugin}", str(error))
        self.assertEqual((self.there(), file.read_bytes()), (self.system.was, before + b"\n"))
        decided = {file.name: hashlib.sha256(file.read_bytes()).hexdigest()}
        change = self.change()
        self.apply(self.system.now, change, start=start.model_copy(update={"decided": decided}))
        self.assertEqual(self.there(), self.system.now)
        self.done("put-back", product=self.system.plugin, of=change)
        file.write_bytes(before)

    def test_own_files_are_carried_over_and_nothing_from_elsewhere(self) -> None:
        own = self.system.folder / "words/cy.txt"
        own.parent.mkdir(exist_ok=True)
        own.write_text("geiriau")
        own.chmod(0o600)
        change = self.change()
        self.apply(self.system.now, change, carry=["words/cy.txt", "gone.txt"])
        self.assertEqual(own.read_text(), "geiriau")
        self.assertEqual(stat.S_IMODE(own.stat().st_mode), 0o600)
        self.done("put-back", product=self.system.plugin, of=change)
        for path in ("../../../secret", "/etc/hostname", ""):
            self.refused("not-permitted", partial(self.apply, self.system.now, carry=[path]))
        self.assertEqual(self.there(), self.system.was)
        own.unlink()
        own.parent.rmdir()

    def test_what_is_not_what_was_signed_for_touches_nothing(self) -> None:
        good = self.system.archives[self.system.now]
        for code, more in (
            ("not-permitted", {"site": "another-site"}),
            ("checksum", {"lies": {"id": "0" * 64}}),
            ("wrong-archive", {"archive": self.system.another}),
            ("wrong-archive", {"lies": {"version": "99.9"}}),
            ("wrong-archive", {"archive": b"no archive"}),
            ("wrong-archive", {"archive": good[: len(good) // 2]}),
        ):
            with self.subTest(code=code, what=[*more]):
                change = self.change()
                self.refused(code, partial(self.apply, self.system.now, change, **more))
                became = self.system.agent().change(change)
                self.assertEqual((became.state, became.code), ("failed", code))
                self.assertEqual(self.there(), self.system.was)
        self.refused("already-there", partial(self.apply, self.system.was))

    def test_a_large_package_comes_in_parts_that_are_proved(self) -> None:
        data = self.system.archives[self.system.now]
        half, sum_ = len(data) // 2, hashlib.sha256(data).hexdigest()

        def part(offset: int, piece: bytes) -> dict[str, Any]:
            told = base64.b64encode(piece).decode()
            args = {"sha256": sum_, "offset": offset, "bytes": len(data), "data": told}
            return self.done("hold", **args)

        told = {
            "site": self.system.site,
            "product": self.system.plugin,
            "version": self.system.now,
            "size": len(data),
            "sha256": sum_,
            "carry": [],
        }
        self.refused("fetch-failed", partial(self.done, "apply", **told))
        self.assertEqual(part(0, data[:half]), {"have": half})
        self.refused("checksum", partial(part, half, bytes(len(data) - half)))
        self.assertEqual(part(0, data[:half]), {"have": half})
        self.assertEqual(part(half, data[half:]), {"have": len(data)})
        change = self.change()
        self.done("apply", change, **told)
        self.assertEqual(self.there(), self.system.now)
        self.done("put-back", product=self.system.plugin, of=change)

    def test_a_package_is_sent_again_where_what_was_held_of_it_is_gone(self) -> None:
        first = self.change()
        data, agent = self.system.archives[self.system.now], self.system.agent()
        assert isinstance(agent, SignedAgent)
        agent._held(first, self.package(self.system.now), data, 100)  # and there it was cut
        self.enterContext(mock.patch.object(signed_agent, "PART_BYTES", (100,)))
        other = self.change()
        self.apply(self.system.now, other)  # takes what was held
        self.done("put-back", product=self.system.plugin, of=other)
        self.assertEqual(self.apply(self.system.now, first)["version"], self.system.now)
        self.done("put-back", product=self.system.plugin, of=first)

    def test_what_leaves_is_gone_once_and_comes_back(self) -> None:
        change = self.change()
        self.done("remove", change, product=self.system.plugin)
        self.assertIsNone(self.there())
        self.refused("already-there", partial(self.done, "remove", product=self.system.plugin))
        self.done("put-back", product=self.system.plugin, of=change)
        self.assertEqual(self.there(), self.system.was)
        for product in ("plugin/../..", "runtime/php", "plugin/", "nothing"):
            with self.assertRaises(CallFailed):
                self.done("remove", product=product)
        self.assertEqual(self.page().status_code, 200)

    def test_a_change_that_runs_is_told_to_run_and_another_meanwhile_is_told_to_wait(self) -> None:
        change, agent = self.change(), self.system.agent()
        self.addCleanup(self.system.slow("snapshot", 3.0))
        with self.assertRaises(UnderWay):
            agent.do("snapshot", change)
        with self.assertRaises(UnderWay):
            agent.do("snapshot", change)
        self.assertEqual(agent.change(change).state, "running")
        self.refused("busy", partial(agent.do, "purge", self.change()))
        self.assertEqual(self.done("snapshot", change)["snapshot"], change)
        self.done("drop", snapshots=[change], kept=[])

    # What is switched.

    def test_what_is_switched_tells_what_it_was(self) -> None:
        plugin = self.system.plugin
        self.assertEqual(self.done("switch", product=plugin, on=False), {"was": True})
        inventory = self.system.agent().inventory(self.system.site, self.system.context.clock())
        self.assertFalse(next(c for c in inventory.components if c.product == plugin).active)
        self.assertEqual(self.done("switch", product=plugin, on=True), {"was": False})
        was = self.done("updates", on=False)["was"]
        self.assertEqual(self.done("updates", on=was), {"was": False})
        with self.assertRaises(CallFailed):
            self.done("switch", product="plugin/nobody-has-this", on=True)
        self.refused("not-permitted", partial(self.done, "caches", on=True, name="nobody-has-this"))
        self.done("purge")

    def test_behind_the_maintenance_page_the_looking_pass_sees_the_site(self) -> None:
        before = self.page()
        self.assertEqual(self.done("maintenance", on=True), {"was": False})
        self.assertEqual(self.page().status_code, 503)
        look = self.system.agent().look()
        self.assertEqual(self.page(look.pass_).status_code, 200)
        self.assertEqual(self.page("guessed").status_code, 503)
        self.assertEqual(self.done("maintenance", on=False), {"was": True})
        self.assertEqual(self.page().text, before.text)

    # Snapshots.

    def test_a_restore_brings_back_files_and_leaves_the_agent_s_own_state(self) -> None:
        made = self.done("snapshot")
        self.assertGreater(made["bytes"], 0)
        change = self.change()
        self.apply(self.system.now, change)
        (self.system.folder / "since.txt").write_text("since")
        self.done("restore", snapshot=made["snapshot"])
        self.assertEqual(self.there(), self.system.was)
        self.assertFalse((self.system.folder / "since.txt").exists())
        self.assertEqual(self.system.agent().change(change).state, "done")
        self.refused("not-permitted", partial(self.done, "restore", snapshot="nothing"))
        self.assertGreater(self.done("drop", snapshots=[made["snapshot"]], kept=[])["freed"], 0)
        self.refused("not-permitted", partial(self.done, "restore", snapshot=made["snapshot"]))

    def test_a_restore_gives_modes_and_times_back(self) -> None:
        folder = self.system.folder / "keys"
        modes = {".": 0o750, "shop.key": 0o400, "renew.sh": 0o755, "old": 0o700}
        (folder / "old").mkdir(parents=True)
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        for name in ("shop.key", "renew.sh"):
            (folder / name).write_text("a b c")
        for name, mode in modes.items():
            (folder / name).chmod(mode)
        os.utime(folder / "shop.key", (10**9, 10**9))
        made = self.done("snapshot")
        for name in modes:
            (folder / name).chmod(0o777)
        self.done("restore", snapshot=made["snapshot"])
        had = {name: stat.S_IMODE((folder / name).stat().st_mode) for name in modes}
        self.assertEqual(had, modes)
        self.assertEqual((folder / "shop.key").stat().st_mtime, 10**9)
        self.done("drop", snapshots=[made["snapshot"]], kept=[])

    def fetched(self, snapshot: str, size: int) -> bytes:
        """A snapshot, part by part."""
        whole, agent = b"", self.system.agent()
        while len(whole) < size:
            part = agent.fetch(snapshot, len(whole))
            self.assertEqual(part.bytes, size)
            whole += base64.b64decode(part.data)
        return whole

    def bring(self, name: str, offset: int, data: bytes, size: int, sha256: str) -> dict[str, Any]:
        """Send a part of a snapshot, which is to be ``size`` bytes and to have a sum."""
        text = base64.b64encode(data).decode()
        sent = SentPart(snapshot=name, offset=offset, data=text, bytes=size, sha256=sha256)
        return self.system.agent().bring(self.change(), sent)

    def brought(self, whole: bytes) -> str:
        """A snapshot that was sent in parts, by its name."""
        name, size, sum_ = self.change(), len(whole), hashlib.sha256(whole).hexdigest()
        step = 2 * 2**20
        for offset in range(0, size, step):
            have = self.bring(name, offset, whole[offset : offset + step], size, sum_)["have"]
            self.assertEqual(have, min(size, offset + step))
        return name

    def test_a_snapshot_is_carried_in_parts_that_are_proved(self) -> None:
        made = self.done("snapshot")
        name = self.brought(self.fetched(made["snapshot"], made["bytes"]))
        self.done("restore", snapshot=name)
        self.assertEqual(self.there(), self.system.was)
        self.done("drop", snapshots=[made["snapshot"], name], kept=[])
        wrong = partial(self.bring, self.change(), 0, bytes(100), 100, hashlib.sha256().hexdigest())
        self.refused("checksum", wrong)

    def test_a_snapshot_that_was_damaged_touches_nothing(self) -> None:
        made = self.done("snapshot")
        whole = bytearray(self.fetched(made["snapshot"], made["bytes"]))
        with zipfile.ZipFile(io.BytesIO(whole)) as opened:
            largest = max(opened.infolist(), key=lambda entry: entry.compress_size)
        whole[largest.header_offset + largest.compress_size // 2] ^= 1  # a disk that rots
        name = self.brought(bytes(whole))
        (self.system.folder / "since.txt").write_text("since")
        error = self.refused("wrong-archive", partial(self.done, "restore", snapshot=name))
        self.assertIn(f"{largest.filename} is not what was put in", str(error))
        self.assertTrue((self.system.folder / "since.txt").exists())
        (self.system.folder / "since.txt").unlink()
        self.assertEqual(self.page().status_code, 200)
        self.done("drop", snapshots=[made["snapshot"], name], kept=[])

    # Odd calls.

    def test_odd_calls_and_odd_ids_are_refused(self) -> None:
        self.refused("not-permitted", partial(self.done, "explode"))
        self.assertEqual(self.system.agent().change("never-made").state, "unknown")
