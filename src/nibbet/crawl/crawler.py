"""The crawl: from the home page, the sitemaps and all known addresses along the links, politely."""

from __future__ import annotations

import asyncio
import json
import re
import zlib
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import Any, Protocol

import zstandard

from nibbet.core.markup import BROKEN, NO_CONNECTION, TOO_SLOW, host_of, joined
from nibbet.crawl.fetch import Answer, Fetcher
from nibbet.crawl.frontier import Frontier, Target
from nibbet.crawl.manners import Pace, Robots, root_of, together
from nibbet.crawl.outside import RATE, Checked, Outside
from nibbet.crawl.reading import Reader
from nibbet.errors import SourceError

#: limits of letters, repeated path segments and parameters, beyond which an address belongs to an endless series
MOST_LETTERS, MOST_REPEATS, MOST_PARAMETERS = 2_000, 3, 8
#: parameter versions of one path that are requested
MOST_VERSIONS = 200
#: consecutive addresses that differ only in digits, each found only on the previous one, that make an endless series
MOST_IN_A_ROW = 200
#: consecutive addresses without an answer from which a server is assumed to be down
MOST_SILENT = 25
#: attempts at an address when a server is busy or disconnects
MOST_TRIES = 3
#: seconds until it is asked again for the first time, doubled each time
FIRST_WAIT = 1.0
#: days for which an answer from another host is reused
ASKED_AGAIN = 7
#: largest number of sitemaps, and depth of their indexes
MOST_SITEMAPS, SITEMAP_DEPTH = 1_000, 3
#: file extensions that are no pages
ASSETS = re.compile(r"\.(?:png|jpe?g|gif|webp|avif|svg|ico|css|m?js|json|woff2?|ttf|eot|mp[34]|webm|mov|avi|zip|gz|rar|7z|exe|dmg|apk|iso|xml|rss|atom)$", re.IGNORECASE)  # fmt: skip
SESSION = re.compile(r"[?&;](?:[a-z]*sess(?:ion)?_?id|sid|jsessionid|token)=", re.IGNORECASE)


class Keeper(Protocol):
    """Anything that stores answers in addition to the frontier, such as an archive."""

    def keep(self, address: str, answer: Answer) -> None:
        """Stores an answer as received."""


@dataclass(frozen=True)
class Plan:
    """The scope and manner of a crawl: hosts of the site; limit, depth: most pages and links from the home page; include, exclude: patterns of
    paths (`*` matches anything); rate: pages a second (None for as fast as it answers); at_once: concurrent requests; fresh: request
    everything again; stands_for: scheme and host of the site of which this is a copy, whose addresses replace those here; known: addresses
    from other sources; outside: whether links to other hosts are checked; further: home pages of hosts of the site with pages of their own.
    """

    home: str
    hosts: frozenset[str]
    limit: int | None = None
    depth: int | None = None
    include: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()
    rate: float | None = 5.0
    at_once: int = 8
    contact: str = ""
    fresh: bool = False
    stands_for: str = ""
    known: Iterable[str] = ()
    outside: bool = False
    further: tuple[str, ...] = ()

    @property
    def starts(self) -> tuple[str, ...]:
        """Starting points of the crawl: the home page, and those of further hosts."""
        return self.home, *self.further


@dataclass
class Tally:
    """Progress of a crawl: requests, and unchanged addresses (by their answer or by the sitemap); outside: linked addresses of other hosts,
    and how many of them are left for another run; cut_off: whether none of those hosts could be reached.
    """

    requests: int = 0
    unchanged: int = 0
    outside: int = 0
    outside_left: int = 0
    cut_off: bool = False


