"""The real system: each step beside its own upgrader called directly, snapshots beside tar and a
dump, and what the agent costs a visitor.
"""

from __future__ import annotations

import io
import json
import os
import random
import shutil
import subprocess
import tempfile
import time
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from statistics import median, quantiles
from typing import Any

import httpx

from benchmarks.figures import Figure
from windbreak.core.values.accounts import Principal
from windbreak.core.values.packages import Package
from windbreak.core.values.sites import NewSite
from windbreak.links.adapter import Agent
from windbreak.links.errors import UnderWay
from windbreak.operations.administration import accounts
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.sites import sites
from windbreak.operations.tracking import shelving
from windbreak.standins import real

RHONA = Principal(account="rhona", name="Rhona Vale", via="service")
SITE, SIZE_MB, ROUNDS, DISK_ROUNDS = "bench", 200, 3, 5  # a disk varies most
_UPGRADE = """<?php
$_SERVER['HTTP_HOST'] = 'x';
require 'ROOT/wp-load.php';
foreach ( array( 'admin', 'class-wp-upgrader', 'update' ) as $part ) {
	require_once ABSPATH . "wp-admin/includes/$part.php";
}
CALL
"""
_PLUGIN = """add_filter( 'site_transient_update_plugins', fn() => (object) array(
	'response' => array(
		'bulk/bulk.php' => (object) array( 'package' => 'FILE', 'new_version' => 'VERSION' ),
	),
) );
$upgrader = new Plugin_Upgrader( new Automatic_Upgrader_Skin() );
$done = $upgrader->bulk_upgrade( array( 'bulk/bulk.php' ) )['bulk/bulk.php'];
if ( is_wp_error( $done ) || ! $done ) { exit( 1 ); }
"""
_CORE = """$offer = (object) array(
	'response' => 'upgrade', 'download' => 'FILE', 'locale' => 'en_US',
	'packages' => (object) array(
		'full' => 'FILE', 'no_content' => '', 'new_bundled' => '',
		'partial' => '', 'rollback' => '',
	),
	'current' => 'VERSION', 'version' => 'VERSION', 'php_version' => '5.6',
	'mysql_version' => '5.0', 'new_bundled' => '', 'partial_version' => '',
);
$upgrader = new Core_Upgrader( new Automatic_Upgrader_Skin() );
if ( is_wp_error( $upgrader->upgrade( $offer, array( 'pre_check_md5' => false ) ) ) ) { exit( 1 ); }
"""


def figures() -> Iterator[Figure]:
    lacks = real.missing()
    if lacks:
        print(f"  not measured here: {'; '.join(lacks)}")
        return
    with tempfile.TemporaryDirectory(prefix="windbreak-bench-") as name:
        site = real.RealSite(Path(name) / "site", memory="64M")
        context = open_context(Path(name) / "service", private_networks="127.0.0.0/8")
        try:
            site.start()
            yield from _Bench(site, context).figures()
        finally:
            close(context)
            site.stop()


