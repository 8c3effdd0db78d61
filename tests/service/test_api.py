"""The network interface: who may ask, what is answered, and how errors look."""

import threading
import time
from datetime import UTC, datetime, timedelta

import httpx

from tests.running import WithDemo
from windbreak.client import Problem, Unreachable, Windbreak
from windbreak.core.values.rollouts import NewRollout
from windbreak.core.values.sites import NewSite, Window
from windbreak.operations.administration.clocks import put_ahead
from windbreak.standins.feeds import SECRETS, TOKEN
from windbreak.standins.fleet import FEW

OPEN = {
    ("post", "/api/v1/session"),
    ("get", "/api/v1/calendar.ics"),  # its key is in its address
    ("get", "/health"),
    ("get", "/ready"),
}


class Api(WithDemo):
    def openapi(self) -> dict[str, dict[str, dict[str, object]]]:
        found: dict[str, dict[str, dict[str, object]]] = self.http("GET", "/openapi.json").json()
        return found

    def test_every_route_but_health_and_signing_in_needs_a_principal(self) -> None:
        for path, methods in self.openapi()["paths"].items():
            for method in methods:
                if (method, path) in OPEN:
                    continue
                url = path.replace("{id}", "1").replace("{kind}", "core").replace("{slug}", "x")
                with self.subTest(method=method, path=path):
                    answer = httpx.request(method, self.demo.address + url, trust_env=False)
                    self.assertEqual(answer.status_code, 401)
                    self.assertEqual(answer.headers["content-type"], "application/problem+json")
                    self.assertEqual(answer.json()["code"], "not-permitted")

    def test_health_answers_anybody(self) -> None:
        for path in ("/health", "/ready"):
            self.assertEqual(httpx.get(self.demo.address + path, trust_env=False).status_code, 200)

    def test_an_answer_tells_the_time_by_the_service_s_clock(self) -> None:
        self.addCleanup(self.demo.clock.write_text, self.demo.clock.read_text())
        for ahead in (timedelta(), timedelta(days=3)):
            put_ahead(self.demo.clock, ahead)
            told = self.http("GET", "/api/v1/today").headers["service-time"]
            off = datetime.fromisoformat(told) - datetime.now(UTC) - ahead
            self.assertLess(abs(off), timedelta(minutes=1))

    def test_every_route_says_what_it_does(self) -> None:
        for path, methods in self.openapi()["paths"].items():
            for method, said in methods.items():
                with self.subTest(method=method, path=path):
                    self.assertTrue(said.get("description") or said.get("summary"))

    def test_every_body_has_an_example(self) -> None:
        document = self.http("GET", "/openapi.json").json()
        for path, methods in document["paths"].items():
            for method, said in methods.items():
                for kind, media in said.get("requestBody", {}).get("content", {}).items():
                    if kind == "text/csv":
                        continue
                    name = media["schema"].get("$ref", "").rpartition("/")[2]
                    with self.subTest(method=method, path=path):
                        self.assertTrue(document["components"]["schemas"][name]["examples"])

    def test_a_wrong_token_is_told_how_to_sign_in(self) -> None:
        answer = self.http("GET", "/sites", headers={"authorization": "Bearer nonsense"})
        self.assertEqual(answer.status_code, 401)
        self.assertIn("sign in", answer.json()["detail"].lower())

    def test_a_sign_in_link_is_good_once(self) -> None:
        secret = self.demo.link().partition("#")[2]
        first = self.http("POST", "/session", json={"link": secret}, headers={})
        self.assertEqual(first.status_code, 200)
        cookie = first.headers["set-cookie"]
        self.assertIn("HttpOnly", cookie)
        self.assertIn("SameSite=strict", cookie)
        again = self.http("POST", "/session", json={"link": secret}, headers={})
        self.assertEqual(again.status_code, 401)
        # A page from elsewhere may not use the session to change something.
        session = {"cookie": cookie.split(";")[0]}
        self.assertEqual(self.http("GET", "/session", headers=session).status_code, 200)
        foreign = {**session, "origin": "https://elsewhere.example"}
        self.assertEqual(self.http("POST", "/sites/refresh", headers=foreign).status_code, 401)

    def test_a_password_signs_in_and_five_wrong_tries_make_the_name_rest(self) -> None:
        def enter(password: str) -> int:
            said = {"account": "rhona", "password": password}
            return self.http("POST", "/session", json=said, headers={}).status_code

        with self.assertRaises(Problem) as caught:
            self.windbreak.set_password("short")
        self.assertEqual(caught.exception.code, "short-password")
        self.windbreak.set_password("salt and grass and wind")
        self.assertEqual(enter("salt and grass and wind"), 200)
        self.assertEqual([enter("nonsense") for _ in range(5)], [401] * 5)
        self.assertEqual(enter("salt and grass and wind"), 401)

    def test_what_is_not_there_and_what_is_wrong_are_problems(self) -> None:
        site = {"label": "X", "address": "nowhere"}
        hold = {"product": "core/millrace", "range": ">=5 <6", "reason": "x"}
        for method, path, body, status, part in [
            ("GET", "/sites/nowhere", None, 404, "nowhere"),
            ("GET", "/runs/99", None, 404, "99"),
            ("GET", "/runs/x", None, 422, "path.id"),
            ("POST", "/sites", site, 422, "is not an address"),
            ("POST", "/holds", hold, 422, "at sign 4"),
            ("POST", "/holds", {}, 422, "body.product"),
            ("PUT", "/hosts/mole", {"id": "quay", "name": "Quay"}, 409, "mole"),
            ("GET", "/nothing", None, 404, ""),
            ("DELETE", "/sites", None, 405, ""),
            ("POST", "/plans/99/approval", {}, 404, "99"),
            ("POST", "/feeds", {"id": "x", "label": "x", "url": "x"}, 422, "is not an address"),
        ]:
            with self.subTest(method=method, path=path):
                answer = self.http(method, path, json=body)
                self.assertEqual(answer.status_code, status, answer.text)
                problem = answer.json()
                self.assertEqual(problem["status"], status)
                self.assertIn(part, problem["detail"])
                self.assertTrue(problem["type"].startswith("urn:windbreak:problem:"))

    def test_a_wrong_archive_is_refused_and_nothing_is_kept(self) -> None:
        before = self.windbreak.shelf()
        with self.assertRaises(Problem) as caught:
            self.windbreak.put_on_shelf(b"this is no archive")
        self.assertEqual(caught.exception.code, "wrong-archive")
        self.assertEqual(self.windbreak.shelf(), before)

    def test_no_secret_of_the_demo_is_found_anywhere(self) -> None:
        self.windbreak.poll_feeds()
        self.windbreak.enter_code("breakwater")
        secrets = {*SECRETS, self.token}
        secrets |= {code for site in FEW for code in site.seats.values() if code}
        self.assertGreater(len(secrets), 5)
        sites = [s.id for s in self.windbreak.sites()]
        paths = ["/feeds", "/ledger", "/today", "/licences", "/products", "/coverage", "/findings"]
        paths += ["/sites", "/sites.csv", "/metrics", "/shelf", "/accounts", "/tokens", "/hooks"]
        for site in sites:
            paths += [f"/sites/{site}{more}" for more in ("", "/inventory", "/case", "/verdicts")]
            paths.append(f"/sites/{site}/inventory.cdx.json")
        said = {path: self.http("GET", path).text for path in paths}
        for path in self.demo.data.rglob("*"):
            # The makers' and owners' side may know theirs; all that is ours may not.
            if path.is_file() and self.demo.standins_folder not in path.parents:
                said[str(path)] = path.read_bytes().decode("latin-1")
        for where, text in said.items():
            for secret in secrets:
                with self.subTest(where=where, secret=secret[-4:]):
                    self.assertNotIn(secret, text)

    def test_errors_do_not_tell_the_secret_they_are_about(self) -> None:
        licence = {"id": "x", "label": "X", "form": "per-site code", "products": ["plugin/x"]}
        for path, body in [
            ("/licences", {**licence, "code": "SECRET-CODE-1"}),
            ("/licences/breakwater/seats", {"site": "nowhere", "code": "SECRET-CODE-1"}),
            ("/feeds", {"id": "X Y", "label": "x", "url": "x", "credential": "SECRET-CODE-1"}),
            ("/licences", {**licence, "form": "odd", "code": "SECRET-CODE-1"}),
        ]:
            with self.subTest(path=path):
                answer = self.http("POST", path, json=body)
                self.assertGreaterEqual(answer.status_code, 400)
                self.assertNotIn("SECRET-CODE-1", answer.text)

    def test_a_private_network_a_bad_csv_and_a_seat_too_many_are_problems(self) -> None:
        for method, path, body, code in [
            ("POST", "/licences/breakwater/seats", {"site": "tarnsey-harbour"}, "has-a-seat"),
            ("POST", "/licences/breakwater/seats", {"site": "seapink-florists"}, "no-code"),
            ("POST", "/recipes/try", {"text": "label ="}, "bad-recipe"),
            ("POST", "/digest", None, "no-mail"),
            ("POST", "/instance/take-over", {"why": "x"}, "drives-already"),
            ("DELETE", "/accounts/rhona", None, "own-account"),
        ]:
            with self.subTest(path=path):
                answer = self.http(method, path, json=body)
                self.assertEqual((answer.status_code, answer.json()["code"]), (409, code))
        answer = self.http("POST", "/sites.csv", content=b"label,address\r\nX,nowhere\r\n")
        self.assertEqual((answer.status_code, answer.json()["code"]), (409, "bad-csv"))

    def test_the_calendar_is_read_by_its_own_key_only(self) -> None:
        first = self.windbreak.calendar_address()["url"]
        self.assertIn("BEGIN:VCALENDAR", httpx.get(first, trust_env=False).text)
        second = self.windbreak.calendar_address()["url"]
        self.assertEqual(httpx.get(first, trust_env=False).status_code, 401)
        self.assertEqual(httpx.get(second, trust_env=False).status_code, 200)
        key = second.partition("key=")[2]
        headers = {"authorization": f"Bearer {key}"}
        self.assertEqual(self.http("GET", "/feeds", headers=headers).status_code, 401)

    def test_the_list_of_sites_comes_in_pages(self) -> None:
        every = self.http("GET", "/sites")
        self.assertEqual(int(every.headers["x-total-count"]), len(every.json()))
        self.assertNotIn("link", every.headers)
        self.assertEqual(self.followed("/sites?limit=2"), every.json())
        self.assertEqual(self.followed("/sites?limit=1&state=ready"), [
            s for s in every.json() if s["state"] == "ready"
        ])  # fmt: skip

    def followed(self, path: str) -> list[dict[str, object]]:
        """A list read page by page, by the links alone."""
        found: list[dict[str, object]] = []
        for _ in range(100):
            answer = self.http("GET", path)
            self.assertEqual(answer.status_code, 200, answer.text)
            found += answer.json()
            following = answer.links.get("next")
            if following is None:
                return found
            path = following["url"].removeprefix("/api/v1")
        raise AssertionError("the links lead nowhere")

    def test_what_is_listed_newest_first_comes_in_pages_too(self) -> None:
        for _ in range(5):
            self.windbreak.draft_plan("seapink-florists")
        for path in ("/sites/seapink-florists/plans", "/ledger", "/runs"):
            with self.subTest(path=path):
                whole = self.http("GET", f"{path}?limit=1000").json()
                ids = [row["id"] for row in whole]
                self.assertEqual(ids, sorted(ids, reverse=True))
                self.assertEqual(self.followed(f"{path}?limit=2"), whole)

    def test_a_page_stays_where_it_was_when_something_is_added(self) -> None:
        first = self.http("GET", "/ledger?limit=3")
        self.http("POST", "/accounts", json={"id": "wren", "name": "Wren Ashby"})
        self.assertNotEqual(self.http("GET", "/ledger?limit=3").json(), first.json())
        second = self.http("GET", first.links["next"]["url"].removeprefix("/api/v1")).json()
        self.assertLess(second[0]["id"], first.json()[-1]["id"])
        self.assertEqual(second[0]["id"], first.json()[-1]["id"] - 1)

    def test_a_site_and_a_product_are_named_by_what_people_call_them(self) -> None:
        for kind, text, ids in [
            ("site", "tarnsey-harbour", ["tarnsey-harbour"]),
            ("site", "Harbour", ["tarnsey-harbour"]),
            ("site", "skerry light trust", ["skerry-light"]),  # its twin bears the name too
            ("site", "100%", []),
            ("product", "trestle", ["plugin/trestle"]),
            ("product", "Breakwater", ["theme/breakwater"]),
            ("product", "break", ["plugin/breakwater-keel", "theme/breakwater"]),
            ("product", "nothing-like-it", []),
        ]:
            with self.subTest(kind=kind, text=text):
                self.assertEqual([n.id for n in self.windbreak.named(kind, text)], ids)

    def test_a_wrong_credential_is_told_and_what_was_known_stands(self) -> None:
        known = len(self.windbreak.releases("theme/breakwater"))
        self.windbreak.replace_credential("chandlery", "wrong-token-entirely")
        result = self.windbreak.poll_feed("chandlery")
        self.assertEqual(result.state, "refused")
        self.assertIn("turned the credential away", result.text)
        self.assertFalse(self.windbreak.check_feed("chandlery").valid)
        self.assertEqual(len(self.windbreak.releases("theme/breakwater")), known)
        self.windbreak.replace_credential("chandlery", f" {TOKEN} ")
        self.assertEqual(self.windbreak.poll_feed("chandlery").state, "fresh")
        self.assertEqual(self.windbreak.check_feed("chandlery").lacks, ("licences.read",))

    def test_a_feed_that_says_nothing_new_is_not_read_again(self) -> None:
        self.windbreak.poll_feed("commons")
        answer = self.http("POST", "/feeds/commons/poll", params={"fresh": "false"}).json()
        self.assertTrue(answer["unchanged"])
        self.assertEqual(answer["state"], "fresh")

    def test_events_are_told_as_they_happen_and_can_be_gone_on_with(self) -> None:
        heard: list[str] = []

        def listen() -> None:
            with Windbreak(self.demo.address, self.token) as windbreak:
                for event in windbreak.events():
                    heard.append(f"{event.kind} {event.subject}")
                    if event.subject == "seapink-florists":
                        return

        thread = threading.Thread(target=listen)
        thread.start()
        until = time.monotonic() + 20
        while thread.is_alive() and time.monotonic() < until:
            self.windbreak.refresh_site("seapink-florists")
            thread.join(0.3)
        self.assertIn("site seapink-florists", heard)
        with Windbreak(self.demo.address, self.token) as windbreak:
            first = next(iter(windbreak.events(after=0)))
        self.assertEqual(first.id, 1)

    def test_the_content_security_policy_lets_no_inline_script_run(self) -> None:
        answer = httpx.get(self.demo.address + "/", trust_env=False)
        policy = answer.headers["content-security-policy"]
        self.assertIn("default-src 'none'", policy)
        self.assertNotIn("unsafe", policy)


