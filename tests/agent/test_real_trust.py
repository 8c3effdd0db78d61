"""What the agent of a real site trusts: who links it, where its state lies, what a pass may."""

from __future__ import annotations

import json
import subprocess
import time
from contextlib import suppress
from pathlib import Path

import httpx

from tests.agent.test_real import _OWNERS_PAGE, SITE, WithReal
from tests.operations.within import RHONA
from windbreak.links import signing
from windbreak.links.errors import CallFailed
from windbreak.operations.errors import Refused
from windbreak.operations.sites import sites

PAGE = "/wp-admin/options-general.php?page=windbreak-agent"
_AS = """<?php
$_SERVER['HTTP_HOST'] = 'x';
require 'ROOT/wp-load.php';
require ABSPATH . 'wp-admin/includes/admin.php';
$id = username_exists( 'NAME' ) ?: wp_create_user( 'NAME', 'NAME', 'NAME@example.org' );
( new WP_User( $id ) )->set_role( 'ROLE' );
wp_set_current_user( $id );
Windbreak\\owners_page();
"""


class WithConfig(WithReal):
    def setUp(self) -> None:
        super().setUp()
        self.config = self.real.root / "wp-config.php"
        own = self.config.read_text()
        self.addCleanup(self.config.write_text, own)

    def define(self, name: str, value: str) -> None:
        line = f"define( '{name}', {value} );\n$table_prefix"
        self.config.write_text(self.config.read_text().replace("$table_prefix", line, 1))

    def owners_page(self, **fields: str) -> str:
        script = _OWNERS_PAGE
        if fields:
            post = "".join(f"$_POST['{name}'] = '{value}';" for name, value in fields.items())
            post += "$_REQUEST['_wpnonce'] = wp_create_nonce( 'windbreak-agent' );"
            script = script.replace("Windbreak\\owners", f"{post}\nWindbreak\\owners")
        return self.real.php(script.replace("ROOT", str(self.real.root)))

    def state(self) -> Path:
        """Where the agent keeps its state."""
        (place,) = self.real.root.parent.glob(".windbreak-*")
        return place

    def post(self, call: str, body: bytes, headers: dict[str, str]) -> httpx.Response:
        url = f"{self.real.address}/_windbreak/{call}"
        return httpx.post(url, content=body, headers=headers, trust_env=False, timeout=60)

    def get(self, path: str, **headers: str) -> httpx.Response:
        named = {name.replace("_", "-"): value for name, value in headers.items()}
        return httpx.get(f"{self.real.address}{path}", headers=named, trust_env=False, timeout=60)


class WhoLinks(WithConfig):
    def test_who_may_not_install_code_sees_no_page_of_the_agent(self) -> None:
        for role, sees in (("administrator", True), ("editor", False)):
            names = {"NAME": role, "ROLE": role, "ROOT": str(self.real.root)}
            script = _AS
            for name, value in names.items():
                script = script.replace(name, value)
            self.assertEqual("Line from the console" in self.real.php(script), sees, role)

    def test_where_no_code_may_be_changed_nobody_links_and_nothing_is_brought(self) -> None:
        agent = self.linked()
        self.define("DISALLOW_FILE_MODS", "true")
        page = self.owners_page(windbreak_do="paste", windbreak_line="x")
        self.assertIn("nobody may link it either", page.lower())
        sites.refresh(self.context, SITE)
        there = self.context.store.inventories.get(SITE)
        self.assertIn("snapshot", there.agent_can)
        self.assertFalse({"apply", "remove", "hold", "bring"} & set(there.agent_can))
        self.assertIn("DISALLOW_FILE_MODS", there.agent_lacks[0])
        with self.assertRaises(CallFailed) as caught:
            agent.do("remove", "c-s-1", product="plugin/akismet")
        self.assertIn("DISALLOW_FILE_MODS", str(caught.exception))


