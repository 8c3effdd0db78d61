"""The stand-ins' ports: their own, kept, and waited for where another program has one."""

import asyncio
import socket
import tempfile
import unittest
from pathlib import Path

import httpx

from windbreak.standins.fleet import FEW
from windbreak.standins.server import addresses, serve


def _port(address: str) -> int:
    return int(address.rsplit(":", 1)[1])


class Ports(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def test_they_are_kept_and_lie_below_those_given_to_calls_going_out(self) -> None:
        first = addresses(self.folder, FEW)
        self.assertEqual(len(set(first.values())), len(first))
        self.assertLess(max(map(_port, first.values())), 32_000)
        self.assertEqual(addresses(self.folder, FEW), first)

    def test_a_port_that_another_program_has_is_not_chosen(self) -> None:
        port = _port(addresses(self.folder, FEW[:1])["feeds"])
        (self.folder / "ports.json").unlink()
        with socket.socket() as other:
            other.bind(("127.0.0.1", port))
            other.listen()
            self.assertNotEqual(_port(addresses(self.folder, FEW[:1])["feeds"]), port)

    def test_a_port_taken_at_the_start_is_waited_for(self) -> None:
        address = addresses(self.folder, FEW[:1])["feeds"]

        async def meanwhile() -> int:
            with socket.socket() as other:
                other.bind(("127.0.0.1", _port(address)))
                other.listen()
                serving = asyncio.create_task(serve(self.folder, FEW[:1], asyncio.Event()))
                await asyncio.sleep(1)
                self.assertFalse(serving.done())
            try:
                async with httpx.AsyncClient(trust_env=False) as client:
                    for _ in range(50):
                        try:
                            return (await client.get(f"{address}/")).status_code
                        except httpx.TransportError:
                            await asyncio.sleep(0.1)
                return 0
            finally:
                serving.cancel()

        self.assertEqual(asyncio.run(meanwhile()), 404)
