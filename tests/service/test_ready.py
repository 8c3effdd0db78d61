"""Answers that are kept ready: what each hangs on is complete, and what is old says so."""

import json
import sqlite3
import tempfile
import time
import unittest
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from tests.running import WithDemo
from windbreak.operations.context import close, open_context
from windbreak.service.ready import HangsOn, Ready, _Made

ADDRESSES = (
    *("/today", "/sites", "/products", "/products/core/millrace", "/products/plugin/trestle"),
    *("/sites/tarnsey-harbour", "/sites/tarnsey-harbour/plans", "/sites/tarnsey-harbour/outlook"),
    *("/licences", "/credentials", "/forecasts", "/coverage", "/acts", "/feeds", "/hosts"),
    *("/rules", "/accounts", "/errands", "/rollouts", "/failed-moves", "/bookings", "/freezes"),
    *("/runs", "/ledger?limit=50", "/ledger/summary", "/nights?days=7&zone=UTC"),
    "/report?client=Tarnsey Borough&month=2026-12",
)
DAY = datetime.now(UTC).date()
WRITES: tuple[tuple[str, str, Any], ...] = (
    ("PUT", "/sites/tarnsey-harbour/notes/us", {"text": "call Ives first"}),
    ("PATCH", "/sites/tarnsey-harbour", {"label": "Tarnsey Museum", "tags": ["shop"]}),
    ("POST", "/holds", {"product": "plugin/trestle", "reason": "a fault in its drafts"}),
    ("POST", "/rules", {"product": "plugin/trestle", "soak": {"major": 30}, "reason": "it is new"}),
    ("POST", "/clashes", {
        "a": {"product": "plugin/lee", "range": "*"},
        "b": {"product": "plugin/sextant", "range": "*"}, "reason": "searches are mixed up",
    }),
    ("PUT", "/hosts/mole", {
        "id": "mole", "name": "Mole", "at_once": 1, "offers": {"runtime/loom": ["8.1"]},
    }),
    ("PATCH", "/licences/breakwater", {"seats": 9}),
    ("DELETE", "/licences/breakwater/seats/tarnsey-harbour", None),
    ("POST", "/licences/breakwater/seats", {"site": "tarnsey-harbour", "code": "BW-77"}),
    ("POST", "/freezes", {
        "from": (datetime.now(UTC) + timedelta(days=1)).isoformat(),
        "to": (datetime.now(UTC) + timedelta(days=3)).isoformat(),
        "client": "Skerry Light Trust", "reason": "their open days",
    }),
    ("POST", "/accounts", {"id": "ives", "name": "Ives Penrose"}),
    ("POST", "/errands", {"site": "tarnsey-harbour", "text": "ring the museum", "due": str(DAY)}),
    ("POST", "/feeds/commons/poll", None),
    ("POST", "/sites/tarnsey-harbour/refresh", None),
    ("POST", "/sites/tarnsey-harbour/plans", None),
    ("POST", "/rollouts", {"sites": ["skerry-light"], "why": "a test"}),
    ("PUT", "/sites/tarnsey-harbour/windows", {
        "windows": [{"days": ["mon"], "start": "02:00", "end": "04:00"}], "timezone": "UTC",
    }),
    ("PATCH", "/products/plugin/trestle", {"name": "Trestle Builder"}),
    ("DELETE", "/bookings/1", None),
)  # fmt: skip
# What tells what time it is, and what goes on by itself: looks at pages, drafts.
MOVES_ON = {"at", "reasoned_at", "proposed_at", "last_sign_at", "looked_at", "ms", "final"}


