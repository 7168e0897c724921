"""The reading of pages, on another processor where there is one: it takes most of the time of a crawl."""

from __future__ import annotations

import asyncio
import json
import signal
from collections.abc import Mapping
from concurrent.futures import BrokenExecutor, ProcessPoolExecutor
from contextlib import suppress
from multiprocessing import get_context
from typing import NamedTuple

import zstandard

from nibbet.core.markup import answer_facts
from nibbet.crawl.fetch import Answer
from nibbet.once import threads

#: pages that are read here before another process is started: a small site is done by then
FEW = 200


class Read(NamedTuple):
    """What a page says: its record and its links, packed, and the addresses that it leads on to."""

    record: bytes
    links: bytes
    follow: list[str]


def read(address: str, status: int | None, headers: Mapping[str, str], body: bytes) -> Read:
    """What an answer says of its address: see `core.markup.answer_facts`."""
    record, links, follow = answer_facts(address, status, headers, body)
    pack = zstandard.ZstdCompressor(level=1)

    def packed(value: object) -> bytes:
        return pack.compress(json.dumps(value, ensure_ascii=False, separators=(",", ":")).encode("utf-8", "surrogatepass"))

    return Read(packed(record), packed(links), follow)


class Reader:
    """Reads answers, from FEW pages on in a process of its own; a context manager."""

    def __init__(self) -> None:
        self._seen = 0
        self._executor: ProcessPoolExecutor | None = None

    def __enter__(self) -> Reader:
        return self

    def __exit__(self, *_: object) -> None:
        if self._executor is not None:
            self._executor.shutdown(wait=False, cancel_futures=True)

    async def read(self, address: str, answer: Answer) -> Read:
        """What an answer says; nothing of a page that ends the process that reads it, as it would end this one."""
        self._seen += 1
        if self._seen == FEW and threads() > 1:
            self._executor = _started()
        given = address, answer.status, answer.headers, answer.body
        if self._executor is None or not answer.body:
            return read(*given)
        executor, loop = self._executor, asyncio.get_running_loop()
        with suppress(BrokenExecutor):
            return await loop.run_in_executor(executor, read, *given)
        if self._executor is executor:  # the first that notices starts another for all that follow
            self._executor = _started()
        alone = _started()  # this page may only have waited behind the one that ended it
        try:
            return await loop.run_in_executor(alone, read, *given)
        except BrokenExecutor:
            return read(address, None, {}, b"")
        finally:
            alone.shutdown(wait=False)


def _started() -> ProcessPoolExecutor:
    # an interpreter of its own, not a copy of this one with its connections; an interrupt is for this process, which ends that one
    return ProcessPoolExecutor(1, get_context("spawn"), signal.signal, (signal.SIGINT, signal.SIG_IGN))
