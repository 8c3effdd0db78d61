"""The agent: signed calls only, each change once, its state apart from what a restore undoes."""

import base64
import hashlib
import json
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from windbreak.links import signing
from windbreak.links.signed_agent import EPOCH, FOR, SERVICE
from windbreak.standins.agent import LinkLineRefused, MillraceAgent
from windbreak.standins.catalogue import LOOM, archive, find
from windbreak.standins.fleet import SITES, lay_out

URL = "http://127.0.0.1:9/_windbreak/"


class WithAgent(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.demo = next(s for s in SITES if s.slug == "skerry-light")
        self.site, self.agent = lay_out(self.folder, self.demo)
        self.key = signing.new_key()
        said = json.dumps({"key": signing.public_text(self.key), "code": "once"})
        self.line = "windbreak-link." + base64.urlsafe_b64encode(said.encode()).decode()
        self.agent.paste(self.line)
        self.told: dict[str, str] = {}
        self.call("hello", nonce="n", site="skerry-light", address="http://127.0.0.1:9")

    def ask(self, call: str, key: Any = None, **args: object) -> tuple[int, dict[str, Any]]:
        body = json.dumps(args).encode()
        now = datetime.now(UTC)
        told = {FOR: self.agent.fact("id") or "-", SERVICE: "s-1", EPOCH: "1", **self.told}
        headers = signing.sign_request(
            key or self.key, "POST", URL + call, body, now, "windbreak-agent", told
        )
        low = {k.lower(): v for k, v in headers.items()}
        status, text, _ = self.agent.answer(call, URL + call, low, body)
        return status, json.loads(text)

    def call(self, call: str, **args: object) -> dict[str, Any]:
        status, said = self.ask(call, **args)
        self.assertEqual(status, 200, said)
        return said

    def refused(self, code: str, call: str, **args: object) -> str:
        status, said = self.ask(call, **args)
        self.assertEqual((status, said["code"]), (409, code), said)
        return str(said["detail"])

    def apply(self, change: str, product: str, version: str, **other: object) -> dict[str, Any]:
        made = find(product, version)
        data = archive(made)
        args: dict[str, Any] = {
            "change": change,
            "site": "skerry-light",
            "product": product,
            "version": version,
            "size": len(data),
            "sha256": hashlib.sha256(data).hexdigest(),
            "archive": base64.b64encode(data).decode(),
        }
        return {**args, **other}

    def version(self, product: str) -> str:
        found = {c["product"]: c["version"] for c in self.call("inventory")["components"]}
        return str(found[product])


class Linking(WithAgent):
    def test_white_space_around_the_line_does_no_harm_and_nonsense_is_refused(self) -> None:
        self.agent.paste(f"\n   {self.line[:40]}\n{self.line[40:]}\t ")
        for line in ("", "nonsense", "windbreak-link.!!!", "windbreak-link.e30"):
            with self.subTest(line=line), self.assertRaises(LinkLineRefused):
                self.agent.paste(line)

    def test_a_code_is_good_once(self) -> None:
        self.refused(
            "not-permitted", "hello", nonce="n", site="skerry-light", address="http://127.0.0.1:9"
        )

    def test_another_key_is_turned_away_and_after_goodbye_ours_too(self) -> None:
        self.assertEqual(self.ask("inventory", key=signing.new_key())[0], 401)
        self.call("goodbye")
        self.assertEqual(self.ask("inventory")[0], 401)

    def test_a_looking_pass_is_in_no_address_and_holds_for_its_minutes(self) -> None:
        look = self.call("look")
        self.assertNotIn("pass=", str(look["editor"]))
        self.assertTrue(self.agent.memory.holds_pass(str(look["pass"])))
        self.assertFalse(self.agent.memory.holds_pass("guessed"))


class Changes(WithAgent):
    def test_an_apply_swaps_the_folder_and_keeps_the_old_one_aside(self) -> None:
        leftover = self.site.root / "plugins/oarlock/dead.txt"
        leftover.write_text("of the old version")
        self.call("apply", **self.apply("c1", "plugin/oarlock", "7.2"))
        self.assertEqual(self.version("plugin/oarlock"), "7.2")
        self.assertFalse(leftover.exists())
        self.call("put-back", change="c2", product="plugin/oarlock", of="c1")
        self.assertEqual(self.version("plugin/oarlock"), "7.1.2")
        self.assertTrue(leftover.exists())

    def test_a_change_id_is_carried_out_once_and_answers_alike(self) -> None:
        first = self.call("apply", **self.apply("c1", "plugin/oarlock", "7.2"))
        self.call("put-back", change="c2", product="plugin/oarlock", of="c1")
        self.assertEqual(self.call("apply", **self.apply("c1", "plugin/oarlock", "7.2")), first)
        self.assertEqual(self.version("plugin/oarlock"), "7.1.2")
        self.assertEqual(self.call("change", change="c1")["state"], "done")
        self.assertEqual(self.call("change", change="never")["state"], "unknown")

    def test_what_was_not_promised_is_refused_before_anything_is_touched(self) -> None:
        good = self.apply("x", "plugin/oarlock", "7.2")
        other = self.apply("x", "plugin/lee", "5.5")
        for code, change in [
            ("not-permitted", {"site": "tarnsey-harbour"}),
            ("checksum", {"sha256": "0" * 64}),
            ("checksum", {"size": 1}),
            ("wrong-archive", {k: other[k] for k in ("archive", "size", "sha256")}),
            ("wrong-archive", {"version": "7.3"}),
        ]:
            with self.subTest(code=code, change=list(change)):
                id = f"c-{code}-{len(change)}-{next(iter(change))}"
                self.refused(code, "apply", **{**good, **change, "change": id})
                self.assertEqual(self.version("plugin/oarlock"), "7.1.2")
                self.assertEqual(self.call("change", change=id)["state"], "failed")

    def test_the_agents_state_lies_outside_what_a_restore_undoes(self) -> None:
        snapshot = self.call("snapshot", change="s")["snapshot"]
        self.call("apply", **self.apply("c1", "plugin/oarlock", "7.2"))
        self.call("switch", change="off", product="plugin/lee", on=False)
        self.call("restore", change="r", snapshot=snapshot)
        self.assertEqual(self.version("plugin/oarlock"), "7.1.2")
        self.assertEqual(self.site.setting("on:plugin/lee"), "on")
        self.assertEqual(self.call("change", change="c1")["state"], "done")
        self.refused("not-permitted", "restore", change="r2", snapshot="nothing")

    def test_what_is_switched_tells_what_it_was(self) -> None:
        self.assertEqual(self.call("updates", change="1", on=False), {"was": True})
        self.assertEqual(self.call("updates", change="2", on=True), {"was": False})
        self.assertEqual(self.call("maintenance", change="3", on=True), {"was": False})
        self.assertTrue(self.site.maintenance.exists())
        self.assertEqual(self.call("caches", change="4", on=False), {"was": {"plugin/lee": True}})
        self.assertEqual(self.call("inventory")["caches_off"], ["plugin/lee"])
        on = self.call("caches", change="4b", on=True, name="plugin/lee")
        self.assertEqual(on, {"was": {"plugin/lee": False}})
        self.refused("not-permitted", "caches", change="4c", on=True, name="plugin/none")
        self.call("caches", change="4d", on=False)
        self.assertEqual(self.call("inventory")["caches"], [])

    def test_a_runtime_is_switched_to_what_the_host_offers(self) -> None:
        self.assertEqual(
            self.call("runtime", change="1", product=LOOM, version="8.3"), {"was": "8.1"}
        )
        self.assertIn("9.0", self.refused(
            "not-permitted", "runtime", change="2", product=LOOM, version="9.0"
        ))  # fmt: skip

    def test_a_removed_plugin_is_gone_and_can_not_be_removed_again(self) -> None:
        self.call("remove", change="1", product="plugin/tidetable")
        products = [c["product"] for c in self.call("inventory")["components"]]
        self.assertNotIn("plugin/tidetable", products)
        self.refused("already-there", "remove", change="2", product="plugin/tidetable")
        for product in ("plugin/../..", "runtime/loom", "plugin/"):
            self.refused("not-permitted", "remove", change=product, product=product)

    def test_one_change_at_a_time(self) -> None:
        with self.agent.lock:
            self.refused("busy", "purge", change="1")
        self.call("purge", change="1")

    def test_what_was_under_way_when_the_agent_died_is_not_trusted(self) -> None:
        self.agent.memory.begin("c9", "apply")
        again = MillraceAgent(self.folder / "skerry-light/agent", self.site, {})
        self.assertEqual(again.memory.change("c9")["state"], "failed")

    def test_odd_calls_are_refused(self) -> None:
        self.refused("not-permitted", "explode", change="1")
        self.refused("unknown", "switch", change="2")
        self.refused("not-permitted", "switch", change="3", product="plugin/none", on=True)
