"""What a crawl knows: every address met, what is still to be asked, what was answered. Whole at any moment, however the process ends."""

from __future__ import annotations

import sqlite3
from collections import Counter, deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

import xxhash

from nibbet.errors import SourceError

#: addresses that are held in memory, of those still to be asked
HELD = 5_000
#: states of an address
TODO, DONE, CUT = 0, 1, 2
LAYOUT = """
CREATE TABLE IF NOT EXISTS facts (name TEXT PRIMARY KEY, value TEXT) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS addresses (
  number INTEGER PRIMARY KEY, address TEXT UNIQUE NOT NULL, depth INTEGER, chain INTEGER NOT NULL, sources TEXT NOT NULL, state INTEGER NOT NULL,
  round INTEGER NOT NULL DEFAULT 0, fetched TEXT, status INTEGER, reason TEXT, etag TEXT, changed TEXT, record BLOB, links BLOB
);
CREATE INDEX IF NOT EXISTS by_state ON addresses (state, number);
"""


@dataclass(frozen=True)
class Target:
    """An address to be asked: depth, links from home (None where no link led to it); chain: how many addresses of its form led to it in a row;
    etag, changed: what the last answer said of its version; fetched: its day.
    """

    number: int
    address: str
    depth: int | None
    chain: int
    etag: str | None
    changed: str | None
    fetched: str | None


def key_of(address: str) -> int:
    """A number that stands for an address."""
    return xxhash.xxh3_64_intdigest(address.encode("utf-8", "replace"))


