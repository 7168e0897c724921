"""The reading of pages, on another processor where there is one: it takes most of the time of a crawl."""

from __future__ import annotations

import asyncio
import json
import pickle
import signal
import sys
from asyncio.subprocess import DEVNULL, PIPE
from collections import deque
from collections.abc import Mapping
from contextlib import suppress
from typing import BinaryIO, NamedTuple

import zstandard

from nibbet.core.markup import answer_facts
from nibbet.crawl.fetch import Answer
from nibbet.once import threads

#: pages that are read here before other processes are started: a small site is done by then
FEW = 200
#: processes that read: one alone keeps the rest of the crawl waiting where the server is fast
READERS = 2
#: bytes of the length that goes before each message between the two processes; bytes that may wait between them
LENGTH, WAITING = 8, 2**22
#: what the other process runs: an interpreter of its own, not a copy of this one with its connections
OTHER = "from nibbet.crawl.reading import serve; serve()"


class Read(NamedTuple):
    """What a page says: its record, packed; its links, packed, as targets, anchors, rels, places, and where the page itself leads; the addresses to follow."""

    record: bytes
    links: bytes
    follow: list[str]


def read(address: str, status: int | None, headers: Mapping[str, str], body: bytes) -> Read:
    """What an answer says of its address: see `core.markup.answer_facts`."""
    record, links, follow = answer_facts(address, status, headers, body)
    pack = zstandard.ZstdCompressor(level=1)

    def packed(value: object) -> bytes:
        return pack.compress(json.dumps(value, ensure_ascii=False, separators=(",", ":")).encode("utf-8", "surrogatepass"))

    return Read(packed(record), packed([*(list(zip(*links, strict=True)) or [()] * 4), record.get("redirect_to", "")]), follow)


def serve() -> None:
    """Read the answers that come by standard input, one after the other, until it ends; a page that cannot be read ends this process."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # an interrupt is for the crawl, which ends this process
    given, back = sys.stdin.buffer, sys.stdout.buffer
    while size := given.read(LENGTH):
        _send(back, pickle.dumps(tuple(read(*pickle.loads(given.read(int.from_bytes(size)))))))  # noqa: S301 - from the crawl itself
        back.flush()


def _send(to: BinaryIO | asyncio.StreamWriter, message: bytes) -> None:
    to.write(len(message).to_bytes(LENGTH))
    to.write(message)


class _Ended(Exception):  # noqa: N818 - no fault of this program
    """The other process has ended."""


class _Other:
    """A process that reads pages in the order in which it is given them."""

    @classmethod
    async def started(cls) -> _Other:
        """Start one."""
        other = cls()
        other.process = await asyncio.create_subprocess_exec(
            sys.executable, "-P", "-c", OTHER, stdin=PIPE, stdout=PIPE, stderr=DEVNULL, limit=WAITING
        )
        other.listening = asyncio.create_task(other._listen())
        return other

    def __init__(self) -> None:
        self.process: asyncio.subprocess.Process
        self.listening: asyncio.Task[None]
        self._asked: deque[asyncio.Future[Read]] = deque()

    def __len__(self) -> int:
        """How many pages wait to be read."""
        return len(self._asked)

    async def read(self, *given: object) -> Read:
        """What a page says. Raises _Ended where the process ends before it is read."""
        if self.listening.done():
            raise _Ended
        answer: asyncio.Future[Read] = asyncio.get_running_loop().create_future()
        self._asked.append(answer)
        assert self.process.stdin is not None
        _send(self.process.stdin, pickle.dumps(given))
        with suppress(ConnectionError):  # whoever listens notices too
            await self.process.stdin.drain()
        return await answer

    async def _listen(self) -> None:
        back = self.process.stdout
        assert back is not None
        with suppress(asyncio.IncompleteReadError, ConnectionError):
            while True:
                message = await back.readexactly(int.from_bytes(await back.readexactly(LENGTH)))
                page, answer = Read(*pickle.loads(message)), self._asked.popleft()  # noqa: S301 - from `serve`
                if not answer.done():  # nobody waits any more where the crawl is being ended
                    answer.set_result(page)
        for answer in self._asked:
            if not answer.done():
                answer.set_exception(_Ended())

    async def end(self) -> None:
        """End the process, whatever it is at."""
        with suppress(ProcessLookupError):
            self.process.kill()
        await self.process.wait()
        self.listening.cancel()


class Reader:
    """Reads answers, from FEW pages on in processes of its own; an asynchronous context manager."""

    def __init__(self) -> None:
        self._seen = 0
        self._others: list[_Other] = []
        self._starting = asyncio.Lock()

    async def __aenter__(self) -> Reader:
        return self

    async def __aexit__(self, *_: object) -> None:
        for other in self._others:
            await other.end()

    async def read(self, address: str, answer: Answer) -> Read:
        """What an answer says; nothing of a page that ends the process that reads it, as it would end this one."""
        self._seen += 1
        if self._seen == FEW and threads() > 1:
            for _ in range(READERS):
                self._others.append(await _Other.started())
        given = address, answer.status, answer.headers, answer.body
        if not self._others or not answer.body:
            return read(*given)
        other = min(self._others, key=len)
        with suppress(_Ended):
            return await other.read(*given)
        async with self._starting:
            if other in self._others:  # the first that notices starts another for all that follow
                self._others[self._others.index(other)] = await _Other.started()
        alone = await _Other.started()  # this page may only have waited behind the one that ended it
        try:
            return await alone.read(*given)
        except _Ended:
            return read(address, None, {}, b"")
        finally:
            await alone.end()
