"""Reads pages in other processes if there are several cores, because it takes most of the time of a crawl."""

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

#: pages read in this process before others are started: a small site is finished by then
FEW = 200
#: reading processes: a single one would slow down the crawl of a fast server
READERS = 2
#: bytes of the length before each message between processes; bytes that may be pending
LENGTH, WAITING = 8, 2**22
#: the program of the other process: a new interpreter, not a copy of this one with its connections
OTHER = "from nibbet.crawl.reading import serve; serve()"


class Read(NamedTuple):
    """The content of a page: its packed record; its packed links, as targets, anchors, rels, places, and its redirect target; the addresses to
    follow.
    """

    record: bytes
    links: bytes
    follow: list[str]


def read(address: str, status: int | None, headers: Mapping[str, str], body: bytes) -> Read:
    """The facts in an answer about its address: see `core.markup.answer_facts`."""
    record, links, follow = answer_facts(address, status, headers, body)
    pack = zstandard.ZstdCompressor(level=1)

    def packed(value: object) -> bytes:
        return pack.compress(json.dumps(value, ensure_ascii=False, separators=(",", ":")).encode("utf-8", "surrogatepass"))

    return Read(packed(record), packed([*(list(zip(*links, strict=True)) or [()] * 4), record.get("redirect_to", "")]), follow)


def serve() -> None:
    """Reads the answers on standard input one by one until its end; a page that cannot be read ends this process."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # an interrupt is handled by the crawl, which ends this process
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
    """A process that reads pages in the order of its input."""

    @classmethod
    async def started(cls) -> _Other:
        """Starts a process."""
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
        """Number of pages that wait to be read."""
        return len(self._asked)

    async def read(self, *given: object) -> Read:
        """The content of a page. Raises _Ended if the process ends first."""
        if self.listening.done():
            raise _Ended
        answer: asyncio.Future[Read] = asyncio.get_running_loop().create_future()
        self._asked.append(answer)
        assert self.process.stdin is not None
        _send(self.process.stdin, pickle.dumps(given))
        with suppress(ConnectionError):  # the reader of its output notices too
            await self.process.stdin.drain()
        return await answer

    async def _listen(self) -> None:
        back = self.process.stdout
        assert back is not None
        with suppress(asyncio.IncompleteReadError, ConnectionError):
            while True:
                message = await back.readexactly(int.from_bytes(await back.readexactly(LENGTH)))
                page, answer = Read(*pickle.loads(message)), self._asked.popleft()  # noqa: S301 - from `serve`
                if not answer.done():  # the crawl is ending, so nobody waits
                    answer.set_result(page)
        for answer in self._asked:
            if not answer.done():
                answer.set_exception(_Ended())

    async def end(self) -> None:
        """Kills the process."""
        with suppress(ProcessLookupError):
            self.process.kill()
        await self.process.wait()
        self.listening.cancel()


class Reader:
    """Reads answers, in other processes from FEW pages on; an asynchronous context manager."""

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
        """The content of an answer; nothing for a page that crashes its reading process."""
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
            if other in self._others:  # the first to notice starts another process for all that follow
                self._others[self._others.index(other)] = await _Other.started()
        alone = await _Other.started()  # this page may only have waited behind the one that crashed the process
        try:
            return await alone.read(*given)
        except _Ended:
            return read(address, None, {}, b"")
        finally:
            await alone.end()