class Linking(WithDemo):
    def test_a_copy_of_a_site_does_not_inherit_the_link(self) -> None:
        new = NewSite(label="A copy", address=f"{self.where['skerry-light']}/copy")
        self.windbreak.register_site(new, "copy")
        with self.assertRaises(Problem) as caught:
            self.windbreak.link_site("copy")
        self.assertEqual(caught.exception.code, "no-link-code")
        self.windbreak.link_line("copy")
        with self.assertRaises(Problem) as caught:
            self.windbreak.link_site("copy")
        self.assertIn(caught.exception.code, ("line-not-pasted", "agent-not-linked"))

    def test_a_line_of_another_code_is_refused(self) -> None:
        site = "whinchat-radio"
        old = self.windbreak.link_line(site).line
        self.windbreak.link_line(site)
        pasted = httpx.post(f"{self.where[site]}/owner/link", data={"line": old}, trust_env=False)
        self.assertEqual(pasted.status_code, 200)
        with self.assertRaises(Problem) as caught:
            self.windbreak.link_site(site)
        self.assertEqual(caught.exception.code, "wrong-code")
        bad = httpx.post(f"{self.where[site]}/owner/link", data={"line": "x"}, trust_env=False)
        self.assertEqual(bad.status_code, 400)

    def test_the_owner_can_end_the_link_and_the_site_says_so(self) -> None:
        site = "seapink-florists"
        httpx.post(f"{self.where[site]}/owner/unlink", trust_env=False)
        now = self.windbreak.refresh_site(site)
        self.assertEqual(now.link.state, "refused")
        self.assertIsNotNone(now.facts_at)
        row = next(s for s in self.windbreak.sites() if s.id == site)
        self.assertEqual(row.state, "unknown")


