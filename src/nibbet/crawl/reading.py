"""The reading of pages, on another processor where there is one: it takes most of the time of a crawl."""

from __future__ import annotations

import asyncio
import json
import signal
from collections.abc import Mapping
from concurrent.futures import BrokenExecutor, ProcessPoolExecutor
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
        """What an answer says; what the other process cannot read is read here."""
        self._seen += 1
        if self._seen == FEW and threads() > 1:
            # its own interpreter, not a copy of this one with its connections; an interrupt is for this process, which ends that one
            self._executor = ProcessPoolExecutor(1, get_context("spawn"), signal.signal, (signal.SIGINT, signal.SIG_IGN))
        given = address, answer.status, answer.headers, answer.body
        if self._executor is not None and answer.body:
            try:
                return await asyncio.get_running_loop().run_in_executor(self._executor, read, *given)
            except (BrokenExecutor, OSError):
                self._executor = None
        return read(*given)