class Crawler:
    """Crawls a site into a frontier, which then contains everything for the inventory."""

    def __init__(
        self,
        plan: Plan,
        frontier: Frontier,
        say: Callable[[Tally, int], None],
        keeper: Keeper | None = None,
        say_outside: Callable[[int, int], None] | None = None,
    ) -> None:
        self.plan, self.frontier, self.say, self.keeper = plan, frontier, say, keeper
        self.say_outside = say_outside or (lambda done, total: None)
        self.tally = Tally()
        self.sitemap: dict[str, str] = {}
        self.robots: dict[str, Robots] = {}
        self._paces: dict[str, Pace] = {}
        self._versions: Counter[str] = Counter()
        self._include = [_pattern(one) for one in plan.include]
        self._exclude = [_pattern(one) for one in plan.exclude]
        self._is_page = lru_cache(200_000)(lambda address: self._is_ours(address) and not ASSETS.search(address.partition("?")[0]))
        self._silent: dict[str, list[Target]] = {}
        self._busy = 0
        self._again: list[tuple[float, Target, int]] = []
        self._reader = Reader()
        self._today = datetime.now(UTC).date().isoformat()

    @property
    def root(self) -> str:
        """Scheme and host of the home page."""
        return root_of(self.plan.home)

    async def run(self) -> Tally:
        """Crawls until no address is left, or the limit is reached."""
        self.frontier.begin(self.plan.home)
        async with self._reader:
            await self._crawl()
        return self.tally

    async def _crawl(self) -> None:
        plan, frontier = self.plan, self.frontier
        async with Fetcher(plan.home, plan.contact, connections=plan.at_once) as fetcher:
            frontier.add([(one, 0, 0) for one in plan.starts])
            frontier.name(plan.starts)
            scheme, begun = plan.home.partition("://")[0], {host_of(one) for one in plan.starts}
            siblings = [f"{scheme}://{host}" for host in sorted(plan.hosts - begun)]
            for root in dict.fromkeys([*map(root_of, plan.starts), *siblings]):
                await self._manners(fetcher, root)
            await self._read_sitemaps(fetcher)
            frontier.name(one for one in map(self.here, plan.known) if self._is_ours(one) and not ASSETS.search(one.partition("?")[0]))
            self._versions.update(address.partition("?")[0] for address in frontier.answered_versions())
            await together([self._work(fetcher) for _ in range(plan.at_once)])
            if plan.outside:
                await self._check_outside(fetcher)

    async def _check_outside(self, fetcher: Fetcher) -> None:
        """Checks links to other hosts that were not checked recently."""
        plan, frontier = self.plan, self.frontier
        linked: Counter[str] = Counter()
        for _, _, _, _, _, _, packed in frontier.rows():
            targets = set(links_of(packed)[0])
            linked.update(one for one in targets if one.startswith(("http://", "https://")) and not self._is_ours(self.here(one)))
        recent = (datetime.now(UTC).date() - timedelta(days=ASKED_AGAIN)).isoformat()
        known = frozenset(() if plan.fresh else frontier.outside(recent))

        def keep(one: Checked) -> None:
            frontier.checked(one.address, self._today, one.status, one.moved, one.reason)

        check = Outside(fetcher, keep, self.say_outside, None if plan.rate is None else min(plan.rate, RATE), plan.at_once)
        self.tally.outside_left = await check.check(linked, known)
        self.tally.outside = len(linked)
        if check.cut_off:
            frontier.forget_outside(self._today)
            self.tally.cut_off = True

    async def _manners(self, fetcher: Fetcher, root: str) -> Robots:
        if root not in self.robots:
            self.robots[root] = Robots(None, "not asked yet")
            self.robots[root] = known = await Robots.of(fetcher, root)
            self._paces[root] = Pace(self.plan.rate, known.delay)
        return self.robots[root]

    # -- sitemaps --------------------------------------------------------------------------------------------------------------------------

    async def _read_sitemaps(self, fetcher: Fetcher) -> None:
        named = {root: [self.here(one) for one in robots.sitemaps] for root, robots in self.robots.items()}
        anywhere = [one for sitemaps in named.values() for one in sitemaps]
        usual = [f"{root}/sitemap.xml" for root in map(root_of, self.plan.starts) if not named[root]]
        spoken_for = {host_of(one) for one in anywhere}  # the robots.txt of one host may list the sitemaps of another
        waiting = [(one, 0) for one in anywhere + [one for one in usual if host_of(one) not in spoken_for]]
        seen: set[str] = set()
        while waiting and len(seen) < MOST_SITEMAPS:
            address, depth = waiting.pop(0)
            if address in seen or not self._is_ours(address) or depth > SITEMAP_DEPTH:
                continue
            seen.add(address)
            await self._paces.get(root_of(address), Pace(self.plan.rate)).turn()
            answer = await fetcher.ask(address, whole=True)
            entries, inner = sitemap_entries(answer.body) if answer.status == 200 else ([], [])
            waiting += [(self.here(joined(address, one)), depth + 1) for one in inner]
            for entry, changed in entries:
                if (whole := self.here(joined(address, entry))) and self._is_ours(whole):
                    self.sitemap[whole] = changed
        self.frontier.name(self.sitemap)

    # -- pages -----------------------------------------------------------------------------------------------------------------------------

    async def _work(self, fetcher: Fetcher) -> None:
        while True:
            taken = self._take()
            if taken is None:
                if not self._busy and not self._again:
                    return
                await asyncio.sleep(0.02)
                continue
            target, tries = taken
            self._busy += 1
            try:
                await self._visit(fetcher, target, tries)
            finally:
                self._busy -= 1
            self.say(self.tally, len(self.frontier))

    def _take(self) -> tuple[Target, int] | None:
        """The next address and its number of attempts; None if there is none at the moment."""
        now = asyncio.get_running_loop().time()
        for place, (at, target, tries) in enumerate(self._again):
            if at <= now:
                del self._again[place]
                return target, tries
        if self.plan.limit is not None and self.tally.requests + self._busy + len(self._again) >= self.plan.limit:
            return None
        target_or_none = self.frontier.next()
        return None if target_or_none is None else (target_or_none, 0)

    async def _visit(self, fetcher: Fetcher, target: Target, tries: int) -> None:
        address = target.address
        if not tries and (reason := self._unwanted(target)):
            self.frontier.cut(target, reason)
            return
        root = root_of(address)
        await self._manners(fetcher, root)
        while root not in self._paces:  # another worker is requesting the rules
            await asyncio.sleep(0.02)
        robots = self.robots[root]
        if not robots.allows(address):
            self.frontier.cut(target, robots.why)
            return
        changed = self.sitemap.get(address, "")
        if not self.plan.fresh and target.fetched and changed and changed[:10] < target.fetched:
            self._unchanged(target, was_asked=False)
            return
        pace = self._paces[root]
        await pace.turn()
        old = not self.plan.fresh
        answer = await fetcher.ask(address, etag=target.etag if old else None, changed=target.changed if old else None)
        pause = pace.answered(answer)
        if (pause is not None or answer.reason in (TOO_SLOW, NO_CONNECTION, BROKEN)) and tries < MOST_TRIES:
            self._again.append((asyncio.get_running_loop().time() + (FIRST_WAIT * 2**tries if pause is None else pause), target, tries + 1))
            return
        self._watch_silence(target, answer)
        self.tally.requests += 1
        if answer.status == 304:
            self._unchanged(target, was_asked=True)
            return
        await self._keep(target, answer)

    def _watch_silence(self, target: Target, answer: Answer) -> None:
        """Stops when consecutive addresses of a host do not answer: an outage says nothing about pages. Raises SourceError."""
        root = root_of(target.address)
        silent = self._silent[root] = [] if answer.status is not None else [*self._silent.get(root, []), target]
        if len(silent) >= MOST_SILENT:  # requests under way count too
            self.frontier.ask_again(silent)
            mend = "" if root == self.root else " Where that host is no longer in use, take it out of more_hosts."
            raise SourceError(
                f"{root} no longer answers ({answer.reason}, {MOST_SILENT} addresses in a row). What was read is kept: the same command goes on.{mend}"
            )

    def _unwanted(self, target: Target) -> str:
        """Why an address is not requested; empty if it is."""
        address = target.address
        path, _, query = address.partition("?")
        inside = "/" + path.split("/", 3)[3] if path.count("/") > 2 else "/"
        if address != self.plan.home and (
            any(one.fullmatch(inside) for one in self._exclude)
            or (self._include and not any(one.fullmatch(inside) for one in self._include))
        ):
            return "left out by the patterns"
        if self.plan.depth is not None and (target.depth or 0) > self.plan.depth:
            return "deeper than asked"
        parts = [part for part in inside.split("/") if part]
        if len(address) > MOST_LETTERS or (parts and max(Counter(parts).values()) > MOST_REPEATS):
            return "an address that grows without end"
        if target.chain > MOST_IN_A_ROW:
            return "one of a series without end"
        if query:
            if SESSION.search(address):
                return "a session in its address"
            self._versions[path] += 1
            if query.count("&") >= MOST_PARAMETERS or self._versions[path] > MOST_VERSIONS:
                return "one of too many versions by parameters"
        return ""

    def _unchanged(self, target: Target, *, was_asked: bool) -> None:
        self.tally.unchanged += 1
        self.frontier.unchanged(target, self._today if was_asked else None)  # its links are already known

    async def _keep(self, target: Target, answer: Answer) -> None:
        if self.keeper is not None and answer.status is not None:
            self.keeper.keep(target.address, answer)
        record, links, follow = await self._reader.read(target.address, answer)
        self.frontier.answer(
            target, self._today, answer.status, answer.reason, record, links,
            answer.headers.get("etag", "")[:500], answer.headers.get("last-modified", "")[:100], self._followed(target, follow),
        )  # fmt: skip

    def _followed(self, target: Target, links: Iterable[str]) -> list[tuple[str, int | None, int]]:
        """The links of a page to follow: those to unknown pages of the site."""
        fresh = self.frontier.unknown(map(self.here, links) if self.plan.stands_for else links)
        form, depth = _form(target.address) if fresh else "", None if target.depth is None else target.depth + 1
        return [
            (link, depth, target.chain + 1 if _form(link) == form and link != target.address else 0)
            for link in fresh
            if self._is_page(link)
        ]

    def here(self, address: str) -> str:
        """An address of the original site as it is requested from this copy; any other unchanged."""
        live = self.plan.stands_for
        return self.root + address[len(live) :] if live and address.startswith(live + "/") else address

    def there(self, address: str) -> str:
        """The address on the original site for one of this copy; any other unchanged."""
        live = self.plan.stands_for
        return live + address[len(self.root) :] if live and address.startswith(self.root + "/") else address

    def _is_ours(self, address: str) -> bool:
        return host_of(address) in self.plan.hosts