class Booking(WithDemo):
    def test_a_booking_survives_a_restart_and_runs(self) -> None:
        site = "skerry-light-twin"
        plan = self.windbreak.draft_plan(site)
        with self.assertRaises(Problem) as caught:
            self.windbreak.book_plan(plan.id)
        self.assertEqual(caught.exception.code, "not-approved")
        self.windbreak.approve_plan(plan.id, "a test")
        # In a window that is not open now, whatever the hour of the test.
        hour = (self.now().hour + 6) % 24
        window = Window(start=f"{hour:02}:00", end=f"{(hour + 3) % 24:02}:00")
        self.windbreak.set_windows(site, [window], "UTC")
        booking = self.windbreak.book_plan(plan.id)
        self.assertIn("the window opens", booking.why)
        self.demo.kill_service()
        self.demo.start_service()
        self.assertEqual([b.id for b in self.windbreak.bookings()], [booking.id])
        self.windbreak.move_booking(booking.id, self.now(), outside_window=True)
        until = time.monotonic() + 20
        while not self.windbreak.runs(site):
            self.assertLess(time.monotonic(), until)
            time.sleep(0.2)
        self.assertEqual(self.ended(self.windbreak.runs(site)[0].id).run.state, "done")
        self.assertEqual(self.windbreak.bookings(), [])


