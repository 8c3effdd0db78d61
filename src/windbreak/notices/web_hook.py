"""Web hooks: JSON posted to an address, signed as our calls to agents are (RFC 9421)."""

from __future__ import annotations

from datetime import datetime

import httpx
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from windbreak.links import signing
from windbreak.notices.errors import NoticeError
from windbreak.outside.way_out import within

SECONDS = 20.0


def send(
    client: httpx.Client, url: str, body: bytes, key: Ed25519PrivateKey, now: datetime
) -> None:
    """Post one message. Raises NoticeError unless it is taken (a status of 200 to 299)."""
    headers = signing.sign_request(key, "POST", url, body, now, "windbreak-hook")
    try:
        with within(SECONDS):
            response = client.post(
                url, content=body, headers={**headers, "content-type": "application/json"}
            )
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise NoticeError(f"no answer: {error or type(error).__name__}") from error
    if not response.is_success:
        raise NoticeError(f"it answered with status {response.status_code}")
