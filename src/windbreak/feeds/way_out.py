"""The way out to makers and to web hooks: what may be connected to, and for how long.

Addresses on private networks are refused unless the settings allow them. The check is made on
the address that is connected to, after the name was resolved, so a name that points inwards
gains nothing, and neither does a redirect. A fetch has one deadline for everything it does: a
server that sends a byte now and then can't hold it.
"""

from __future__ import annotations

import ipaddress
import socket
import ssl
import threading
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from http.cookiejar import CookieJar, DefaultCookiePolicy
from typing import Any

import httpcore
import httpx

TIMEOUT = httpx.Timeout(10, read=20, pool=60)
LIMITS = httpx.Limits(max_connections=64, max_keepalive_connections=16)

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


class NotAllowed(httpcore.ConnectError):
    """The address lies on a private network that the settings do not allow."""


class _Deadline(threading.local):
    at: float | None = None

    def left(self, timeout: float | None) -> float | None:
        if self.at is None:
            return timeout
        left = self.at - time.monotonic()
        if left <= 0:
            raise httpcore.ReadTimeout("it took too long in all")
        return left if timeout is None else min(timeout, left)


_deadline = _Deadline()


@contextmanager
def within(seconds: float) -> Iterator[None]:
    """Everything this thread does over the network inside must end in so many seconds."""
    kept, _deadline.at = _deadline.at, time.monotonic() + seconds
    try:
        yield
    finally:
        _deadline.at = kept


def networks(text: str) -> tuple[Network, ...]:
    """Networks as the settings write them: "127.0.0.0/8, ::1". Raises ValueError."""
    return tuple(
        ipaddress.ip_network(part.strip(), strict=False) for part in text.split(",") if part.strip()
    )


def is_private(host: str) -> bool:
    """Whether a host is written as an address, or a name, that can only be a private one."""
    bare = host.strip("[]").rstrip(".").lower()
    if bare == "localhost" or bare.endswith((".localhost", ".local", ".internal")):
        return True
    try:
        return not ipaddress.ip_address(bare).is_global
    except ValueError:
        return False


class _Stream(httpcore.NetworkStream):
    def __init__(self, inner: httpcore.NetworkStream) -> None:
        self._inner = inner

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        return self._inner.read(max_bytes, _deadline.left(timeout))

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        self._inner.write(buffer, _deadline.left(timeout))

    def close(self) -> None:
        self._inner.close()

    def start_tls(
        self,
        ssl_context: ssl.SSLContext,
        server_hostname: str | None = None,
        timeout: float | None = None,
    ) -> httpcore.NetworkStream:
        return _Stream(self._inner.start_tls(ssl_context, server_hostname, _deadline.left(timeout)))

    def get_extra_info(self, info: str) -> Any:
        return self._inner.get_extra_info(info)


class _Guarded(httpcore.NetworkBackend):
    """Connects to allowed addresses only."""

    def __init__(self, allowed: tuple[Network, ...]) -> None:
        self._allowed = allowed
        self._inner = httpcore.SyncBackend()

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[Any] | None = None,
    ) -> httpcore.NetworkStream:
        try:
            found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError) as error:
            raise httpcore.ConnectError(f"the name {host} is not known ({error})") from error
        addresses = list(dict.fromkeys(str(one[4][0]) for one in found))
        good = [address for address in addresses if self._may(address)]
        if not good:
            raise NotAllowed(
                f"{addresses[0]} lies on a private network; the setting private_networks "
                "would have to allow it"
            )
        last: Exception | None = None
        for address in good:
            try:
                left = _deadline.left(timeout)
                return _Stream(
                    self._inner.connect_tcp(address, port, left, local_address, socket_options)
                )
            except (httpcore.ConnectError, httpcore.ConnectTimeout) as error:
                last = error
        raise last or httpcore.ConnectError("it has no address")

    def _may(self, address: str) -> bool:
        ip = ipaddress.ip_address(address.partition("%")[0])
        mapped = getattr(ip, "ipv4_mapped", None)
        ip = mapped or ip
        if ip.is_global and not ip.is_multicast:
            return True
        return any(ip in network for network in self._allowed if network.version == ip.version)

    def connect_unix_socket(
        self, path: str, timeout: float | None = None, socket_options: Iterable[Any] | None = None
    ) -> httpcore.NetworkStream:
        raise NotAllowed("sockets of this machine are not asked")

    def sleep(self, seconds: float) -> None:
        self._inner.sleep(seconds)


class _Transport(httpx.HTTPTransport):
    """The usual transport over connections that are guarded."""

    def __init__(self, allowed: tuple[Network, ...]) -> None:
        super().__init__(trust_env=False, limits=LIMITS)
        self._pool = httpcore.ConnectionPool(
            ssl_context=httpx.create_ssl_context(trust_env=False),
            max_connections=LIMITS.max_connections,
            max_keepalive_connections=LIMITS.max_keepalive_connections,
            keepalive_expiry=5.0,
            network_backend=_Guarded(allowed),
        )


def client(allowed: tuple[Network, ...] = ()) -> httpx.Client:
    """A client that asks the world: guarded, without cookies, without proxies."""
    return httpx.Client(
        transport=_Transport(allowed),
        timeout=TIMEOUT,
        trust_env=False,
        cookies=CookieJar(DefaultCookiePolicy(allowed_domains=[])),
        headers={"user-agent": "windbreak"},
    )
