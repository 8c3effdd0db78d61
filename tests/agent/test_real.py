"""The agent on a real WordPress with a real MariaDB: linked, asked, looked at, and held to its own.

What the system itself lists, by its own functions in another process, is the second witness.
"""

from __future__ import annotations

import base64
import hashlib
import subprocess
import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, ClassVar

import httpx

from tests.links.adapter import followed
from tests.operations.within import RHONA
from windbreak.core.values.sites import NewSite
from windbreak.links import signing
from windbreak.links.adapter import Agent
from windbreak.links.errors import (
    CallFailed,
    ClockOff,
    KeyRefused,
    Unfit,
)
from windbreak.links.signed_agent import Caller, SignedAgent
from windbreak.operations.administration import accounts, instance
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.errors import Refused
from windbreak.operations.findings.causes.sites import CURRENT_AGENT
from windbreak.operations.sites import sites, visits
from windbreak.operations.tracking import shelving
from windbreak.operations.views import sites as site_views
from windbreak.standins import catalogue, real, workshop

SITE = "skerry-light"
LACKS = real.missing()
_OWNERS_PAGE = """<?php
$_SERVER['HTTP_HOST'] = 'x';
require 'ROOT/wp-load.php';
require ABSPATH . 'wp-admin/includes/admin.php';
wp_set_current_user( 1 );
Windbreak\\owners_page();
"""


@unittest.skipIf(LACKS, f"a real site can't be had here: {'; '.join(LACKS)}")
class WithReal(unittest.TestCase):
    """One real site for the class, and a service’s context for each test."""

    folder: ClassVar[Path]
    real: ClassVar[real.RealSite]
    template: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        try:
            cls.template = real.prepared(Path("/tmp"))
            cls.real = real.RealSite(cls.folder / "real", template=cls.template)
            cls.addClassCleanup(cls.real.stop)
            cls.real.start()
        except RuntimeError as error:
            if "apt-get download" in str(error):
                raise unittest.SkipTest(f"the system's package can't be had: {error}") from error
            raise

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        self.addCleanup(folder.cleanup)
        self.context: Context = open_context(Path(folder.name), private_networks="127.0.0.0/8")
        self.addCleanup(close, self.context)
        accounts.ensure_account(self.context, "rhona", "Rhona Vale")
        new = NewSite(label="Skerry Light Trust", address=self.real.address, system="wordpress")
        sites.register(self.context, new, RHONA, SITE)

    def linked(self) -> SignedAgent:
        line = sites.link_line(self.context, SITE, RHONA)
        self.assertTrue(line.where.endswith("/wp-admin/options-general.php?page=windbreak-agent"))
        self.real.paste(line.line)
        sites.link(self.context, SITE, RHONA)
        agent = sites.agent_for(self.context, SITE)
        assert isinstance(agent, SignedAgent)
        return agent

    def signed(self, agent: SignedAgent, call: str, body: bytes) -> dict[str, str]:
        """The headers of a call that its service signs."""
        return signing.sign_request(
            agent.caller.key,
            "POST",
            f"{self.real.address}/_windbreak/{call}",
            body,
            datetime.now(UTC),
            "windbreak-agent",
            {
                "windbreak-for": str(agent.id),
                "windbreak-service": agent.caller.instance,
                "windbreak-epoch": str(agent.caller.epoch),
                "content-type": "application/json",
            },
        )

    def done(self, agent: Agent, call: str, change: str, **args: object) -> dict[str, Any]:
        """What a call comes to that may be told to be under way. Raises CallFailed."""
        return followed(agent, change, lambda: agent.do(call, change, **args))

    def activate(self, *files: str) -> None:
        """Set which plugins are on, without loading any."""
        listed = "".join(f'i:{n};s:{len(file)}:"{file}";' for n, file in enumerate(files))
        told = f"a:{len(files)}:{{{listed}}}"
        self.sql(
            f"UPDATE wp_options SET option_value = '{told}' WHERE option_name = 'active_plugins'"
        )

    def sql(self, statements: str) -> str:
        answer = self.real.mysql(f"USE site; {statements}")
        assert answer is not None, statements
        return answer


