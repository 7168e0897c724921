"""Links to other hosts: whether their targets answer, each address once and each host seldom."""

from __future__ import annotations

import asyncio
from collections import Counter, deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from nibbet.core.markup import BROKEN, SILENT_FOR, host_of, joined
from nibbet.crawl.fetch import Answer, Fetcher
from nibbet.crawl.manners import Pace, Robots, root_of, together

#: addresses of one host requested in a run, those with most linking pages first; requests a second to it
MOST_OF_HOST, RATE = 50, 1.0
#: longest crawl delay of a host in seconds; a longer one would delay the whole check
LONGEST_DELAY = 10.0
#: redirects followed to the end of a link, and permanent ones
HOPS, LASTING = 5, (301, 308)
#: answers to a HEAD request that are checked with a GET request
ASK_WHOLE = frozenset((400, 403, 404, 405, 406, 501))
#: attempts at a host that disconnects; hosts without any answer from which the network is assumed to be down
TRIES, LOST_HOSTS = 2, 3


@dataclass(frozen=True)
class Checked:
    """An address of another host: status (null without an answer, or if it may not be requested), moved (the end of its redirects, empty
    without any), reason: why there is no status.
    """

    address: str
    status: int | None
    moved: str = ""
    reason: str = ""


@dataclass
class Outside:
    """Checks the targets of links to other hosts: one request at a time to each host, and only what its robots.txt allows.

    keep receives each answer; say receives the progress.
    """

    fetcher: Fetcher
    keep: Callable[[Checked], None]
    say: Callable[[int, int], None]
    rate: float | None = RATE
    at_once: int = 8
    answered: int = 0
    silent: list[str] = field(default_factory=list)
    _known: dict[str, asyncio.Task[tuple[Robots, Pace]]] = field(default_factory=dict)

    async def check(self, linked: Counter[str], known: frozenset[str]) -> int:
        """Requests the linked addresses that are not known yet; returns the number of addresses left for another run.

        Args:
            linked: addresses of other hosts, and the number of pages that link to each.
        """
        hosts: dict[str, list[str]] = {}
        for address in sorted(linked, key=lambda one: (-linked[one], one)):
            if address not in known:
                hosts.setdefault(host_of(address), []).append(address)
        waiting = deque(hosts[host][:MOST_OF_HOST] for host in sorted(hosts))
        total, left = sum(map(len, waiting)), sum(max(len(one) - MOST_OF_HOST, 0) for one in hosts.values())
        self._done, self._total = 0, total
        await together([self._work(waiting) for _ in range(self.at_once)])
        return left

    @property
    def cut_off(self) -> bool:
        """Whether no other host was reached: the network is down, not the links."""
        return not self.answered and len(self.silent) >= LOST_HOSTS

    async def _work(self, waiting: deque[list[str]]) -> None:
        while waiting:
            await self._host(waiting.popleft())

    async def _host(self, addresses: Iterable[str]) -> None:
        reached = False
        for address in addresses:
            result = await self._end_of(address)
            robots, _ = await self._manners(root_of(address))
            reached = reached or robots.fault not in SILENT_FOR
            self.keep(result)
            self._done += 1
            self.say(self._done, self._total)
        self.answered += reached
        if not reached:
            self.silent.append(host_of(next(iter(addresses))))

    async def _manners(self, root: str) -> tuple[Robots, Pace]:
        """The rules of a host, fetched once, and its pace."""

        async def learn() -> tuple[Robots, Pace]:
            robots = await Robots.of(self.fetcher, root)
            return robots, Pace(self.rate, min(robots.delay, LONGEST_DELAY))

        if root not in self._known:
            self._known[root] = asyncio.create_task(learn())
        return await asyncio.shield(self._known[root])

    async def _end_of(self, address: str) -> Checked:
        """The end of a link through its redirects, as far as the robots.txt of each host allows."""
        at, seen, lasting = address, {address}, True
        for _ in range(HOPS + 1):
            robots, pace = await self._manners(root_of(at))
            if not robots.allows(at):
                return Checked(address, None, reason=robots.fault if robots.fault in SILENT_FOR else robots.why)
            answer = await self._answer(at, pace)
            target = joined(at, answer.headers.get("location", "")) if 300 <= (answer.status or 0) < 400 else ""
            if not target:
                break
            if target in seen:
                return Checked(address, answer.status, reason="redirects in a circle")
            seen.add(target)
            at, lasting = target, lasting and answer.status in LASTING
        if at != address and answer.status and answer.status < 300 and lasting:
            return Checked(address, 301, at)
        return Checked(address, answer.status, reason=answer.reason)

    async def _answer(self, address: str, pace: Pace) -> Answer:
        answer = Answer(None, {})
        for _ in range(TRIES):
            await pace.turn()
            answer = await self.fetcher.ask(address, head=True)
            if answer.status in ASK_WHOLE or answer.reason == BROKEN:  # some servers refuse HEAD requests
                await pace.turn()
                answer = await self.fetcher.ask(address)
            if answer.status is not None and answer.status not in (429, 503):
                break
            pace.answered(answer)
        return answer