class _Bench:
    def __init__(self, site: real.RealSite, context: Context) -> None:
        self.site, self.context, self.number = site, context, 0
        self.dumper = _dumper(site.folder / "tools")
        accounts.ensure_account(context, "rhona", "Rhona Vale")
        new = NewSite(label="Bench", address=site.address, system="wordpress")
        sites.register(context, new, RHONA, SITE)
        site.paste(sites.link_line(context, SITE, RHONA).line)
        sites.link(context, SITE, RHONA)

    def figures(self) -> Iterator[Figure]:
        how = f"least of {ROUNDS} rounds, in turn"
        for what, files, kilobytes in (
            ("a small plugin", 3, 4),
            ("one of 6 MB, 2,000 files", 2000, 3),
        ):
            made = {v: _plugin(v, files, kilobytes) for v in ("1.0", "1.1")}
            self.site.put([made["1.0"]])
            ours, theirs = self.beside(made)
            name = f"{what} by the agent, beside the system's own upgrader"
            yield Figure(name, ours / theirs, "x", 1.3, how=f"{ours:.3f} s, {theirs:.3f} s; {how}")
        yield from self.core()
        yield from self.snapshots()
        yield self.visitor()

    def done(self, call: str, **args: object) -> float:
        agent = sites.agent_for(self.context, SITE)
        self.number += 1
        change = f"b-{self.number}"
        return _took(lambda: self.ended(agent, change, lambda: agent.do(call, change, **args)))

    def ended(self, agent: Agent, change: str, call: Callable[[], object]) -> None:
        try:
            call()
        except UnderWay:
            # Its own note is looked at: a question would have what changed compiled, which is the
            # next page's to pay.
            file = next(self.site.root.parent.glob(".windbreak-*")) / f"changes/{change}.json"
            while (note := json.loads(file.read_text()))["state"] == "running":
                time.sleep(0.002)
            if note["state"] != "done":
                raise RuntimeError(f"{note['code']}: {note['detail']}") from None

    def apply(self, package: Package, archive: bytes) -> tuple[float, str]:
        agent = sites.agent_for(self.context, SITE)
        self.number += 1
        change = f"b-{self.number}"
        return _took(
            lambda: self.ended(agent, change, lambda: agent.apply(change, package, archive, SITE))
        ), change

    def directly(self, call: str, archive: bytes, version: str) -> float:
        """The system's own upgrader, called by a script that loads the system as a request does."""
        file = self.site.folder / "direct.zip"
        file.write_bytes(archive)
        told = call.replace("FILE", str(file)).replace("VERSION", version)
        script = _UPGRADE.replace("ROOT", str(self.site.root)).replace("CALL", told)
        return _took(lambda: self.site.php(script))

    def beside(self, made: dict[str, bytes]) -> tuple[float, float]:
        packages = {
            v: shelving.put_on_shelf(self.context, a, RHONA, (SITE,)) for v, a in made.items()
        }
        ours, theirs = [], []
        for _ in range(ROUNDS):
            took, _ = self.apply(packages["1.1"], made["1.1"])
            ours.append(took)
            theirs.append(self.directly(_PLUGIN, made["1.0"], "1.0"))
        return min(ours), min(theirs)

    def core(self) -> Iterator[Figure]:
        newer, archive = self.site.newer_system()
        package = shelving.put_on_shelf(self.context, archive, RHONA, (SITE,))
        ours, theirs = [], []
        for _ in range(2):
            took, change = self.apply(package, archive)
            ours.append(took)
            self.done("put-back", product=package.product, of=change)
            theirs.append(self.directly(_CORE, archive, newer))
            self.done("put-back", product=package.product, of=change)
        yield Figure(
            "the system itself by the agent, beside its own upgrader",
            min(ours) / min(theirs),
            "x",
            1.3,
            how=f"{min(ours):.2f} s with the old one copied aside and every file held against its "
            f"package, {min(theirs):.2f} s; least of 2 rounds",
        )

    def snapshots(self) -> Iterator[Figure]:
        uploads, chance = self.site.root / "wp-content/uploads/2026", random.Random(7)
        uploads.mkdir(parents=True, exist_ok=True)
        there = sum(f.stat().st_size for f in self.site.root.rglob("*") if f.is_file()) // 2**20
        for n in range((SIZE_MB - there) // 2):
            (uploads / f"picture-{n}.jpg").write_bytes(chance.randbytes(2 * 2**20))
        self.site.mysql("USE site; CREATE TABLE wp_notes (name VARCHAR(20), words TEXT)")
        for part in range(0, 20_000, 100):
            values = ", ".join(
                f"('note-{part + n}', '{chance.randbytes(300).hex()}')" for n in range(100)
            )
            self.site.mysql(f"USE site; INSERT INTO wp_notes VALUES {values}")
        kept, dump = self.site.folder / "kept.tar", self.site.folder / "kept.sql"
        ours, theirs, back, back_changed, theirs_back = [], [], [], [], []
        for n in range(DISK_ROUNDS):  # nothing is taken away: a disk slows where much just was
            httpx.get(self.site.address, trust_env=False, timeout=30)  # compiled, as a site is
            os.sync()  # nor does one write what another left to be written
            ours.append(self.done("snapshot"))
            name, out = f"b-{self.number}", self.site.folder / f"out-{n}"
            os.sync()
            theirs.append(_took(lambda: self.tar(kept, dump)))
            os.sync()
            back.append(self.done("restore", snapshot=name))
            for file in self.site.root.rglob("*"):
                os.utime(file)
            os.sync()
            back_changed.append(self.done("restore", snapshot=name))
            os.sync()
            theirs_back.append(_took(lambda out=out: self.untar(kept, dump, out)))
        rounds = (
            f"{SIZE_MB} MB and 20,000 rows; middle of {DISK_ROUNDS} rounds, in turn, the disk at "
            "rest before each; PHP at 64 MB"
        )
        for what, mine, beside in (
            ("a snapshot, beside tar and a dump", ours, theirs),
            (
                "a restore of files that all changed, beside untar and a load",
                back_changed,
                theirs_back,
            ),
            ("a restore of files that are still the same, beside it", back, theirs_back),
        ):
            how = f"{median(mine):.2f} s, {median(beside):.2f} s; {rounds}; "
            how += f"at best {min(mine):.2f} s, {min(beside):.2f} s"
            yield Figure(what, median(mine) / median(beside), "x", 1.3, how=how)

    def tar(self, kept: Path, dump: Path) -> None:
        subprocess.run(["tar", "-cf", kept, "-C", self.site.root, "."], check=True)
        command = [self.dumper, "--no-defaults", f"--socket={self.site.socket}", "-uroot", "site"]
        with dump.open("wb") as out:
            subprocess.run(command, stdout=out, check=True)
        subprocess.run(["sync", "-d", kept, dump], check=True)

    def untar(self, kept: Path, dump: Path, place: Path) -> None:
        place.mkdir()
        subprocess.run(["tar", "-xf", kept, "-C", place], check=True)
        self.site.mysql("CREATE DATABASE IF NOT EXISTS beside")
        self.site.load("beside", dump)

    def visitor(self) -> Figure:
        """A page with the agent and without it, in turn: what one page in ten is faster than."""
        first = self.site.root / "wp-content/mu-plugins/windbreak-first.php"
        agent = self.site.root / "wp-content/plugins/windbreak-agent"
        times: dict[bool, list[float]] = {True: [], False: []}
        with httpx.Client(trust_env=False, timeout=30) as client:
            for block in range(80):
                there = block % 2 == 0
                for place in (first, agent):
                    aside = self.site.folder / f"aside-{place.name}"
                    place.rename(aside) if not there else aside.exists() and aside.rename(place)
                for n in range(6):
                    start = time.perf_counter()
                    client.get(self.site.address).raise_for_status()
                    if n >= 2:
                        times[there].append(time.perf_counter() - start)
        with_it, without = (quantiles(times[there], n=10)[0] * 1000 for there in (True, False))
        how = f"{with_it:.1f} ms with it: one page in ten of {len(times[True])} is faster"
        return Figure(
            "what the agent costs a visitor's page", with_it - without, "ms", 1.0, how=how
        )


def _dumper(folder: Path) -> str:
    """The database's own dumping program, unpacked into a folder where it is not installed."""
    installed = shutil.which("mariadb-dump")
    if installed:
        return installed
    folder.mkdir()
    subprocess.run(["apt-get", "download", "mariadb-client"], cwd=folder, check=True, **_QUIET)
    (package,) = folder.glob("*.deb")
    subprocess.run(["dpkg", "-x", package, folder], check=True)
    return str(folder / "usr/bin/mariadb-dump")


def _plugin(version: str, files: int, kilobytes: int) -> bytes:
    chance, packed = random.Random(version), io.BytesIO()
    head = f"<?php\n/*\nPlugin Name: Bulk\nVersion: {version}\n*/\n"
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as opened:
        opened.writestr("bulk/bulk.php", head)
        for n in range(files):
            opened.writestr(f"bulk/parts/{n}.txt", chance.randbytes(kilobytes * 512).hex())
    return packed.getvalue()


_QUIET: dict[str, Any] = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}


def _took(work: Callable[[], object]) -> float:
    os.sync()
    start = time.perf_counter()
    work()
    return time.perf_counter() - start