class Real(WithReal):
    def test_it_is_linked_by_the_line_and_tells_what_the_system_itself_lists(self) -> None:
        self.linked()
        site = sites.refresh(self.context, SITE)
        self.assertEqual(site.link.state, "linked", site.link.reason)
        there = self.context.store.inventories.get(SITE)
        listed = self.real.listed()
        self.assertEqual(there.version_of("core/wordpress"), listed["core/wordpress"])
        themes = {k[6:]: v for k, v in listed.items() if k.startswith("theme/")}
        told = {c.folder: c.version for c in there.components if c.product.startswith("theme/")}
        self.assertEqual(told, themes)
        active = [c.folder for c in there.components if c.active and c.product.startswith("theme/")]
        self.assertEqual(active, ["twentytwentyone"])
        self.assertRegex(there.version_of("runtime/php") or "", r"^[78]\.\d+\.\d+$")
        self.assertTrue(there.automatic_updates)
        view = site_views.site_view(self.context, SITE)
        self.assertEqual((view.pages_state, view.agent), ("fine", CURRENT_AGENT["wordpress"]))

    def test_its_look_names_pages_that_answer_and_counts_what_is_there(self) -> None:
        look = self.linked().look()
        self.assertGreaterEqual(look.counts["post"], 1)
        self.assertEqual(look.errors, ())
        self.assertGreater(len(look.pages), 1)
        for _, where in look.pages:
            answer = httpx.get(f"{self.real.address}{where}", trust_env=False, timeout=30)
            self.assertEqual(answer.status_code, 200, where)

    def test_the_system_checks_itself_and_what_it_says_is_kept_where_it_can_t(self) -> None:
        self.linked()
        sites.refresh(self.context, SITE)
        checks = self.context.store.inventories.get(SITE).checks or ()
        states = {check.id: check.state for check in checks}
        self.assertEqual((states["database"], states["folders"]), ("good", "good"))
        self.assertEqual(states["system-sql-server"], "good")
        self.assertEqual(states["system-debug-enabled"], "minor")
        self.assertEqual(len(states), len(checks))
        told = next(check for check in checks if check.id == "system-debug-enabled")
        self.assertIn("log errors to a potentially public file", told.text)
        own = sites.agent_for(self.context, SITE).inventory(SITE, self.context.clock()).checks or ()
        self.assertEqual({check.id for check in own}, set(states))  # a run's look has them too

    def test_it_answers_when_a_plugin_is_fatal_and_the_pages_are_told_apart(self) -> None:
        self.linked()
        plugin = self.real.root / "wp-content/plugins/fatal/fatal.php"
        plugin.parent.mkdir()
        plugin.write_text("<?php\n/* Plugin Name: Fatal\nVersion: 1.0 */\nno_such_function();\n")
        agent = "windbreak-agent/windbreak-agent.php"
        self.activate(agent, "fatal/fatal.php")
        try:
            site = sites.refresh(self.context, SITE)
            self.assertEqual(site.link.state, "linked", site.link.reason)
            seen = visits.of(self.context, SITE)
            self.assertEqual((seen.state, seen.reason), ("broken", "Its front page answers 500."))
            there = self.context.store.inventories.get(SITE)
            self.assertEqual(there.version_of("plugin/fatal"), "1.0")
            look = sites.agent_for(self.context, SITE).look()
            self.assertTrue(any("no_such_function" in line for line in look.errors), look.errors)
        finally:
            plugin.unlink()
            plugin.parent.rmdir()
            self.activate(agent)
            self.real.error_log.unlink(missing_ok=True)

    def test_nobody_else_is_obeyed(self) -> None:
        agent = self.linked()
        strange = Caller(signing.new_key(), "another", 99)
        other = SignedAgent(agent.site, strange, agent.id, agent.public)
        with self.assertRaises(KeyRefused):
            other.inventory(SITE, datetime.now(UTC))
        old = Caller(instance.key(self.context), agent.caller.instance, 0)
        with self.assertRaises(CallFailed):  # an older driver
            SignedAgent(agent.site, old, agent.id, agent.public).look()
        elsewhere = SignedAgent(agent.site, agent.caller, "agent-0000", agent.public)
        with self.assertRaises(CallFailed):
            elsewhere.look()
        late = Caller(
            agent.caller.key,
            agent.caller.instance,
            agent.caller.epoch,
            clock=lambda: datetime.now(UTC) - timedelta(minutes=6),
        )
        with self.assertRaises(ClockOff):
            SignedAgent(agent.site, late, agent.id, agent.public).look()

    def test_a_call_that_was_seen_before_is_refused(self) -> None:
        agent = self.linked()
        url, body = f"{self.real.address}/_windbreak/look", b"{}"
        headers = self.signed(agent, "look", body)
        asked = [
            httpx.post(url, content=body, headers=headers, trust_env=False, timeout=30)
            for _ in range(2)
        ]
        self.assertEqual([one.status_code for one in asked], [200, 401])
        self.assertIn("seen before", asked[1].json()["detail"])
        changed = httpx.post(url, content=b'{"a":1}', headers=headers, trust_env=False, timeout=30)
        self.assertEqual(changed.status_code, 401)

    def test_files_of_a_component_are_held_against_its_package(self) -> None:
        agent = self.linked()
        folder = self.real.root / "wp-content/themes/twentytwentyone"
        style = (folder / "style.css").read_bytes()
        pristine = {
            path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
            for path in folder.rglob("*")
            if path.is_file()
        }
        self.assertEqual(agent.own_files("theme/twentytwentyone", pristine), ())
        (folder / "style.css").write_bytes(style + b"\n/* ours */\n")
        try:
            found = agent.own_files("theme/twentytwentyone", {**pristine, "gone.php": "0" * 64})
            told = {file.path: file.state for file in found}
            self.assertEqual(told, {"style.css": "changed", "gone.php": "missing"})
        finally:
            (folder / "style.css").write_bytes(style)

    def test_keys_turn_without_a_gap_and_the_link_ends_on_both_sides(self) -> None:
        agent = self.linked()
        new = signing.new_key()
        public = signing.public_from(agent.rotate(signing.public_text(new)))
        self.assertGreater(len(agent.look().pages), 0)  # the old ones are good still
        caller = Caller(new, agent.caller.instance, agent.caller.epoch)
        turned = SignedAgent(agent.site, caller, agent.id, public)
        self.assertGreater(len(turned.look().pages), 0)
        turned.goodbye()
        with self.assertRaises(KeyRefused):
            turned.look()

    def test_a_line_that_is_none_is_refused_with_what_it_is(self) -> None:
        for line in ("hello", "windbreak-link." + base64.b64encode(b"{}").decode()):
            with self.assertRaises(RuntimeError) as caught:
                self.real.paste(line)
            self.assertIn("not a line of the console", str(caught.exception))
        with self.assertRaises(Refused):
            sites.link(self.context, SITE, RHONA)

    def test_its_first_part_is_the_newer_one_s_once_it_was_replaced(self) -> None:
        placed = self.real.root / "wp-content/mu-plugins/windbreak-first.php"
        own = placed.read_text()
        for hook in ("admin_init", "upgrader_process_complete"):
            placed.write_text(own + "// of an older agent\n")
            self.real.php(
                "<?php $_SERVER['HTTP_HOST'] = 'x';"
                f"require '{self.real.root}/wp-load.php'; do_action( '{hook}' );"
            )
            self.assertEqual(placed.read_text(), own, hook)

    def test_without_zip_it_offers_what_it_can(self) -> None:
        self.addCleanup(self.real.serve_without)
        self.real.serve_without("zip")
        agent = self.linked()
        can = self.context.store.sites.get(SITE).link.agent_can
        self.assertTrue({"inventory", "look", "switch", "maintenance"} <= set(can))
        self.assertFalse({"apply", "snapshot", "restore", "fetch", "bring"} & set(can))
        with self.assertRaises(CallFailed) as caught:
            agent.do("snapshot", "c-z-1")
        self.assertEqual(caught.exception.failure, "not-permitted")

    def test_without_sodium_it_says_so_to_both_sides_and_obeys_nobody(self) -> None:
        self.linked()
        self.addCleanup(self.real.serve_with)
        self.real.serve_with("disable_functions=sodium_crypto_sign_detached")
        site = sites.refresh(self.context, SITE)
        self.assertEqual(site.link.state, "silent")
        self.assertIn("PHP’s extension sodium is missing: without it", site.link.reason)
        page = self.real.php(_OWNERS_PAGE.replace("ROOT", str(self.real.root)))
        self.assertIn("sodium is missing: without it the agent can’t sign", page)
        self.assertNotIn("Line from the console", page)
        self.real.serve_with()
        self.assertEqual(sites.refresh(self.context, SITE).link.state, "linked")

    def test_a_folder_that_can_t_be_written_is_told_and_touched_by_nothing(self) -> None:
        agent = self.linked()
        plugins = str(self.real.root / "wp-content/plugins")
        for command in (["--bind", plugins, plugins], ["-o", "remount,ro,bind", plugins]):
            if subprocess.run(["mount", *command], capture_output=True).returncode:
                self.skipTest("no folder can be mounted here")
        self.addCleanup(subprocess.run, ["umount", "-l", plugins], capture_output=True)
        archive = catalogue.archive(workshop.release("plugin/dune-dock", "1.0"))
        package = shelving.put_on_shelf(self.context, archive, RHONA, (SITE,))
        with self.assertRaises(CallFailed) as caught:
            agent.apply("c-w-1", package, archive, SITE)
        self.assertEqual(caught.exception.failure, "not-writable")
        there = agent.inventory(SITE, self.context.clock())
        assert there.checks is not None
        (folders,) = [check for check in there.checks if check.id == "folders"]
        self.assertEqual(folders.state, "critical")
        self.assertEqual(list((self.real.root / "wp-content/plugins").glob("dune-dock*")), [])

    def test_what_stands_before_the_agent_is_told_as_what_it_is(self) -> None:
        agent = self.linked()
        first = self.real.root / "wp-content/mu-plugins/windbreak-first.php"
        own = first.read_text()
        self.addCleanup(first.write_text, own)
        for answer, told in (
            (
                "http_response_code( 401 ); header( 'WWW-Authenticate: Basic' ); echo 'Sign in';",
                "401",
            ),
            (
                "header( 'Location: /wp-login.php?to=x' ); http_response_code( 302 );",
                "to /wp-login",
            ),
        ):
            first.write_text(
                f"<?php if ( 'POST' === $_SERVER['REQUEST_METHOD'] ) {{ {answer} exit; }}"
            )
            with self.assertRaises(Unfit) as caught:
                agent.look()
            self.assertIn(told, str(caught.exception))
            self.assertIn("Let POST to /_windbreak/ through", str(caught.exception))
