"""The command line as a process: what it prints, and its exit statuses."""

import argparse
import json
import os
import re
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path

from tests.core.resolution.test_resolve import DATA, EXPECTED
from tests.running import WithDemo
from windbreak.cli.main import parser
from windbreak.core.values.sites import Window
from windbreak.operations.scheduling.nights import job_id
from windbreak.standins import catalogue
from windbreak.standins.feeds import GANTRY_KEY


def windbreak(*args: str, given: str = "", **environment: str) -> subprocess.CompletedProcess[str]:
    kept = {k: v for k, v in os.environ.items() if not k.startswith("WINDBREAK_")}
    return subprocess.run(
        [sys.executable, "-m", "windbreak", *args],
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
        input=given,
        env={**kept, "WINDBREAK_PROFILE": "/nonexistent/profile.json", **environment},
    )


def commands(
    top: argparse.ArgumentParser, line: str = ""
) -> Iterator[tuple[str, argparse.ArgumentParser]]:
    """Every command that does something, with its parser."""
    groups = [a for a in top._actions if isinstance(a, argparse._SubParsersAction)]
    if not groups:
        yield line.strip(), top
    for group in groups:
        for name, sub in group.choices.items():
            yield from commands(sub, f"{line} {name}")


class Cases(unittest.TestCase):
    def test_each_file_gives_one_line_in_order(self) -> None:
        files = [str(DATA / f"{name}.json") for name in ("hand-odds", "small-1000")]
        done = windbreak("case", "resolve", *files, "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        lines = [json.loads(line) for line in done.stdout.splitlines()]
        self.assertEqual([line["file"] for line in lines], files)
        for line, name in zip(lines, ("hand-odds", "small-1000"), strict=True):
            self.assertEqual(line["format"], "windbreak-resolution/1")
            self.assertEqual(line["objective"], EXPECTED[name]["objective"])
            for verdict in line["verdicts"]:
                self.assertEqual(
                    set(verdict), {"product", "from", "to", "newest", "outcome", "blocked"}
                )

    def test_orders_are_plans_with_a_why_for_each_step(self) -> None:
        done = windbreak("case", "order", str(DATA / "hand-two-stages.json"), "--json")
        plan = json.loads(done.stdout)
        self.assertEqual(plan["cost"], {"combined": 0, "steps": 5})
        self.assertTrue(all(step["why"] for step in plan["steps"]))

    def test_a_bad_file_is_told_and_the_others_are_answered(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            bad = Path(folder) / "bad.json"
            raw = json.loads((DATA / "hand-odds.json").read_text())
            raw["releases"][0]["from"] = ">=5 <6"
            raw["site"]["components"][0]["version"] = "six"
            bad.write_text(json.dumps(raw))
            good = str(DATA / "hand-bridge.json")
            done = windbreak("case", "resolve", str(bad), "/nowhere.json", good, "--json")
        self.assertEqual(done.returncode, 1)
        lines = [json.loads(line) for line in done.stdout.splitlines()]
        self.assertIn("$.releases[0].from", lines[0]["error"])
        self.assertIn("$.site.components[0].version", lines[0]["error"])
        self.assertIn("error", lines[1])
        self.assertEqual(lines[2]["site"], "bridge")

    def test_people_get_sentences(self) -> None:
        done = windbreak("case", "resolve", str(DATA / "hand-not-offered.json"))
        self.assertIn("would help: Ask the host for runtime/loom 8.1", done.stdout)


class Use(unittest.TestCase):
    def test_wrong_use_exits_with_2(self) -> None:
        for args in [("nonsense",), ("run", "watch", "x"), ("book", "1", "--at", "soon"), ()]:
            with self.subTest(args=args):
                self.assertEqual(windbreak(*args).returncode, 2)

    def test_without_a_profile_it_says_how_to_sign_in(self) -> None:
        done = windbreak("today")
        self.assertEqual(done.returncode, 4)
        self.assertIn("windbreak sign-in", done.stderr)

    def test_a_service_that_is_away_exits_with_3(self) -> None:
        done = windbreak("today", "--service", "http://127.0.0.1:9", "--token", "x")
        self.assertEqual(done.returncode, 3)
        self.assertIn("http://127.0.0.1:9", done.stderr)

    def test_a_setting_that_is_wrong_is_named_with_its_place(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            done = windbreak("serve", "--data", folder, "--port", "many")
            self.assertEqual(done.returncode, 2)
            self.assertIn("option --port", done.stderr)
            done = windbreak("serve", "--data", folder, WINDBREAK_SOAK_MAJOR="-1")
            self.assertIn("WINDBREAK_SOAK_MAJOR", done.stderr)
            (Path(folder) / "windbreak.toml").write_text("colour = 1\n")
            done = windbreak("serve", "--data", folder)
            self.assertIn("there is no setting 'colour'", done.stderr)

    def test_where_a_token_goes_is_the_same_option_of_every_command(self) -> None:
        """No command gives "--service" or "--token" another meaning."""
        for name in ("--service", "--token"):
            meant = {
                id(action): action.dest
                for _, one in commands(parser())
                for action in one._actions
                if name in action.option_strings
            }
            self.assertEqual(list(meant.values()), [name.removeprefix("--")])

    def test_a_part_of_an_option_is_not_taken_for_it(self) -> None:
        for words in (("today", "--serv", "http://127.0.0.1:9"), ("today", "--tok", "x")):
            with self.subTest(words=words):
                done = windbreak(*words)
                self.assertEqual(done.returncode, 2)
                self.assertIn("unrecognized arguments", done.stderr)

    def test_completion_knows_the_verbs(self) -> None:
        script = windbreak("completion", "bash").stdout
        self.assertIn("list add link unlink show", script)
        line = "COMP_WORDS=(windbreak run w); COMP_CWORD=2; _windbreak"
        test = f'{script}\n{line}; echo "${{COMPREPLY[*]}}"'
        done = subprocess.run(
            ["bash", "-c", test], capture_output=True, text=True, check=False, timeout=20
        )
        self.assertEqual(done.stdout.strip(), "watch", done.stderr)


class OverTheDemo(WithDemo):
    def ask(self, *args: str) -> subprocess.CompletedProcess[str]:
        return windbreak(*args, WINDBREAK_SERVICE=self.demo.address, WINDBREAK_TOKEN=self.token)

    def test_the_main_commands_answer(self) -> None:
        for args, part in [
            (("today",), "want you"),
            (("site", "list"), "tarnsey-harbour"),
            (("site", "show", "tarnsey"), "carried by Breakwater"),
            (("why", "tarnsey", "millrace"), "soaks until"),
            (("why", "tarnsey", "sextant"), "stays at 2.3.1 on Tarnsey Harbour Museum. Newest."),
            (("resolve", "whinchat"), "Trestle"),
            (("acts",), "Buy 2 licences for Trestle"),
            (("acts", "--show", "1"), "frees"),
            (("resolve", "tarnsey", "--if", "lift-hold lee"), "Nothing was changed"),
            (("plan", "tarnsey", "--if", "wait 2099-01-01"), "as it would be"),
            (("why", "tarnsey", "trestle"), "See it without changing anything"),
            (("policy", "list"), "everything is asked"),
            (("policy", "show", "tarnsey"), "7/2/1/0"),
            (("feed", "list"), "licences.read"),
            (("product", "show", "breakwater"), "Columns no longer jump."),
            (("host", "list"), "Mole"),
            (("licence", "list"), "Breakwater 5"),
            (("licence", "show", "breakwater"), "in grace till"),
            (("licence", "forecast"), "No known release changes"),
            (("coverage",), "components have a feed"),
            (("advisory", "list"), "A-2026-7"),
            (("product", "list"), "plugin/trestle"),
            (("product", "changes", "breakwater", "4.9", "5.2"), "per-site code"),
            (("feed", "show", "chandlery"), "disagrees"),
            (("site", "list", "--runs", "trestle<5.1"), "whinchat-radio"),
            (("site", "export"), "id,label,address"),
            (("site", "export", "tarnsey"), "CycloneDX"),
            (("metrics",), "windbreak_sites"),
            (("hook", "list"), "No web hook"),
            (("account", "list"), "rhona"),
            (("calendar-address",), r"calendar\.ics\?key="),
            (("shelf", "list"), "The shelf is empty|by hand"),
            (("calendar",), "Nights of "),
            (("rollout", "list"), "There is no rollout."),
            (("run", "list"), "Nothing has run yet|done|put back"),
            (("ledger",), "linked"),
            (("finding", "list"), "Millrace"),
            (("product", "holds"), "Nothing is held|lee"),
        ]:
            with self.subTest(args=args):
                done = self.ask(*args)
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertRegex(done.stdout, part)

    def given(self, text: str, *args: str) -> subprocess.CompletedProcess[str]:
        """A command with something on its standard input."""
        told = {"WINDBREAK_SERVICE": self.demo.address, "WINDBREAK_TOKEN": self.token}
        return windbreak(*args, given=text, **told)

    def test_bad_input_is_told_in_a_sentence_with_what_would_be_right(self) -> None:
        for args, status, part in [
            (("licence", "add", "x", "X", "seats"), 2, "name one of them"),
            (
                ("feed", "add", "Bad Id", "L", "https://maker.example"),
                2,
                "id: 'Bad Id' is not an id",
            ),
            (("feed", "add", "ok", "L", "ftp://x"), 2, "url: 'ftp://x' is not an address"),
            (("hook", "add", "desk", "nonsense"), 2, "url: 'nonsense' is not an address"),
            (("shelf", "add", "/nonexistent"), 1, "/nonexistent: no such file"),
            (("product", "changes", "breakwater", "x", "y"), 1, "'x' is not a version"),
            (("product", "decide", "capstan", "9.9", "first", "--why", "x"), 1, "no release"),
            (("finding", "snooze", "sources:chan", "2020-01-01", "--why", "x"), 1, "not ahead"),
            (("digest",), 1, "set mail_server and mail_to"),
        ]:
            with self.subTest(args=args):
                done = self.ask(*args)
                self.assertEqual(done.returncode, status, done.stderr)
                self.assertIn(part, done.stderr)
                self.assertNotIn("pydantic", done.stderr)
                self.assertEqual(len(done.stderr.splitlines()), 1)

    def test_a_recipe_is_tried_and_nothing_is_kept(self) -> None:
        text = (Path(catalogue.__file__).parent / "gantry.toml").read_text()
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "gantry.toml"
            file.write_text(text.replace("http://gantry.example", self.where["feeds"]))
            done = self.given(GANTRY_KEY, "feed", "try", str(file))
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("plugin/trestle 5.2", done.stdout)
            self.assertIn("Nothing was kept", done.stdout)
            self.assertNotIn(GANTRY_KEY, done.stdout)
            wrong = self.given("a-wrong-key", "feed", "try", str(file))
            self.assertEqual(wrong.returncode, 1)
            self.assertIn("turned the credential away", wrong.stdout)
            file.write_text("label = 1")
            done = self.given("", "feed", "try", str(file))
            self.assertEqual(done.returncode, 1)
            self.assertIn("fields", done.stderr)

    def test_what_leaves_a_site_has_a_plan_of_its_own_and_what_is_needed_stays(self) -> None:
        done = self.ask("plan", "tarnsey", "--remove", "slate-editor")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("It takes away, and moves nothing.", done.stdout)
        self.assertIn("Slate Editor 1.9 → gone", done.stdout)
        for product, why in (
            ("breakwater", "is the theme in use"),
            ("breakwater-keel", "asks for Breakwater Keel: it would be brought back"),
            ("millrace", "is what the site runs on"),
        ):
            refused = self.ask("plan", "tarnsey", "--remove", product)
            self.assertEqual(refused.returncode, 1, product)
            self.assertIn(why, refused.stderr)

    def test_where_each_credential_is_used_is_a_table_that_shows_none(self) -> None:
        done = self.ask("licence", "credentials", "--site", "tarnsey")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("seen valid", done.stdout)
        self.assertIn("a code for each site", done.stdout)
        self.assertNotIn("BW5-TARNSEY", done.stdout)

    def test_a_seat_too_many_is_told_with_what_would_be_right(self) -> None:
        done = self.given("BW5-SEAPINK-0001", "licence", "seat", "breakwater", "seapink", "--code")
        self.assertEqual(done.returncode, 0, done.stderr)
        again = self.given("BW5-SEAPINK-0001", "licence", "seat", "breakwater", "skerry", "--code")
        self.assertEqual(again.returncode, 1)
        self.assertIn("on Seapink Florists already", again.stderr)
        self.assertNotIn("BW5-SEAPINK-0001", again.stderr)
        done = self.ask("licence", "unseat", "breakwater", "seapink", "--yes")
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_the_complete_download_is_put_on_the_shelf_and_given_to_a_site(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "stamps.zip"
            file.write_bytes(
                catalogue.complete_download(catalogue.find("plugin/oarlock-stamps", "2.0"))
            )
            done = self.ask("shelf", "add", str(file))
            self.assertIn("complete download", done.stdout)
            self.assertIn("gives no right", done.stdout)
            package = self.ask("shelf", "list", "-q").stdout.split()[-1]
            given = self.ask("shelf", "give", package[:12], "tarnsey")
            self.assertIn("tarnsey-harbour may have", given.stdout)
            file.write_bytes(b"nothing")
            done = self.ask("shelf", "add", str(file))
            self.assertEqual(done.returncode, 1)
            self.assertIn("a zip archive", done.stderr)

    def test_a_finding_is_put_aside_by_a_part_of_its_id(self) -> None:
        id = "sources:chandlery"
        until = (self.now().date() + timedelta(days=5)).isoformat()
        done = self.ask("finding", "snooze", id, until, "--why", "they know")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertNotIn(id, self.ask("finding", "list", "-q").stdout)
        self.assertIn("they know", self.ask("finding", "show", id).stdout)
        self.assertEqual(self.ask("finding", "wake", id).returncode, 0)
        self.assertEqual(self.ask("finding", "show", "no-such").returncode, 1)

    def test_a_backup_is_restored_into_a_copy_that_drives_nothing(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file, copy = f"{folder}/night.zip", f"{folder}/copy"
            data = str(self.demo.service_folder)
            done = self.given("salt and grass and wind", "backup", "--data", data, file)
            self.assertEqual(done.returncode, 0, done.stderr)
            wrong = self.given("another passphrase", "restore", file, "--data", copy)
            self.assertEqual(wrong.returncode, 1)
            self.assertFalse(Path(copy).exists())
            done = self.given("salt and grass and wind", "restore", file, "--data", copy)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("drives no site", done.stdout)
            self.assertTrue((Path(copy) / "windbreak.db").exists())

    def test_sites_come_in_from_a_csv_and_a_site_is_retired(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "sites.csv"
            file.write_text("label,address,tags\nPuffin Tours,https://puffin.example,shop night\n")
            self.assertIn("1 site registered", self.ask("site", "import", str(file)).stdout)
            self.assertIn("puffin-tours", self.ask("site", "list", "--tag", "night").stdout)
            file.write_text("label,address\nX,nowhere\n")
            bad = self.ask("site", "import", str(file))
            self.assertEqual(bad.returncode, 1)
            self.assertIn("line 2, address", bad.stderr)
        done = self.ask("site", "retire", "puffin", "--yes", "--why", "it closed")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertNotIn("puffin", self.ask("site", "list").stdout)
        self.assertIn("it closed", self.ask("ledger", "puffin-tours").stdout)

    def test_json_is_what_the_api_gives(self) -> None:
        done = self.ask("site", "list", "--json")
        self.assertEqual(json.loads(done.stdout), self.http("GET", "/sites").json())
        self.assertEqual(
            self.ask("site", "list", "-q").stdout.split(), [s.id for s in self.windbreak.sites()]
        )

    def test_what_if_and_rules_refuse_what_they_cannot_read(self) -> None:
        for args, status, part in [
            (("plan", "tarnsey", "--if", "offer loom 99"), 1, "the newest is"),
            (("resolve", "tarnsey", "--if", "nonsense"), 1, "write it as one of"),
            (("acts", "--show", "999"), 1, "none of them"),
            (("policy", "set", "--soak", "huge=3", "--why", "x"), 2, "write it as major=21"),
            (
                ("policy", "set", "--client", "Nobody", "--take", "ask", "--why", "x"),
                1,
                "o site is of",
            ),
            (("policy", "drop", "nothing"), 1, "nothing"),
            (("product", "skip", "lee", "99", "--why", "x"), 1, "no feed tells of"),
            (("lockstep", "set", "lee", "lee", "--why", "x"), 2, "with itself"),
            (("lockstep", "set", "lee", "nosuch", "--why", "x"), 1, "no product 'nosuch'"),
            (("clash", "add", "lee", ">>3", "sextant", "*", "--why", "x"), 2, "'>>3', at sign 2"),
            (("clash", "drop", "nothing"), 1, "nothing"),
        ]:
            with self.subTest(args=args):
                done = self.ask(*args)
                self.assertEqual(done.returncode, status, done.stderr)
                self.assertIn(part, done.stderr)

    def test_a_rule_is_set_shown_and_dropped(self) -> None:
        done = self.ask("policy", "set", "--site", "tarnsey", "--product", "lee", "--soak",
                        "minor=30", "--take", "never", "--why", "a test")  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        rule = re.search(r"Rule (\w+) for", done.stdout)
        assert rule is not None
        self.assertIn("tarnsey-harbour, plugin/lee", self.ask("policy", "show", "tarnsey").stdout)
        self.assertIn("by the rule for", self.ask("why", "tarnsey", "lee").stdout)
        self.assertEqual(self.ask("policy", "drop", rule[1]).returncode, 0)
        self.assertNotIn(rule[1], self.ask("policy", "list").stdout)

    def test_ties_are_said_on_the_product_and_with_a_hold(self) -> None:
        made = self.ask("lockstep", "set", "lee", "tidetable", "--match", "major", "--why", "x")
        group = re.search(r"lockstep (\w+)", made.stdout)
        made = self.ask("clash", "add", "lee", ">=99", "sextant", "<2.3", "--why", "stale pages")
        clash = re.search(r"clash: clash (\w+)", made.stdout)
        assert group is not None and clash is not None, made.stderr
        shown = self.ask("product", "show", "lee").stdout
        self.assertIn("must match in their first number", shown)
        self.assertIn("Clash of 99 or newer with plugin/sextant, below 2.3: stale pages", shown)
        held = self.ask("product", "hold", "lee", "--range", ">=99", "--why", "a test")
        self.assertIn("It freezes what must match it: plugin/tidetable.", held.stdout)
        hold = re.search(r"hold (\w+)\.", held.stdout)
        assert hold is not None
        self.assertIn(group[1], self.ask("lockstep", "list").stdout)
        for args in (
            ("product", "lift", hold[1]),
            ("lockstep", "drop", group[1]),
            ("clash", "drop", clash[1]),
        ):
            self.assertEqual(self.ask(*args).returncode, 0, args)
        self.assertNotIn(clash[1], self.ask("clash", "list").stdout)

    def test_a_case_exported_resolves_offline_to_the_same(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = f"{folder}/case.json"
            self.assertEqual(self.ask("case", "export", "tarnsey", "--to", file).returncode, 0)
            offline = json.loads(windbreak("case", "resolve", file, "--json").stdout)
        live = self.windbreak.verdicts("tarnsey-harbour")
        self.assertEqual(offline["objective"], live.objective.model_dump())
        self.assertEqual(
            {v["product"]: v["to"] for v in offline["verdicts"]},
            {v.product: v.to for v in live.verdicts},
        )

    def test_a_night_is_booked_read_offline_and_goes_around_a_freeze(self) -> None:
        site = "seapink-florists"
        plan = self.windbreak.draft_plan(site)
        self.windbreak.approve_plan(plan.id, "a test")
        refused = self.ask("book", str(plan.id), "--all")
        self.assertEqual((refused.returncode, "no plan" in refused.stderr), (2, True))
        booked = json.loads(self.ask("book", "--all", "--json").stdout)
        booking = next(b for b in booked["bookings"] if b["site"] == site)
        with tempfile.TemporaryDirectory() as folder:
            file = f"{folder}/night.json"
            self.assertIn(
                f"windbreak timetable {file}", self.ask("night-book", "--to", file).stdout
            )
            answer = json.loads(windbreak("timetable", file, "--json").stdout)
        kept = next(b for b in answer["bookings"] if b["job"] == job_id(plan.id))
        self.assertEqual(kept["start"], booking["starts_at"])
        self.assertEqual([why["kind"] for why in kept["why"]], ["kept"])
        starts = datetime.fromisoformat(booking["starts_at"])
        span = [(starts - timedelta(hours=1)).isoformat(), (starts + timedelta(days=1)).isoformat()]
        told = self.ask("freeze", "add", *span, "--site", site, "--why", "a sale")
        self.assertIn("moved: Seapink Florists", told.stdout)
        (freeze,) = json.loads(self.ask("freeze", "list", "--json").stdout)
        self.assertEqual((freeze["site"], freeze["reason"]), (site, "a sale"))
        self.assertEqual(self.ask("freeze", "lift", str(freeze["id"])).returncode, 0)
        for left in self.windbreak.bookings():
            self.assertEqual(self.ask("take-out", str(left.id)).returncode, 0)
        backwards = self.ask("freeze", "add", *span[::-1], "--why", "x")
        self.assertEqual(backwards.returncode, 2)
        self.assertIn("a freeze ends after it begins", backwards.stderr)

    def test_what_changes_something_asks_and_refuses_where_nobody_answers(self) -> None:
        plan = self.ask("plan", "skerry-light", "-q").stdout.strip()
        done = self.ask("approve", plan)
        self.assertEqual(done.returncode, 2)
        self.assertIn("--yes", done.stderr)
        self.assertEqual(self.windbreak.plan(int(plan)).state, "draft")
        self.assertEqual(self.ask("approve", plan, "--yes", "--why", "a test").returncode, 0)
        # Its window is at night: --yes alone does not mean that it may begin now.
        self.windbreak.set_windows("skerry-light", [Window(start="01:00", end="03:00")], "UTC")
        done = self.ask("run", "start", plan, "--yes", "--watch")
        self.assertEqual(done.returncode, 1, done.stdout)
        self.assertIn("outside of the windows of Skerry Light Trust", done.stderr)
        self.assertIn("--outside-window", done.stderr)
        done = self.ask("run", "start", plan, "--yes", "--watch", "--outside-window")
        self.assertEqual(done.returncode, 0, done.stderr + done.stdout)
        self.assertIn("done: 6 steps done", done.stdout)

    def test_errors_say_what_and_where_and_what_helps(self) -> None:
        for args, status, part in [
            (("site", "show", "atlantis"), 1, "windbreak site list"),
            (("plan", "99"), 1, "99"),
            (("approve", "99", "--yes"), 1, "99"),
            (("product", "hold", "lee", "--range", "~5", "--why", "x"), 2, "at sign 1"),
            (("shelf", "add", "/nowhere.zip"), 1, "/nowhere.zip"),
            (("sign-in", "http://x/"), 2, "sign-in link"),
            (("site", "window", "tarnsey", "1am", "5am"), 2, "1am"),
        ]:
            with self.subTest(args=args):
                done = self.ask(*args)
                self.assertEqual(done.returncode, status, done.stderr)
                self.assertIn(part, done.stderr)
                self.assertNotIn("Traceback", done.stderr)

    def test_what_came_once_has_nothing_to_decide_and_a_decision_wants_its_why(self) -> None:
        told = self.ask("product", "decide", "lee", "5.5")
        self.assertEqual(told.returncode, 0, told.stderr)
        self.assertIn("came once; there is nothing to decide", told.stdout)
        for words, said in [(("5.5", "new"), "--why TEXT"), (("0.0.1",), "is not known")]:
            with self.subTest(words=words):
                told = self.ask("product", "decide", "lee", *words)
                self.assertIn(said, told.stderr)
                self.assertIn(told.returncode, (1, 2))

    def test_the_link_is_of_an_open_account_and_leads_to_the_service(self) -> None:
        data = str(self.demo.service_folder)
        told = windbreak("sign-in-link", "--data", data, "--account", "rhona")
        self.assertEqual(told.returncode, 0, told.stderr)
        self.assertTrue(told.stdout.startswith(f"{self.demo.address}/sign-in#"), told.stdout)
        for account, said in [("nobody", "there is no account"), ("owen", "is closed")]:
            if account == "owen":
                self.http("POST", "/accounts", json={"id": "owen", "name": "Owen Pell"})
                closed = self.http("DELETE", "/accounts/owen")
                self.assertLess(closed.status_code, 300, closed.text)
            with self.subTest(account=account):
                told = windbreak("sign-in-link", "--data", data, "--account", account)
                self.assertEqual(told.returncode, 1)
                self.assertIn(said, told.stderr)
                self.assertIn("rhona", told.stderr)

    def test_a_token_goes_to_its_own_service_only(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            profile = Path(folder) / "profile.json"
            profile.write_text(json.dumps({"address": self.demo.address, "token": self.token}))
            mine = windbreak("today", WINDBREAK_PROFILE=str(profile))
            self.assertEqual(mine.returncode, 0, mine.stderr)
            other = windbreak(
                "today", "--service", "http://127.0.0.1:9", WINDBREAK_PROFILE=str(profile)
            )
            self.assertEqual(other.returncode, 4)
            self.assertIn("http://127.0.0.1:9", other.stderr)

    def test_what_is_written_is_read_at_once(self) -> None:
        """A command waits until what the command before it wrote is shown."""
        for n in range(3):
            held = self.ask(
                "product", "hold", "lee", "--site", "tarnsey-harbour", "--why", f"try {n}"
            )
            self.assertEqual(held.returncode, 0, held.stderr)
            shown = json.loads(self.ask("site", "show", "tarnsey-harbour", "--json").stdout)
            (lee,) = [c for c in shown["components"] if c["product"] == "plugin/lee"]
            self.assertEqual(lee["state"], "held")
            hold = json.loads(self.ask("product", "holds", "--json").stdout)[-1]
            lifted = self.ask("product", "lift", hold["id"])
            self.assertEqual(lifted.returncode, 0, lifted.stderr)
            shown = json.loads(self.ask("site", "show", "tarnsey-harbour", "--json").stdout)
            (lee,) = [c for c in shown["components"] if c["product"] == "plugin/lee"]
            self.assertNotEqual(lee["state"], "held")

    def test_a_terminal_signs_in_with_a_link_once(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            profile = f"{folder}/profile.json"
            link = self.demo.link()
            done = windbreak("sign-in", link, WINDBREAK_PROFILE=profile)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertEqual(Path(profile).stat().st_mode & 0o777, 0o600)
            self.assertEqual(windbreak("today", WINDBREAK_PROFILE=profile).returncode, 0)
            self.assertEqual(windbreak("sign-in", link, WINDBREAK_PROFILE=profile).returncode, 4)