def unpacked(data: bytes | None) -> Any:
    """The stored data of an address; None for nothing."""
    return json.loads(zstandard.decompress(data)) if data else None


def links_of(data: bytes | None) -> list[Any]:
    """The stored links of an address: targets, anchors, rels, places, one for each link, and its own redirect target (empty for none)."""
    return unpacked(data) or [[], [], [], [], ""]


def sitemap_entries(body: bytes) -> tuple[list[tuple[str, str]], list[str]]:
    """(entries as address and date of change, further sitemaps) of a sitemap: XML, plain text, or compressed; none if it is invalid."""
    if body[:2] == b"\x1f\x8b":
        try:
            body = zlib.decompressobj(47).decompress(body, 60_000_000)
        except zlib.error:
            return [], []
    if b"<" not in body[:200]:
        lines = body.decode("utf-8-sig", "replace").split()
        return [(line, "") for line in lines if line.startswith(("http://", "https://"))], []
    from defusedxml import DefusedXmlException
    from defusedxml.ElementTree import ParseError, fromstring

    try:
        root = fromstring(body)
    except (ParseError, DefusedXmlException, ValueError):
        return [], []
    entries, inner = [], []
    for node in root:
        parts = {child.tag.rpartition("}")[2]: (child.text or "").strip() for child in node}
        if "loc" in parts:
            if node.tag.rpartition("}")[2] == "sitemap":
                inner.append(parts["loc"])
            else:
                entries.append((parts["loc"], parts.get("lastmod", "")[:10]))
    return entries, inner


@lru_cache(100_000)
def _form(address: str) -> str:
    """An address with its digits replaced by a mark, common to the members of a series."""
    return re.sub(r"\d+", "0", address)


def _pattern(text: str) -> re.Pattern[str]:
    return re.compile(re.escape(text).replace(r"\*", ".*"))