class Frontier:
    """The addresses of a crawl in a file, which is whole after each answer.

    Raises SourceError where the file cannot be written or is none of Nibbet's.
    """

    def __init__(self, path: Path) -> None:
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._base = sqlite3.connect(path, isolation_level=None, check_same_thread=False)  # one thread at a time uses it
            self._base.execute("PRAGMA journal_mode = WAL")
            self._base.execute("PRAGMA synchronous = NORMAL")
            self._base.executescript(LAYOUT)
        except (OSError, sqlite3.Error) as fault:
            raise SourceError(
                f"{path}: what the crawl knows cannot be kept there ({fault}). Name another folder, or remove that file."
            ) from None
        self._known = {key_of(one) for (one,) in self._base.execute("SELECT address FROM addresses")}
        self._waiting: deque[Target] = deque()
        self._last = 0

    def __len__(self) -> int:
        return len(self._known)

    # -- a round ---------------------------------------------------------------------------------------------------------------------------

    def begin(self, home: str) -> bool:
        """Begin a round, or go on with one that was not finished; returns whether it goes on. What another home left is forgotten."""
        if self.fact("home") != home:
            self._base.executescript("DELETE FROM addresses; DELETE FROM facts;")
            self._known.clear()
            self.tell("home", home)
        going_on = self._base.execute("SELECT 1 FROM addresses WHERE state = ? LIMIT 1", (TODO,)).fetchone() is not None
        if not going_on:
            with self._base:
                self._base.execute("BEGIN")
                self._base.execute("UPDATE addresses SET state = ?, sources = ''", (TODO,))
                self.tell("round", str(self.round + 1))
        self._last, self._waiting = 0, deque()
        return going_on and self.round > 0

    @property
    def round(self) -> int:
        """How many rounds have begun."""
        return int(self.fact("round") or 0)

    def fact(self, name: str) -> str | None:
        """What was told of the crawl itself."""
        row = self._base.execute("SELECT value FROM facts WHERE name = ?", (name,)).fetchone()
        return row[0] if row else None

    def tell(self, name: str, value: str) -> None:
        """Keep a fact of the crawl itself."""
        self._base.execute("INSERT OR REPLACE INTO facts VALUES (?, ?)", (name, value))

    # -- addresses -------------------------------------------------------------------------------------------------------------------------

    def add(self, found: Iterable[tuple[str, int | None, int]], source: str) -> int:
        """Take up addresses (address, depth, chain) that are not known yet; returns how many."""
        fresh = []
        for address, depth, chain in found:
            key = key_of(address)
            if key not in self._known:
                self._known.add(key)
                fresh.append((address, depth, chain, source, TODO))
        if fresh:
            self._base.executemany("INSERT OR IGNORE INTO addresses (address, depth, chain, sources, state) VALUES (?, ?, ?, ?, ?)", fresh)
        return len(fresh)

    def met(self, addresses: Iterable[str], source: str) -> None:
        """Note that a source knows these addresses."""
        mark = f" {source}"
        self._base.executemany(
            "UPDATE addresses SET sources = sources || ? WHERE address = ? AND instr(sources || ' ', ? || ' ') = 0",
            ((mark, one, mark) for one in addresses),
        )

    def next(self) -> Target | None:
        """The next address to be asked, those met first at first; None where all have been handed out."""
        if not self._waiting:
            rows = self._base.execute(
                "SELECT number, address, depth, chain, etag, changed, fetched FROM addresses WHERE state = ? AND number > ? ORDER BY number LIMIT ?",
                (TODO, self._last, HELD),
            ).fetchall()
            self._waiting.extend(Target(*row) for row in rows)
            if rows:
                self._last = rows[-1][0]
        return self._waiting.popleft() if self._waiting else None

    def answer(self, target: Target, day: str, status: int | None, reason: str, record: bytes, links: bytes, etag: str, changed: str,
               found: Iterable[tuple[str, int | None, int]]) -> None:  # fmt: skip
        """Keep an answer and the addresses that it names, both or neither."""
        self._base.execute("BEGIN")
        try:
            self._base.execute(
                "UPDATE addresses SET state = ?, round = ?, fetched = ?, status = ?, reason = ?, record = ?, links = ?, etag = ?, changed = ? "
                "WHERE number = ?",
                (DONE, self.round, day, status, reason, record, links, etag, changed, target.number),
            )
            self.add(found, "link")
            self._base.execute("COMMIT")
        except BaseException:
            self._base.execute("ROLLBACK")
            raise

    def unchanged(self, target: Target, found: Iterable[tuple[str, int | None, int]], day: str | None = None) -> None:
        """Keep what is known of an address that has not changed since it was asked last."""
        self._base.execute("BEGIN")
        self._base.execute(
            "UPDATE addresses SET state = ?, round = ?, fetched = coalesce(?, fetched) WHERE number = ?",
            (DONE, self.round, day, target.number),
        )
        self.add(found, "link")
        self._base.execute("COMMIT")

    def cut(self, target: Target, reason: str) -> None:
        """Leave an address unasked, with the reason."""
        self._base.execute(
            "UPDATE addresses SET state = ?, round = ?, reason = ?, status = NULL, record = NULL, links = NULL WHERE number = ?",
            (CUT, self.round, reason, target.number),
        )

    def kept(self, target: Target) -> tuple[bytes, bytes]:
        """The record and the links of an address as it was answered last."""
        row = self._base.execute("SELECT record, links FROM addresses WHERE number = ?", (target.number,)).fetchone()
        return row[0] or b"", row[1] or b""

    def counts(self) -> Counter[int]:
        """How many addresses are in each state."""
        return Counter(dict(self._base.execute("SELECT state, count(*) FROM addresses GROUP BY state").fetchall()))

    def reasons(self) -> list[tuple[str, int]]:
        """Why addresses were left or failed, and how many; most first."""
        return self._base.execute(
            "SELECT reason, count(*) FROM addresses WHERE reason IS NOT NULL AND reason != '' GROUP BY reason ORDER BY 2 DESC, 1"
        ).fetchall()

    def rows(self) -> Iterator[tuple[str, int | None, str, int, int | None, str, bytes | None, bytes | None]]:
        """address, depth, sources, state, status, reason, record, links of every address that was asked or left, by address."""
        yield from self._base.execute(
            "SELECT address, depth, sources, state, status, reason, record, links FROM addresses WHERE state != ? ORDER BY address", (TODO,)
        )

    def close(self) -> None:
        """Give the file back."""
        self._base.close()
