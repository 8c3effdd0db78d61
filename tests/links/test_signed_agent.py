"""Calls to an agent: whom they are for, whom it obeys, and what of its answers is believed."""

import json
import tempfile
import unittest
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from pathlib import Path

import httpx

from windbreak.links import signing
from windbreak.links.errors import (
    CallFailed,
    ClockOff,
    KeyRefused,
    LinkError,
    NotTheAgent,
    Superseded,
    Unfit,
)
from windbreak.links.signed_agent import Caller, SignedAgent
from windbreak.links.visiting import Visiting
from windbreak.standins.fleet import SITES, lay_out

ADDRESS = "http://skerry.example"


class WithAgent(unittest.TestCase):
    """A stand-in's agent behind a transport in this process; ``garble`` changes its answers."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        demo = next(s for s in SITES if s.slug == "skerry-light")
        _, self.there = lay_out(Path(folder.name), demo)
        self.garble = lambda response: response
        self.client = httpx.Client(transport=httpx.MockTransport(self.answered))
        self.addCleanup(self.client.close)
        self.key = signing.new_key()
        self.told: list[str] = []
        said = json.dumps({"key": signing.public_text(self.key), "code": "once"})
        self.paste(said)
        hello = self.agent(id=None, public=None).hello("n", "skerry-light")
        self.id, self.public = hello.agent_id, signing.public_from(hello.public_key)

    def paste(self, said: str) -> None:
        import base64

        self.there.paste("windbreak-link." + base64.urlsafe_b64encode(said.encode()).decode())

    def answered(self, request: httpx.Request) -> httpx.Response:
        call = request.url.path.rsplit("/", 1)[1]
        headers = {k.lower(): v for k, v in request.headers.items()}
        status, body, signed = self.there.answer(call, str(request.url), headers, request.read())
        made = httpx.Response(status, headers=signed, content=body)
        return self.garble(made)  # type: ignore[no-any-return]

    def caller(self, instance: str = "s-1", epoch: int = 1, **more: object) -> Caller:
        return Caller(self.key, instance, epoch, superseded=self.told.append, **more)  # type: ignore[arg-type]

    def agent(self, caller: Caller | None = None, **more: object) -> SignedAgent:
        fields: Mapping[str, object] = {"id": getattr(self, "id", None), **more}
        address = str(more.get("address", ADDRESS))
        public = more.get("public", getattr(self, "public", None))
        return SignedAgent(
            Visiting(self.client, address),
            caller or self.caller(),
            fields["id"],  # type: ignore[arg-type]
            public,  # type: ignore[arg-type]
        )

    def failed(self, agent: SignedAgent) -> LinkError:
        with self.assertRaises(LinkError) as caught:
            agent.look()
        return caught.exception


class Obeying(WithAgent):
    def test_it_obeys_calls_for_itself_only(self) -> None:
        self.assertTrue(self.agent().look().pages)
        error = self.failed(self.agent(id="agent-of-another"))
        self.assertIsInstance(error, CallFailed)
        self.assertIn("another agent", str(error))

    def test_a_copy_at_another_address_does_not_obey_until_it_has_an_id_of_its_own(self) -> None:
        error = self.failed(self.agent(address="http://copy.example"))
        self.assertIn("a copy of its site needs an id of its own", str(error))
        before = self.there.fact("id")
        self.there.renew()
        self.assertNotEqual(self.there.fact("id"), before)
        self.paste(json.dumps({"key": signing.public_text(self.key), "code": "again"}))
        hello = self.agent(id=None, public=None, address="http://copy.example").hello("n", "copy")
        self.assertNotEqual(hello.agent_id, self.id)

    def test_the_newest_driver_is_obeyed_and_older_ones_are_told_so(self) -> None:
        self.agent(self.caller("s-1", 1)).look()
        same_epoch = self.failed(self.agent(self.caller("s-2", 1)))
        self.assertIsInstance(same_epoch, Superseded)
        self.agent(self.caller("s-2", 2)).look()
        self.told.clear()
        self.assertIsInstance(self.failed(self.agent(self.caller("s-1", 1))), Superseded)
        self.assertEqual(len(self.told), 1)
        self.assertIn("epoch 2", self.told[0])

    def test_a_key_it_does_not_know_and_a_link_that_was_ended_read_alike(self) -> None:
        other = Caller(signing.new_key(), "s-1", 1)
        self.assertIsInstance(self.failed(self.agent(other)), KeyRefused)
        self.there.unlink()
        self.assertIsInstance(self.failed(self.agent()), KeyRefused)


class Clocks(WithAgent):
    def at(self, seconds: float) -> None:
        (self.there.state / "faults.json").write_text(json.dumps({"clock": seconds}))

    def test_a_few_seconds_are_measured_and_nothing_is_refused(self) -> None:
        for off in (-200, -8, 8, 200):
            self.at(off)
            agent = self.agent()
            agent.look()
            with self.subTest(off=off):
                self.assertAlmostEqual(agent.ahead or 0, off, delta=2)

    def test_far_apart_is_told_as_the_clock_and_not_as_the_key(self) -> None:
        for off, words in ((-420, "7 min behind"), (420, "ahead")):
            self.at(off)
            error = self.failed(self.agent())
            with self.subTest(off=off):
                self.assertIsInstance(error, ClockOff)
                self.assertIn(words, str(error))


class Believing(WithAgent):
    def answer(self, body: bytes, *, resign: bool) -> LinkError:
        """What comes of a body in the place of the agent's, under its signature or not."""

        def garble(response: httpx.Response) -> httpx.Response:
            headers = dict(response.headers)
            if resign:
                key = signing.key_from(self.there.fact("key") or "")
                request = self.last
                headers = signing.sign_answer(key, request, 200, body, datetime.now(UTC))
            return httpx.Response(200, headers=headers, content=body)

        self.garble = garble
        return self.failed(self.agent())

    def answered(self, request: httpx.Request) -> httpx.Response:
        low = {k.lower(): v for k, v in request.headers.items()}
        self.last = signing.Request("POST", str(request.url), low)
        return super().answered(request)

    def test_what_the_agent_did_not_sign_is_not_even_read(self) -> None:
        for body in (b"{}", b"[" * 100_000, b"\xff", b""):
            with self.subTest(body=body[:8]):
                self.assertIsInstance(self.answer(body, resign=False), NotTheAgent)

    def test_what_it_signed_and_can_not_be_used_is_refused_in_one_way(self) -> None:
        for body in (
            b"[" * 100_000,
            b'{"a":' * 80 + b"1" + b"}" * 80,
            b"not json",
            b"[]",
            b"{}",
            json.dumps({"counts": "many"}).encode(),
            b"",
        ):
            with self.subTest(body=body[:12]):
                self.assertIsInstance(self.answer(body, resign=True), Unfit)

    def test_an_answer_to_another_request_is_none(self) -> None:
        kept: list[httpx.Response] = []

        def keep(response: httpx.Response) -> httpx.Response:
            kept.append(response)
            return kept[0]

        self.garble = keep
        self.agent().look()
        self.assertIsInstance(self.failed(self.agent()), NotTheAgent)

    def test_our_own_clock_gone_wrong_reads_as_a_clock_too(self) -> None:
        late = self.caller(clock=lambda: datetime.now(UTC) - timedelta(minutes=6))
        self.assertIsInstance(self.failed(self.agent(late)), ClockOff)
