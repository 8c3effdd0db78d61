"""The way out to makers, web hooks and sites: what may be connected to, and for how long.

Makers and web hooks on private networks are refused unless the settings allow them. A site may lie
anywhere but on link-local addresses and at this service's own. The check is made on the address
that is connected to, after the name was resolved, so a name that points inwards gains nothing, and
neither does a redirect. Whatever is asked has one deadline for everything: a server that sends a
byte now and then can't hold it.
"""

from __future__ import annotations

import ipaddress
import socket
import ssl
import threading
import time
from collections.abc import Callable, Container, Iterable, Iterator
from contextlib import contextmanager
from typing import Any

import httpcore
import httpx

TIMEOUT = httpx.Timeout(10, read=20, pool=60)
_AT_ONCE, _IDLE = 16, 8  # connections of one origin, and those of them that nobody uses
_KEPT = 5.0  # seconds for which one that nobody uses is kept

_Origin = tuple[bytes, bytes, int | None]
Network = ipaddress.IPv4Network | ipaddress.IPv6Network
Address = ipaddress.IPv4Address | ipaddress.IPv6Address


class NotAllowed(httpcore.ConnectError):
    """The address is none that may be connected to."""


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
    """Everything this thread does over the network inside must end in so many seconds, and no later
    than what is around it.
    """
    kept, until = _deadline.at, time.monotonic() + seconds
    _deadline.at = until if kept is None else min(kept, until)
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


# Why an address and a port may not be connected to; None where they may.
Rule = Callable[[Address, int], str | None]


def only_makers(allowed: tuple[Network, ...]) -> Rule:
    """Public addresses, and private ones that the settings allow."""

    def rule(ip: Address, port: int) -> str | None:
        if ip.is_global and not ip.is_multicast:
            return None
        if any(ip in network for network in allowed if network.version == ip.version):
            return None
        return (
            f"{ip} lies on a private network; the setting private_networks would have to allow it"
        )

    return rule


def only_sites(own: Container[int]) -> Rule:
    """Any address but link-local ones and those that stand for nobody; at this machine's own none
    of the ports that this service answers at, which may come to be known later.
    """

    def rule(ip: Address, port: int) -> str | None:
        if ip.is_link_local or ip.is_multicast or ip.is_unspecified:
            return f"{ip} is no address of a site"
        if port in own and (ip.is_loopback or str(ip) in _own_addresses()):
            return f"{ip}:{port} is this service itself"
        return None

    return rule


def _own_addresses() -> set[str]:
    try:
        rows = socket.getaddrinfo(socket.gethostname(), None)
    except OSError:
        return set()
    return {str(row[4][0]) for row in rows}


class _Guarded(httpcore.NetworkBackend):
    """Connects to what a rule lets it."""

    def __init__(self, rule: Rule) -> None:
        self._rule = rule
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
            rows = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError) as error:
            raise httpcore.ConnectError(f"the name {host} is not known ({error})") from error
        addresses = list(dict.fromkeys(str(row[4][0]) for row in rows))
        against = {address: self._rule(_address(address), port) for address in addresses}
        good = [address for address in addresses if against[address] is None]
        if not good:
            raise NotAllowed(against[addresses[0]])
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

    def connect_unix_socket(
        self, path: str, timeout: float | None = None, socket_options: Iterable[Any] | None = None
    ) -> httpcore.NetworkStream:
        raise NotAllowed("sockets of this machine are not asked")

    def sleep(self, seconds: float) -> None:
        self._inner.sleep(seconds)


def _address(text: str) -> Address:
    ip = ipaddress.ip_address(text.partition("%")[0])
    return getattr(ip, "ipv4_mapped", None) or ip


class _Pools(httpcore.ConnectionPool):
    """Connections, in a pool of their own for each origin: whoever wants one goes through all of
    a pool, so that one for everybody costs more with each of whom much is asked at once.

    A pool that was not asked for a while, and whose connections are all idle, is let go.
    """

    def __init__(self, make: Callable[[], httpcore.ConnectionPool]) -> None:
        self._make = make
        self._guard = threading.Lock()
        self._pools: dict[_Origin, httpcore.ConnectionPool] = {}
        self._asked: dict[_Origin, float] = {}
        self._swept = time.monotonic()

    def handle_request(self, request: httpcore.Request) -> httpcore.Response:
        url = request.url
        return self._pool_of((url.scheme, url.host, url.port)).handle_request(request)

    def _pool_of(self, origin: _Origin) -> httpcore.ConnectionPool:
        now = time.monotonic()
        with self._guard:
            idle = self._idle(now) if now - self._swept > _KEPT else []
            pool = self._pools.get(origin)
            if pool is None:
                pool = self._pools[origin] = self._make()
            self._asked[origin] = now
        for unused in idle:
            unused.close()
        return pool

    def _idle(self, now: float) -> list[httpcore.ConnectionPool]:
        """The pools that are let go."""
        self._swept = now
        gone = [
            origin
            for origin, pool in self._pools.items()
            if now - self._asked[origin] > 2 * _KEPT
            and all([connection.is_idle() for connection in pool.connections])
        ]
        for origin in gone:
            del self._asked[origin]
        return [self._pools.pop(origin) for origin in gone]

    def close(self) -> None:
        with self._guard:
            pools = list(self._pools.values())
            self._pools.clear()
            self._asked.clear()
        for pool in pools:
            pool.close()


class _Transport(httpx.HTTPTransport):
    """The usual transport over connections that are guarded."""

    def __init__(self, rule: Rule) -> None:
        super().__init__(trust_env=False)
        context, guarded = httpx.create_ssl_context(trust_env=False), _Guarded(rule)

        def pool() -> httpcore.ConnectionPool:
            return httpcore.ConnectionPool(
                ssl_context=context,
                max_connections=_AT_ONCE,
                max_keepalive_connections=_IDLE,
                keepalive_expiry=_KEPT,
                network_backend=guarded,
            )

        self._pool = _Pools(pool)


class _NoCookies(httpx.Cookies):
    """Takes none and sends none."""

    def extract_cookies(self, response: httpx.Response) -> None:
        pass

    def set_cookie_header(self, request: httpx.Request) -> None:
        pass


class _Client(httpx.Client):
    _none = _NoCookies()

    @property
    def cookies(self) -> httpx.Cookies:
        return self._none

    @cookies.setter
    def cookies(self, cookies: object) -> None:
        raise TypeError("this client has no cookies")


def client(rule: Rule) -> httpx.Client:
    """A client that asks the world: guarded, without cookies, without proxies."""
    return _Client(
        transport=_Transport(rule),
        timeout=TIMEOUT,
        trust_env=False,
        headers={"user-agent": "windbreak"},
    )
