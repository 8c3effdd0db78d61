"""Requests and answers signed with Ed25519: HTTP Message Signatures (RFC 9421).

A request covers its method, target and content digest (RFC 9530), with creation time and
nonce, and the headers that say whom it is for. An answer covers its status and digest and the
signature of the request it answers, so that no answer can be given twice. Each purpose has a tag
of its own: what is signed for a web hook commands no agent.
"""

from __future__ import annotations

import base64
import hashlib
import secrets
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Literal, cast

from cryptography.exceptions import InvalidSignature as InvalidKey
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from http_message_signatures import (
    HTTPMessageSignaturesException,
    HTTPMessageSigner,
    HTTPMessageVerifier,
    HTTPSignatureKeyResolver,
    algorithms,
)

OLDEST = timedelta(minutes=5)
NEWEST = OLDEST  # clocks are off in both directions
Purpose = Literal["windbreak-agent", "windbreak-hook"]
_LABEL = "wb"
_REQUEST = ("@method", "@target-uri", "content-digest")
_AGENT: Purpose = "windbreak-agent"
_ANSWER = ("@status", "content-digest", f'"signature";req;key="{_LABEL}"')


class SignatureRefused(Exception):
    """A signature is missing, wrong, too old, too new, or was seen before."""


class TooFarApart(SignatureRefused):
    """A good signature, made more than five minutes from now; ``seconds`` ahead of us, or below 0
    behind.
    """

    def __init__(self, seconds: float) -> None:
        self.seconds = seconds
        super().__init__("the signature is too old or too new")


@dataclass
class Request:
    """A request as it is signed: the whole target address and the headers with their names low."""

    method: str
    url: str
    headers: dict[str, str]


@dataclass
class SignedAnswer:
    status_code: int
    headers: dict[str, str]
    request: Request


class _Keys(HTTPSignatureKeyResolver):
    def __init__(
        self, private: Ed25519PrivateKey | None = None, public: Ed25519PublicKey | None = None
    ) -> None:
        self.private, self.public = private, public

    def resolve_public_key(self, key_id: str) -> Any:
        return self.public

    def resolve_private_key(self, key_id: str) -> Any:
        return self.private


def new_key() -> Ed25519PrivateKey:
    return Ed25519PrivateKey.generate()


def key_text(key: Ed25519PrivateKey) -> str:
    """A private key as text, to be sealed."""
    return base64.urlsafe_b64encode(key.private_bytes_raw()).decode()


def key_from(text: str) -> Ed25519PrivateKey:
    return Ed25519PrivateKey.from_private_bytes(base64.urlsafe_b64decode(text))


def public_text(key: Ed25519PrivateKey) -> str:
    """The public half of a key, as text that may be shown."""
    return base64.urlsafe_b64encode(key.public_key().public_bytes_raw()).decode()


def thumbprint(key: Ed25519PrivateKey | Ed25519PublicKey) -> str:
    """A few characters that tell one public key from another."""
    public = key.public_key() if isinstance(key, Ed25519PrivateKey) else key
    return hashlib.sha256(public.public_bytes_raw()).hexdigest()[:16]


def public_from(text: str) -> Ed25519PublicKey:
    """A public key from its text. Raises SignatureRefused when it is none."""
    try:
        return Ed25519PublicKey.from_public_bytes(base64.urlsafe_b64decode(text))
    except (ValueError, InvalidKey) as error:
        raise SignatureRefused(f"{text[:12]}… is not a public key") from error


def sign_request(
    key: Ed25519PrivateKey,
    method: str,
    url: str,
    body: bytes,
    at: datetime,
    purpose: Purpose,
    headers: Mapping[str, str] | None = None,
) -> dict[str, str]:
    """The headers that sign a request, those given among them and covered."""
    given = dict(headers or {})
    request = Request(method, url, given)
    _signer(key).sign(
        request,
        key_id=public_text(key)[:12],
        created=at,
        nonce=secrets.token_urlsafe(18),
        label=_LABEL,
        tag=purpose,
        covered_component_ids=(*_REQUEST[:-1], *given),
        body=body,
    )
    return request.headers


def verify_request(
    public: Ed25519PublicKey,
    request: Request,
    body: bytes,
    at: datetime,
    seen: Callable[[str, datetime], bool],
    purpose: Purpose,
    headers: Iterable[str] = (),
) -> None:
    """Check a request's signature, which must cover some headers; ``seen`` notes a nonce and tells
    whether it was used before. Raises SignatureRefused.
    """
    covered = (*_REQUEST, *headers)
    parameters = _verify(public, request, body, covered, purpose)
    _near(parameters, at)
    nonce = parameters.get("nonce")
    if not isinstance(nonce, str):
        raise SignatureRefused("the signature has no nonce")
    if seen(nonce, at + OLDEST + NEWEST):
        raise SignatureRefused("this request was seen before")


def sign_answer(
    key: Ed25519PrivateKey, request: Request, status: int, body: bytes, at: datetime
) -> dict[str, str]:
    """The headers that sign an answer, bound to its request."""
    answer = SignedAnswer(status, {}, request)
    _signer(key).sign(
        answer,
        key_id=public_text(key)[:12],
        created=at,
        label=_LABEL,
        tag=_AGENT,
        covered_component_ids=(_ANSWER[0], _ANSWER[2]),
        body=body,
    )
    return answer.headers


def verify_answer(
    public: Ed25519PublicKey, request: Request, answer: SignedAnswer, body: bytes, at: datetime
) -> float:
    """Check that an answer was signed for this request; how many seconds the signer's clock is
    ahead of ours. Raises SignatureRefused.
    """
    return _near(_verify(public, answer, body, _ANSWER, _AGENT), at)


def _signer(key: Ed25519PrivateKey) -> HTTPMessageSigner:
    return HTTPMessageSigner(
        signature_algorithm=algorithms.ED25519, key_resolver=_Keys(private=key)
    )


def _verify(
    public: Ed25519PublicKey,
    message: object,
    body: bytes,
    covered: tuple[str, ...],
    purpose: Purpose,
) -> dict[str, Any]:
    verifier = HTTPMessageVerifier(
        signature_algorithm=algorithms.ED25519, key_resolver=_Keys(public=public)
    )
    verifier.max_clock_skew = timedelta(days=9999)  # how far apart clocks are is judged by us
    try:
        (result,) = verifier.verify(
            message, max_age=None, expect_tag=purpose, require_components=covered, body=body
        )
    except (HTTPMessageSignaturesException, ValueError, KeyError) as error:
        raise SignatureRefused(f"the signature does not hold: {error}") from error
    return cast("dict[str, Any]", result.parameters)


def _near(parameters: Mapping[str, Any], at: datetime) -> float:
    """How many seconds ahead of us a signature was made. Raises SignatureRefused, TooFarApart."""
    created = parameters.get("created")
    if not isinstance(created, int):
        raise SignatureRefused("the signature does not say when it was made")
    ahead = created - at.timestamp()
    if not -OLDEST.total_seconds() <= ahead <= NEWEST.total_seconds():
        raise TooFarApart(ahead)
    return ahead
