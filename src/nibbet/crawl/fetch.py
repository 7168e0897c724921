"""One request to a server and its answer, within limits of time, size and address."""

from __future__ import annotations

import asyncio
import ipaddress
import socket
import zlib
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

import aiohttp
from aiohttp.abc import AbstractResolver, ResolveResult
from aiohttp.resolver import ThreadedResolver

from nibbet._version import __version__
from nibbet.core.markup import BROKEN, CERTIFICATE, HTML, NO_CONNECTION, TOO_SLOW, media_of

#: bytes of an answer that are read, compressed and uncompressed
MOST_BYTES, MOST_UNPACKED = 5_000_000, 10_000_000
#: seconds for a whole answer, for a connection, and between two parts of an answer
WHOLE, CONNECT, PIECE = 60.0, 10.0, 15.0
PRIVATE = "leads into a private network"


@dataclass(frozen=True)
class Answer:
    """The answer of a server: status (None without an answer), headers (names in lower case), body (uncompressed; empty if not needed),
    seconds (until it began); reason: why it is missing or incomplete.
    """

    status: int | None
    headers: dict[str, str]
    body: bytes = b""
    seconds: float = 0.0
    reason: str = ""


def is_public(address: str) -> bool:
    """Whether an IP address is public: not of this machine, its network, or reserved."""
    try:
        ip = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return False
    mapped = getattr(ip, "ipv4_mapped", None) or getattr(ip, "sixtofour", None)
    return (mapped or ip).is_global and not ip.is_multicast


class _Guarded(AbstractResolver):
    """Resolves names without private addresses, unless they are those of the home page, at the moment of the connection."""

    def __init__(self, allowed: frozenset[str]) -> None:
        self._names, self._allowed = ThreadedResolver(), allowed

    async def resolve(self, host: str, port: int = 0, family: socket.AddressFamily = socket.AF_INET) -> list[ResolveResult]:
        known = await self._names.resolve(host, port, family)
        usable = [one for one in known if is_public(one["host"]) or one["host"] in self._allowed]
        if not usable:
            raise OSError(PRIVATE)
        return usable

    async def close(self) -> None:
        await self._names.close()


class Fetcher:
    """Sends requests, as a context manager.

    contact: an address or page of the owner of the crawl, sent to servers; home: the host that may have private addresses, because the user
    named it.
    """

    def __init__(self, home: str, contact: str = "", *, connections: int = 8) -> None:
        self.agent = f"Nibbet/{__version__}" + (f" (+{contact})" if contact else "")
        self._home, self._connections = home, connections
        self._allowed: frozenset[str] = frozenset()
        self._session: aiohttp.ClientSession | None = None

    async def __aenter__(self) -> Fetcher:
        self._allowed = await self._addresses(urlsplit(self._home).hostname or "")
        connector = aiohttp.TCPConnector(limit=self._connections, resolver=_Guarded(self._allowed), ttl_dns_cache=60, use_dns_cache=True)
        self._session = aiohttp.ClientSession(
            connector=connector,
            auto_decompress=False,
            cookie_jar=aiohttp.DummyCookieJar(),
            timeout=aiohttp.ClientTimeout(total=WHOLE, connect=CONNECT, sock_read=PIECE),
            headers={"User-Agent": self.agent, "Accept-Encoding": "gzip, deflate", "Accept": "text/html,application/xhtml+xml,*/*;q=0.5"},
        )
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._session is not None:
            await self._session.close()

    async def _addresses(self, host: str) -> frozenset[str]:
        try:
            return frozenset(str(one[4][0]) for one in await asyncio.get_running_loop().getaddrinfo(host, None))
        except OSError:
            return frozenset()

    async def ask(
        self, address: str, *, etag: str | None = None, changed: str | None = None, head: bool = False, whole: bool = False
    ) -> Answer:
        """The answer to one request; redirects are not followed. Any failure is given in its reason.

        Args:
            etag, changed: of the known version: a server that still has it answers 304; head: request only the headers; whole: read
            the body of any kind, not only of pages.
        """
        headers = {**({"If-None-Match": etag} if etag else {}), **({"If-Modified-Since": changed} if changed else {})}
        begun = asyncio.get_running_loop().time()

        def answer(status: int | None, headers: dict[str, str], body: bytes = b"", reason: str = "") -> Answer:
            return Answer(status, headers, body, asyncio.get_running_loop().time() - begun, reason)

        try:
            host = (urlsplit(address).hostname or "").strip("[]")
            literal = _literal(host)
            if literal and not is_public(literal) and literal not in self._allowed:
                return answer(None, {}, reason=PRIVATE)
            assert self._session is not None
            method = "HEAD" if head else "GET"
            async with self._session.request(method, address, headers=headers, allow_redirects=False) as response:
                first = asyncio.get_running_loop().time() - begun
                plain = {name.lower(): value for name, value in response.headers.items()}
                if "x-robots-tag" in plain:  # there may be one for each robot
                    plain["x-robots-tag"] = "\n".join(response.headers.getall("X-Robots-Tag"))
                if head or response.status in (204, 304) or 300 <= response.status < 400 or not (whole or media_of(plain) in ("", *HTML)):
                    response.close()
                    return answer(response.status, plain)
                body, reason = await _body(response, plain.get("content-encoding", ""))
                return Answer(response.status, plain, body, first, reason)
        except TimeoutError:
            return answer(None, {}, reason=TOO_SLOW)
        except aiohttp.ClientConnectorCertificateError:
            return answer(None, {}, reason=CERTIFICATE)
        except aiohttp.ClientConnectorError as fault:
            private = PRIVATE in f"{fault} {fault.os_error} {fault.__cause__}"
            return answer(None, {}, reason=PRIVATE if private else NO_CONNECTION)
        except (aiohttp.ClientError, OSError, ValueError, zlib.error, AssertionError):
            return answer(None, {}, reason=BROKEN)


def _literal(host: str) -> str:
    """The IP address spelled by a host, including short and unusual forms; empty for a name."""
    try:
        return str(ipaddress.ip_address(host))
    except ValueError:
        pass
    try:
        return (
            socket.inet_ntoa(socket.inet_aton(host))
            if host and host.replace(".", "").replace("x", "").isalnum() and host[0].isdigit()
            else ""
        )
    except OSError:
        return ""


async def _body(response: Any, packed: str) -> tuple[bytes, str]:
    """(the uncompressed body within its limits, why it is incomplete)."""
    unpack = zlib.decompressobj(47) if packed.strip().lower() in ("gzip", "x-gzip", "deflate") else None
    parts: list[bytes] = []
    read = unpacked = 0
    async for piece in response.content.iter_chunked(65_536):
        read += len(piece)
        if unpack is not None:
            try:
                piece = unpack.decompress(piece, MOST_UNPACKED - unpacked + 1)
            except zlib.error:
                if read == len(piece) and packed.strip().lower() == "deflate":  # raw deflate, as some servers send it
                    unpack = zlib.decompressobj(-15)
                    piece = unpack.decompress(piece, MOST_UNPACKED + 1)
                else:
                    raise
        unpacked += len(piece)
        parts.append(piece)
        if read > MOST_BYTES or unpacked > MOST_UNPACKED:
            response.close()
            return b"".join(parts)[:MOST_UNPACKED], "larger than is read"
    return b"".join(parts), ""
