"""Signed requests and answers: what holds, and everything that must not."""

import unittest
from datetime import UTC, datetime, timedelta

from windbreak.links import signing
from windbreak.links.signing import Request, SignatureRefused, SignedAnswer, TooFarApart

NOW = datetime(2025, 11, 24, 1, 10, tzinfo=UTC)
URL = "http://127.0.0.1:9/_windbreak/apply"


def without(headers: dict[str, str], name: str) -> dict[str, str]:
    return {k: v for k, v in headers.items() if k != name}


class Signing(unittest.TestCase):
    def setUp(self) -> None:
        self.key, self.other = signing.new_key(), signing.new_key()
        self.nonces: set[str] = set()

    def seen(self, nonce: str, until: datetime) -> bool:
        known = nonce in self.nonces
        self.nonces.add(nonce)
        return known

    def sent(self, body: bytes = b"{}") -> Request:
        told = {"windbreak-for": "agent-1"}
        headers = signing.sign_request(self.key, "POST", URL, body, NOW, "windbreak-agent", told)
        return Request("POST", URL, {k.lower(): v for k, v in headers.items()})

    def verify(self, request: Request, body: bytes = b"{}", at: datetime = NOW) -> None:
        public, names = self.key.public_key(), ("windbreak-for",)
        signing.verify_request(public, request, body, at, self.seen, "windbreak-agent", names)

    def test_a_signed_request_holds_once(self) -> None:
        request = self.sent()
        self.verify(request)
        with self.assertRaises(SignatureRefused):
            self.verify(request)

    def test_whatever_is_changed_is_refused(self) -> None:
        good = self.sent()
        for request, body, at in [
            (good, b'{"a": 1}', NOW),
            (Request("PUT", URL, good.headers), b"{}", NOW),
            (Request("POST", URL + "x", good.headers), b"{}", NOW),
            (Request("POST", URL, {}), b"{}", NOW),
            (good, b"{}", NOW + timedelta(minutes=6)),
            (good, b"{}", NOW - timedelta(minutes=6)),
            (Request("POST", URL, {**good.headers, "windbreak-for": "agent-2"}), b"{}", NOW),
            (Request("POST", URL, without(good.headers, "windbreak-for")), b"{}", NOW),
        ]:
            with self.subTest(request=request.url, at=at), self.assertRaises(SignatureRefused):
                self.verify(request, body, at)

    def test_another_key_is_refused(self) -> None:
        with self.assertRaises(SignatureRefused):
            public = self.other.public_key()
            signing.verify_request(public, self.sent(), b"{}", NOW, self.seen, "windbreak-agent")

    def test_what_is_signed_for_a_web_hook_is_no_call_to_an_agent(self) -> None:
        for made, wanted in (
            ("windbreak-hook", "windbreak-agent"),
            ("windbreak-agent", "windbreak-hook"),
        ):
            headers = signing.sign_request(self.key, "POST", URL, b"{}", NOW, made)  # type: ignore[arg-type]
            request = Request("POST", URL, {k.lower(): v for k, v in headers.items()})
            public = self.key.public_key()
            with self.subTest(made=made), self.assertRaises(SignatureRefused):
                signing.verify_request(public, request, b"{}", NOW, self.seen, wanted)  # type: ignore[arg-type]

    def test_how_far_apart_two_clocks_are_is_told(self) -> None:
        request = self.sent()
        public = self.key.public_key()
        for ahead in (-299, -8, 0, 8, 299):
            at = NOW + timedelta(seconds=ahead)
            headers = signing.sign_answer(self.key, request, 200, b"ok", at)
            answer = SignedAnswer(200, {k.lower(): v for k, v in headers.items()}, request)
            with self.subTest(ahead=ahead):
                measured = signing.verify_answer(public, request, answer, b"ok", NOW)
                self.assertAlmostEqual(measured, ahead, delta=1)
        headers = signing.sign_answer(self.key, request, 200, b"ok", NOW + timedelta(minutes=7))
        answer = SignedAnswer(200, {k.lower(): v for k, v in headers.items()}, request)
        with self.assertRaises(TooFarApart) as caught:
            signing.verify_answer(public, request, answer, b"ok", NOW)
        self.assertAlmostEqual(caught.exception.seconds, 420, delta=1)

    def test_an_answer_belongs_to_its_request(self) -> None:
        first, second = self.sent(), self.sent()
        headers = signing.sign_answer(self.key, first, 200, b"ok", NOW)
        low = {k.lower(): v for k, v in headers.items()}
        public = self.key.public_key()
        signing.verify_answer(public, first, SignedAnswer(200, low, first), b"ok", NOW)
        for request, status, body in [
            (second, 200, b"ok"),
            (first, 409, b"ok"),
            (first, 200, b"no"),
        ]:
            with self.subTest(status=status, body=body), self.assertRaises(SignatureRefused):
                signing.verify_answer(
                    public, request, SignedAnswer(status, low, request), body, NOW
                )

    def test_keys_go_through_text(self) -> None:
        again = signing.key_from(signing.key_text(self.key))
        self.assertEqual(signing.public_text(again), signing.public_text(self.key))
        with self.assertRaises(SignatureRefused):
            signing.public_from("not a key")
