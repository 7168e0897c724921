"""What a site asks of robots, and how fast it may be asked."""

from __future__ import annotations

import asyncio
from collections import deque
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from urllib.parse import urlsplit

from protego import Protego

from nibbet.core.markup import joined
from nibbet.crawl.fetch import Answer, Fetcher

#: the name that rules of robots.txt may call this crawler by
AGENT = "nibbet"
#: bytes of a robots.txt that count (RFC 9309, 2.5)
MOST_ROBOTS = 500_000
#: redirects that are followed to a robots.txt (RFC 9309, 2.3.1.2)
HOPS = 5
#: seconds that a server may ask to be left alone, at most
LONGEST_PAUSE = 600.0
#: answers by which the usual time of a server is known; times of it from which it is asked more slowly; seconds that are never slow
LEARNT, SLOW, QUICK = 20, 2.0, 0.25


class Robots:
    """The rules of one host (RFC 9309): all allowed where it has none, nothing where its server fails."""

    def __init__(self, text: str | None, *, reachable: bool) -> None:
        self.text, self._reachable = text, reachable
        self._rules = Protego.parse(text) if text else None

    @classmethod
    async def of(cls, fetcher: Fetcher, root: str) -> Robots:
        """Those of a scheme and host."""
        address = f"{root}/robots.txt"
        for _ in range(HOPS + 1):
            answer = await fetcher.ask(address, whole=True)
            if answer.status is None or answer.status >= 500 or answer.status == 429:
                return cls(None, reachable=False)
            target = answer.headers.get("location")
            if 300 <= answer.status < 400 and target:
                address = joined(address, target) or address
                continue
            if answer.status == 200:
                return cls(answer.body[:MOST_ROBOTS].decode("utf-8-sig", "replace"), reachable=True)
            break
        return cls(None, reachable=True)

    def allows(self, address: str) -> bool:
        """Whether this crawler may ask for an address."""
        if not self._reachable:
            return False
        return self._rules is None or bool(self._rules.can_fetch(address, AGENT))

    @property
    def delay(self) -> float:
        """Seconds to be left between two requests, as the rules ask."""
        return float((self._rules.crawl_delay(AGENT) if self._rules else None) or 0.0)

    @property
    def sitemaps(self) -> list[str]:
        """The sitemaps that it names."""
        return list(self._rules.sitemaps) if self._rules else []


class Pace:
    """When the next request to a host may go: at a rate, more slowly where answers get slower, and not before a pause that the server asked for."""

    def __init__(self, rate: float | None, delay: float = 0.0) -> None:
        self._usual = max(1 / rate if rate else 0.0, delay)
        self._interval = self._usual
        self._next = 0.0
        self._first: deque[float] = deque(maxlen=LEARNT)
        self._base: float | None = None
        self._recent = 0.0

    @property
    def interval(self) -> float:
        """Seconds between two requests now."""
        return self._interval

    async def turn(self) -> None:
        """Wait until it is this request's turn."""
        clock = asyncio.get_running_loop().time
        now = clock()
        at = max(self._next, now)
        self._next = at + self._interval
        if at > now:
            await asyncio.sleep(at - now)

    def answered(self, answer: Answer) -> float:
        """Learn from an answer; returns how long the host asks to be left alone (0 for not at all)."""
        if answer.status in (429, 503):
            pause = retry_after(answer.headers.get("retry-after")) or max(5.0, 10 * self._interval)
            self._interval = max(2 * self._interval, 0.1)
            self._usual = max(self._usual, self._interval / 2)  # it was too fast for this server
            self._next = max(self._next, asyncio.get_running_loop().time() + pause)
            return pause
        if answer.status is None:
            return 0.0
        if self._base is None:
            self._first.append(answer.seconds)
            if len(self._first) == LEARNT:
                self._base = sorted(self._first)[LEARNT // 2]
            return 0.0
        self._recent = 0.9 * (self._recent or answer.seconds) + 0.1 * answer.seconds
        slower = self._recent / max(SLOW * self._base, QUICK)
        self._interval = max(self._usual, self._recent / 2) * slower if slower > 1 else self._usual
        return 0.0


def retry_after(text: str | None) -> float:
    """Seconds that a Retry-After header asks for, as a number or a date; 0 without one, at most LONGEST_PAUSE."""
    if not text:
        return 0.0
    try:
        seconds = float(text)
    except ValueError:
        try:
            seconds = (parsedate_to_datetime(text) - datetime.now(UTC)).total_seconds()
        except (TypeError, ValueError):
            return 0.0
    return min(max(seconds, 0.0), LONGEST_PAUSE)


def root_of(address: str) -> str:
    """Scheme and host of an address."""
    parts = urlsplit(address)
    return f"{parts.scheme}://{parts.netloc}"