class WhereItsStateLies(WithConfig):
    def test_a_place_that_is_served_is_noticed_and_the_agent_only_reads(self) -> None:
        place = self.real.root / "wp-content/state"
        self.define("WINDBREAK_STATE", f"'{place}'")
        page = self.owners_page()
        self.assertIn(f"({place}) at {self.real.address}/wp-content/state", page)
        self.assertIn("WINDBREAK_STATE", page)
        self.linked()
        self.assertFalse({"apply", "snapshot"} & set(self.agent_can()))
        self.assertIn("look", self.agent_can())
        self.assertEqual(list(place.glob("proof-*")), [])

    def agent_can(self) -> tuple[str, ...]:
        return self.context.store.sites.get(SITE).link.agent_can

    def test_its_name_can_t_be_reckoned_and_a_place_beside_the_root_is_safe(self) -> None:
        self.linked()
        self.owners_page()
        self.assertRegex(self.state().name, r"^\.windbreak-[0-9a-f]{12}-[0-9a-f]{32}$")
        self.assertIn("apply", self.agent_can())
        self.assertTrue((self.state() / ".htaccess").exists())

    def test_where_it_can_t_be_written_page_and_service_say_what_to_do(self) -> None:
        place = self.folder / "closed"
        place.mkdir(exist_ok=True)
        for command in (["--bind", place, place], ["-o", "remount,ro,bind", place]):
            if subprocess.run(["mount", *map(str, command)], capture_output=True).returncode:
                self.skipTest("no folder can be mounted here")
        self.addCleanup(subprocess.run, ["umount", "-l", str(place)], capture_output=True)
        self.define("WINDBREAK_STATE", f"'{place}/state'")
        page = self.owners_page()
        for words in (f"PHP may not write in {place}", "mkdir -m 700", "define( &#039;WINDBREAK"):
            self.assertIn(words, page)
        self.assertNotIn("Line from the console", page)
        sites.link_line(self.context, SITE, RHONA)
        with self.assertRaises(Refused) as caught:
            sites.link(self.context, SITE, RHONA)
        self.assertIn("may not write", str(caught.exception))


class Strangers(WithConfig):
    def test_an_unsigned_call_is_answered_as_if_there_were_no_agent(self) -> None:
        self.linked()
        was = {p.name for p in self.state().rglob("*")}
        there = self.post("look", b"{}", {})
        nowhere = httpx.post(f"{self.real.address}/_nothing/look", trust_env=False, timeout=60)
        self.assertEqual(there.status_code, nowhere.status_code)
        self.assertNotIn("windbreak", there.text.lower())
        self.assertEqual({p.name for p in self.state().rglob("*")}, was)

    def test_a_stranger_in_mid_rotation_changes_nothing(self) -> None:
        agent = self.linked()
        new = signing.new_key()
        public = signing.public_from(agent.rotate(signing.public_text(new)))
        facts = (self.state() / "facts.json").read_text()
        headers = self.signed(agent, "look", b"{}")
        # It names the key that is coming, which is no secret, and signs with one of its own.
        headers["windbreak-expects"] = signing.thumbprint(public)
        answer = self.post("look", b'{"a":1}', headers)
        self.assertEqual(answer.status_code, 401)
        self.assertEqual((self.state() / "facts.json").read_text(), facts)
        self.assertGreater(len(agent.look().pages), 0)  # the old pair is good still

    def test_a_body_is_refused_by_its_length(self) -> None:
        agent = self.linked()
        body = b"x" * (3 * 2**20)
        answer = self.post("look", body, self.signed(agent, "look", body))
        self.assertEqual(answer.status_code, 413)
        self.assertGreater(len(agent.look().pages), 0)