class Kept(WithDemo):
    def get(self, path: str, **headers: str) -> Any:
        sent = {"authorization": f"Bearer {self.token}", **headers}
        answer = self.http("GET", path, headers=sent)
        self.assertEqual(answer.status_code, 200, f"{path}: {answer.text}")
        return answer

    def on_demand(self, path: str) -> Any:
        """An answer that is made for this request."""
        return self.get(f"{path}{'&' if '?' in path else '?'}wait=0.01")

    def test_each_answer_is_as_if_made_on_demand_after_each_kind_of_write(self) -> None:
        for path in ADDRESSES:
            self.get(path)
        for method, path, body in WRITES:
            written = self.http(method, path, **({"json": body} if body is not None else {}))
            self.assertLess(written.status_code, 300, f"{method} {path}: {written.text}")
            generation = written.headers["generation"]
            self.get("/session", **{"at-least-generation": generation})
            time.sleep(0.3)  # what could be booked is worked out meanwhile
            for address in ADDRESSES:
                with self.subTest(after=f"{method} {path}", answer=address):
                    kept = self.get(address, **{"at-least-generation": generation})
                    self.assertGreaterEqual(int(kept.headers["generation"]), int(generation))
                    self.assertEqual(still(kept.json()), still(self.on_demand(address).json()))

    def test_who_has_written_reads_it_and_others_are_told_how_old_it_is(self) -> None:
        self.get("/sites/skerry-light")
        for n in range(5):
            note = {"text": f"note {n}"}
            written = self.http("PUT", "/sites/skerry-light/notes/us", json=note)
            generation = int(written.headers["generation"])
            other = self.get("/sites/skerry-light")
            texts = [x["text"] for x in other.json()["notes"]]
            is_new = int(other.headers["generation"]) >= generation
            self.assertIn("as-of", other.headers)
            if is_new:
                self.assertEqual(texts, [note["text"]])
            own = self.get("/sites/skerry-light", **{"at-least-generation": str(generation)})
            self.assertEqual([x["text"] for x in own.json()["notes"]], [note["text"]])

    def test_an_event_is_told_once_what_it_tells_of_can_be_read(self) -> None:
        self.get("/sites/skerry-light")
        with closing(sqlite3.connect(self.demo.service_folder / "windbreak.db")) as database:
            (last,) = database.execute("SELECT max(id) FROM event").fetchone()
        heard = self.windbreak.events(last)
        for n in range(3):
            note = {"text": f"heard {n}"}
            self.http("PUT", "/sites/skerry-light/notes/us", json=note)
            while (event := next(heard)).kind != "site" or event.subject != "skerry-light":
                continue
            texts = [x["text"] for x in self.get("/sites/skerry-light").json()["notes"]]
            self.assertEqual(texts, [note["text"]])

    def test_what_is_refused_or_not_there_is_never_kept(self) -> None:
        for _ in range(2):
            headers = {"authorization": f"Bearer {self.token}"}
            self.assertEqual(self.http("GET", "/sites/nowhere", headers=headers).status_code, 404)
            self.assertEqual(self.http("GET", "/licences", headers={}).status_code, 401)


class Touching(unittest.TestCase):
    def test_what_is_its_own_touches_the_answer_of_its_subject_alone(self) -> None:
        hangs_on = HangsOn(frozenset({"rule"}), frozenset({"site"}), "id")
        for changes, touched in (
            ([("site", "a")], True),
            ([("site", "b")], False),
            ([("rule", "x")], True),
            ([("everything", "")], True),
            ([("ledger", ""), ("account", "a")], False),
        ):
            with self.subTest(changes=changes):
                self.assertEqual(hangs_on.touched("a", changes), touched)

    def test_an_answer_that_was_made_for_older_never_takes_the_place_of_a_newer(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            context = open_context(Path(folder))
            self.addCleanup(close, context)
            ready = Ready(context)
            hangs_on = HangsOn(frozenset({"rule"}))
            newer = ready._keep("/a?", hangs_on, "", _Made(200, {}, b"newer"), 11)
            older = ready._keep("/a?", hangs_on, "", _Made(200, {}, b"older"), 10)
            self.assertEqual((older, ready._kept["/a?"].made.body), (newer, b"newer"))


def still(value: Any) -> Any:
    """An answer without what moves on while one looks."""
    if isinstance(value, dict):
        return {k: still(v) for k, v in value.items() if k not in MOVES_ON}
    if isinstance(value, list):
        return [still(item) for item in value]
    return json.loads(json.dumps(value))
