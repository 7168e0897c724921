"""The rules of a site for robots, and the rate of requests."""

from __future__ import annotations

import asyncio
import math
from collections import deque
from collections.abc import Coroutine, Sequence
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import urlsplit

from protego import Protego

from nibbet.core.markup import joined
from nibbet.crawl.fetch import Answer, Fetcher

#: the name of this crawler in robots.txt
AGENT = "nibbet"
#: bytes of a robots.txt that count (RFC 9309, 2.5)
MOST_ROBOTS = 500_000
#: redirects followed to a robots.txt (RFC 9309, 2.3.1.2)
HOPS = 5
#: longest pause in seconds that a server may request
LONGEST_PAUSE = 600.0
#: default pause in seconds after a busy answer; largest slowdown afterwards, and its decay
USUAL_PAUSE, MOST_HELD_BACK, RECOVERY = 5.0, 64.0, 0.95
#: least seconds between two requests to a slowed-down server
LEAST_HELD = 0.05
#: answers from which the usual time of a server is known; multiple of it that slows requests down; seconds that are never slow
LEARNT, SLOW, QUICK = 20, 2.0, 0.25


class Robots:
    """The rules of one host (RFC 9309): everything allowed if it has none, nothing if its server fails."""

    def __init__(self, text: str | None, fault: str = "") -> None:
        """text: of the file; None without one; fault: why it could not be fetched."""
        self.text, self.fault, self.why = text, fault, f"robots.txt: {fault}" if fault else "blocked by robots.txt"
        self._reachable = not fault
        self._rules = Protego.parse(text) if text else None

    @classmethod
    async def of(cls, fetcher: Fetcher, root: str) -> Robots:
        """The rules of a scheme and host."""
        address = f"{root}/robots.txt"
        for _ in range(HOPS + 1):
            answer = await fetcher.ask(address, whole=True)
            if answer.status is None or answer.status >= 500 or answer.status == 429:
                return cls(None, answer.reason or f"answers {answer.status}")
            target = answer.headers.get("location")
            if 300 <= answer.status < 400 and target:
                address = joined(address, target) or address
                continue
            if answer.status == 200:
                return cls(answer.body[:MOST_ROBOTS].decode("utf-8-sig", "replace"))
            break
        return cls(None)

    def allows(self, address: str) -> bool:
        """Whether this crawler may request an address."""
        if not self._reachable:
            return False
        return self._rules is None or bool(self._rules.can_fetch(address, AGENT))

    @property
    def delay(self) -> float:
        """Seconds between two requests required by the rules."""
        return float((self._rules.crawl_delay(AGENT) if self._rules else None) or 0.0)

    @property
    def sitemaps(self) -> list[str]:
        """The sitemaps listed in the file."""
        return list(self._rules.sitemaps) if self._rules else []


class Pace:
    """Schedules requests to a host: at a rate, more slowly as answers get slower, and not before the end of a requested pause."""

    def __init__(self, rate: float | None, delay: float = 0.0) -> None:
        self._usual = max(1 / rate if rate else 0.0, delay)
        self._next = 0.0
        self._first: deque[float] = deque(maxlen=LEARNT)
        self._base = 0.0
        self._recent = 0.0
        self._held_back = 1.0

    @property
    def interval(self) -> float:
        """Current seconds between two requests."""
        slower = self._recent / max(SLOW * self._base, QUICK) if self._base else 1.0
        times = max(self._held_back, slower, 1.0)
        return self._usual if times == 1 else max(self._usual, self._base / 2, LEAST_HELD) * times

    async def turn(self) -> None:
        """Waits until this request may be sent."""
        clock = asyncio.get_running_loop().time
        now = clock()
        at = max(self._next, now)
        self._next = at + self.interval
        if at > now:
            await asyncio.sleep(at - now)

    def answered(self, answer: Answer) -> float | None:
        """Adapts to an answer; returns the seconds of a requested pause, or None."""
        if answer.status in (429, 503):
            wanted = retry_after(answer.headers.get("retry-after"))
            pause = max(USUAL_PAUSE, 10 * self.interval) if wanted is None else wanted
            self._held_back = min(2 * self._held_back, MOST_HELD_BACK)
            self._next = max(self._next, asyncio.get_running_loop().time() + pause)
            return pause
        self._held_back = max(1.0, self._held_back * RECOVERY)
        if answer.status is not None:
            self._first.append(answer.seconds)
            if not self._base and len(self._first) == LEARNT:
                self._base = sorted(self._first)[LEARNT // 2]
            self._recent = 0.9 * (self._recent or answer.seconds) + 0.1 * answer.seconds
        return None


def retry_after(text: str | None) -> float | None:
    """Seconds in a Retry-After header, as a number or a date, at most LONGEST_PAUSE; None without a valid one."""
    if not text:
        return None
    try:
        seconds = float(text)
    except ValueError:
        try:
            seconds = (parsedate_to_datetime(text) - datetime.now(UTC)).total_seconds()
        except (TypeError, ValueError):
            return None
    return min(max(seconds, 0.0), LONGEST_PAUSE) if not math.isnan(seconds) else None


def root_of(address: str) -> str:
    """Scheme and host of an address."""
    parts = urlsplit(address)
    return f"{parts.scheme}://{parts.netloc}"


async def together(work: Sequence[Coroutine[Any, Any, None]]) -> None:
    """Runs several coroutines concurrently; if one fails, cancels the others before its error is raised."""
    workers = [asyncio.create_task(one) for one in work]
    try:
        await asyncio.gather(*workers)
    finally:
        for worker in workers:
            worker.cancel()
        await asyncio.gather(*workers, return_exceptions=True)