class ALookingPass(WithConfig):
    def setUp(self) -> None:
        super().setUp()
        self.agent = self.linked()
        self.looked = self.agent.look()
        self.pass_ = self.looked.pass_

    def asked(self, path: str) -> httpx.Response:
        return self.get(path, windbreak_pass=self.pass_)

    def test_it_is_in_no_address(self) -> None:
        self.assertNotIn(self.pass_, json.dumps([self.looked.editor, self.looked.opens]))
        shown = self.asked(self.looked.editor)
        self.assertIn("data-block", shown.text)
        self.assertNotIn("data-block", self.get(self.looked.editor).text)
        self.assertNotIn("data-block", self.get(f"/?windbreak-blocks={self.pass_}").text)

    def test_it_tells_the_system_to_do_nothing_by_any_name(self) -> None:
        before = self.content()
        paths = (
            "/?rest_route=/wp/v2/users/me&_method=POST&email=taken@example.org",
            "/?rest_route=/wp/v2/posts/1&_method=DELETE&force=true",
            "/?rest_route=/wp/v2/posts/1&_method=POST&title=taken",
        )
        for path in paths:
            self.assertIn(self.asked(path).status_code, (401, 403, 404), path)
        with_header = {"windbreak_pass": self.pass_, "x_http_method_override": "DELETE"}
        answer = self.get("/?rest_route=/wp/v2/posts/1&force=true", **with_header)
        self.assertIn(answer.status_code, (401, 403))
        self.assertEqual(self.content(), before)

    def content(self) -> str:
        """What the database holds of people and posts."""
        return self.sql("SELECT ID, user_email FROM wp_users; SELECT * FROM wp_posts")

    def test_drafts_and_addresses_of_people_are_not_shown(self) -> None:
        self.sql(
            "INSERT INTO wp_posts (ID, post_author, post_title, post_status, post_type, "
            "post_content, post_excerpt, to_ping, pinged, post_content_filtered) VALUES "
            "(990, 1, 'Not yet', 'draft', 'post', 'secret', '', '', '', ''), "
            "(991, 1, 'Ours alone', 'private', 'post', 'secret', '', '', '', '')"
        )
        self.addCleanup(self.sql, "DELETE FROM wp_posts WHERE ID IN (990, 991)")
        editor = self.asked(self.looked.opens)
        self.assertEqual(editor.status_code, 200)
        for path in (
            "/?rest_route=/wp/v2/posts&status=draft,private,publish&context=edit",
            "/?rest_route=/wp/v2/posts/990&context=edit",
            "/?rest_route=/wp/v2/posts/991",
            "/wp-admin/post.php?post=990&action=edit",
            "/?rest_route=/wp/v2/users/me&context=edit",
            "/?rest_route=/wp/v2/users&context=edit",
            "/?rest_route=/wp/v2/users/1&context=edit",
            "/?rest_route=/wp/v2/comments&context=edit",
        ):
            text = self.asked(path).text
            for secret in ("Not yet", "Ours alone", '"email"', "@example.org", "author_ip"):
                self.assertNotIn(secret, text, path)

    def test_it_gives_nobody_s_rights_but_an_editor_s(self) -> None:
        for path in (
            "/?rest_route=/wp/v2/settings",
            "/?rest_route=/wp/v2/plugins",
            "/?rest_route=/wp/v2/users&context=edit",
            "/wp-admin/upload.php",
            "/wp-admin/users.php",
        ):
            self.assertIn(self.asked(path).status_code, (302, 401, 403), path)


class TheMaintenancePage(WithConfig):
    def setUp(self) -> None:
        super().setUp()
        self.agent = self.linked()
        self.agent.do("maintenance", f"c-p-{time.monotonic_ns()}", on=True)
        self.addCleanup(self.down)

    def down(self) -> None:
        with suppress(CallFailed):
            self.agent.do("maintenance", f"c-d-{time.monotonic_ns()}", on=False)

    def facts(self) -> dict[str, str]:
        return dict(json.loads((self.state() / "facts.json").read_text()))

    def ends(self, seconds: float) -> None:
        told = {**self.facts(), "page": str(int(time.time() + seconds))}
        (self.state() / "facts.json").write_text(json.dumps(told))

    def test_it_has_an_end_which_each_call_of_the_service_puts_off(self) -> None:
        met = self.get("/")
        self.assertEqual((met.status_code, met.headers["retry-after"]), (503, "120"))
        self.ends(60)
        self.agent.look()
        self.assertGreater(int(self.facts()["page"]), time.time() + 3600)
        self.ends(-1)
        self.assertEqual(self.get("/").status_code, 200)
        sites.refresh(self.context, SITE)
        self.assertFalse(self.context.store.inventories.get(SITE).maintenance)

    def test_who_keeps_the_site_signs_in_and_takes_it_away(self) -> None:
        self.assertEqual(self.get("/wp-login.php").status_code, 200)
        self.assertEqual(self.get("/wp-login.php?action=register").status_code, 503)
        self.assertIn("wp-login.php?redirect_to=", self.get("/").text)
        self.assertEqual(self.get("/wp-admin/index.php").status_code, 503)
        own = self.get(PAGE)  # nobody is signed in: the system leads to its sign-in
        self.assertEqual(own.status_code, 302)
        self.assertIn("wp-login.php", own.headers["location"])
        page = self.owners_page()
        self.assertIn("Take it away now", page)
        self.assertIn("Visitors see the pages again", self.owners_page(windbreak_do="page-down"))
        self.assertEqual(self.get("/").status_code, 200)