class Rollouts(WithDemo):
    def test_a_rollout_is_drafted_approved_shown_and_stopped(self) -> None:
        wanted = NewRollout(product="core/millrace", version="6.5", sites=("skerry-light",))
        draft = self.windbreak.draft_rollout(wanted)
        self.assertEqual(draft.members, ())
        self.assertIn("soaks", " ".join(out.text for out in draft.stays_out))
        with self.assertRaises(Problem) as caught:
            self.windbreak.approve_rollout(wanted)
        self.assertEqual(caught.exception.code, "nothing-to-do")
        self.assertIn("soaks", str(caught.exception))
        self.assertEqual(self.windbreak.rollouts(), [])
        wanted = wanted.model_copy(update={"version": "6.4.3"})
        draft = self.windbreak.draft_rollout(wanted)
        self.assertEqual([m.wave for m in draft.members], ["twin", "rest"])
        rollout = self.windbreak.approve_rollout(wanted)
        story = self.windbreak.rollout(rollout.id)
        self.assertEqual({m.state for m in story.members}, {"booked"})
        self.assertEqual([gate.state for gate in story.gates], ["waits"])
        self.assertEqual(self.windbreak.stop_rollout(rollout.id, "a test").state, "stopped")
        booked = [b for b in self.windbreak.bookings() if b.rollout == rollout.id]
        self.assertEqual(booked, [])
        with self.assertRaises(Problem) as caught:
            self.windbreak.open_gate(rollout.id, "canaries")
        self.assertEqual(caught.exception.code, "ended")


class Away(WithDemo):
    whole = False

    def test_a_service_that_is_away_is_said_to_be(self) -> None:
        with Windbreak("http://127.0.0.1:9", "x") as nobody:
            with self.assertRaises(Unreachable) as caught:
                nobody.sites()
        self.assertIn("127.0.0.1:9", str(caught.exception))

    def test_an_empty_service_answers_emptily(self) -> None:
        self.assertEqual(self.windbreak.sites(), [])
        self.assertEqual(self.windbreak.today().findings, ())

    def test_two_services_do_not_drive_one_directory(self) -> None:
        import subprocess
        import sys

        second = subprocess.run(
            [sys.executable, "-m", "windbreak", "serve", "--port", "0"]
            + ["--data", str(self.demo.service_folder)],
            capture_output=True,
            text=True,
            timeout=30,
            check=False,
        )
        self.assertEqual(second.returncode, 1)
        self.assertIn("another service drives", second.stderr)
