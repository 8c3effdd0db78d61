"""Between the service and the agents: messages are cut, delayed, doubled and garbled.

Each site has a port here that leads to its own. Pages pass untouched; calls of agents are tampered
with by chance, while ``rough``.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
import threading
from collections import Counter

_CALL = b"POST /_windbreak/"
HOW = ("cut the request", "cut the answer", "delay", "double", "garble the answer", "drop")


class Proxy:
    """A proxy for some addresses of sites, in a thread of its own."""

    def __init__(self, targets: dict[str, int], chance: random.Random, share: float) -> None:
        self.targets, self.chance, self.share = targets, chance, share
        self.ports: dict[str, int] = {}
        self.rough = False
        self.done: Counter[str] = Counter()
        self._ready = threading.Event()
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()
        self._ready.wait(10)

    def stop(self) -> None:
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_until_complete(self._open())
        self._loop.run_forever()

    async def _open(self) -> None:
        for name, port in self.targets.items():

            async def serve(
                reader: asyncio.StreamReader, writer: asyncio.StreamWriter, port: int = port
            ) -> None:
                with contextlib.suppress(OSError, asyncio.IncompleteReadError, ValueError):
                    await self._serve(reader, writer, port)
                writer.close()

            server = await asyncio.start_server(serve, "127.0.0.1", 0)
            self.ports[name] = server.sockets[0].getsockname()[1]
        self._ready.set()

    async def _serve(
        self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, port: int
    ) -> None:
        """One connection: request after request."""
        while True:
            head, body = await _message(reader)
            how = self._how(head)
            if how == "drop":
                return
            if how == "delay":
                await asyncio.sleep(self.chance.uniform(0.1, 3))
            if how == "cut the request":
                whole = head + body
                await _asked(port, whole[: self.chance.randrange(1, len(whole))], answer=False)
                return
            answer = await _asked(port, head + body)
            if how == "double":
                await _asked(port, head + body)
            if how == "cut the answer":
                writer.write(answer[: self.chance.randrange(0, max(1, len(answer)))])
                await writer.drain()
                return
            if how == "garble the answer":
                answer = self._garbled(answer)
            writer.write(answer)
            await writer.drain()

    def _how(self, head: bytes) -> str:
        if not self.rough or not head.startswith(_CALL) or self.chance.random() > self.share:
            return ""
        how = self.chance.choice(HOW)
        self.done[how] += 1
        return how

    def _garbled(self, answer: bytes) -> bytes:
        """An answer with some of its bytes others, its head as it was."""
        head, gap, body = answer.partition(b"\r\n\r\n")
        if not body:
            return answer
        wrong = bytearray(body)
        for _ in range(self.chance.randrange(1, 6)):
            wrong[self.chance.randrange(len(wrong))] = self.chance.randrange(256)
        return head + gap + bytes(wrong)


async def _message(reader: asyncio.StreamReader) -> tuple[bytes, bytes]:
    head = await reader.readuntil(b"\r\n\r\n")
    return head, await reader.readexactly(_length(head))


def _length(head: bytes) -> int:
    for line in head.split(b"\r\n"):
        name, _, value = line.partition(b":")
        if name.strip().lower() == b"content-length":
            return int(value)
    return 0


async def _asked(port: int, whole: bytes, *, answer: bool = True) -> bytes:
    """What a site answers to a message; nothing where none is waited for."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port, limit=2**26)
    try:
        writer.write(whole)
        await writer.drain()
        if not answer:
            return b""
        head, body = await asyncio.wait_for(_message(reader), 90)
        return head + body
    finally:
        writer.close()