class WhatLiesElsewhere(WithConfig):
    def test_uploads_behind_a_link_are_in_the_snapshot_and_come_back(self) -> None:
        agent = self.linked()
        uploads, beside = self.real.root / "wp-content/uploads", self.folder / "shared-uploads"
        uploads.mkdir(exist_ok=True)
        uploads.rename(beside)
        uploads.symlink_to(beside)
        (beside / "2026").mkdir(exist_ok=True)
        (beside / "2026/boat.txt").write_text("a boat")
        (beside / "at-the-top.txt").write_text("top")
        made = self.done(agent, "snapshot", "c-u-1")
        (beside / "2026/boat.txt").write_text("overwritten")
        (beside / "at-the-top.txt").unlink()
        (beside / "since.txt").write_text("came since")
        self.done(agent, "restore", "c-u-2", snapshot=made["snapshot"])
        self.assertEqual((beside / "2026/boat.txt").read_text(), "a boat")
        self.assertEqual((beside / "at-the-top.txt").read_text(), "top")
        self.assertTrue(uploads.is_symlink())
        self.assertFalse((beside / "since.txt").exists())
        kept = list((self.state() / "kept").rglob("since.txt"))
        self.assertEqual([file.read_text() for file in kept], ["came since"])
        self.assertEqual(self.get("/").status_code, 200)

    def test_content_beside_the_root_is_in_the_snapshot_too(self) -> None:
        agent = self.linked()
        content, beside = self.real.root / "wp-content", self.folder / "content-beside"
        content.rename(beside)
        content.symlink_to(beside)
        self.addCleanup(self.real.serve_with)  # PHP remembers for a while where links lead
        self.addCleanup(beside.rename, content)
        self.addCleanup(content.unlink)
        style = beside / "themes/twentytwentyone/style.css"
        own = style.read_text()
        made = self.done(agent, "snapshot", "c-b-1")
        style.write_text("/* gone */")
        self.done(agent, "restore", "c-b-2", snapshot=made["snapshot"])
        self.assertEqual(style.read_text(), own)
        self.assertTrue(content.is_symlink())
        self.assertEqual(self.get("/").status_code, 200)


class OneDatabase(WithConfig):
    def test_what_another_site_is_restoring_is_not_touched(self) -> None:
        agent = self.linked()
        self.sql("CREATE TABLE windbreak_new_ffffffffff_0 (id INT)")
        self.sql("CREATE TABLE windbreak_old_ffffffffff_0 (id INT)")
        self.addCleanup(
            self.sql, "DROP TABLE windbreak_new_ffffffffff_0, windbreak_old_ffffffffff_0"
        )
        made = self.done(agent, "snapshot", "c-o-1")
        self.done(agent, "restore", "c-o-2", snapshot=made["snapshot"])
        left = self.sql("SHOW TABLES LIKE 'windbreak%'").splitlines()[1:]
        self.assertEqual(sorted(left), ["windbreak_new_ffffffffff_0", "windbreak_old_ffffffffff_0"])
