"""The state of a crawl: all known addresses, those still to request, and the answers. Complete after every answer, however the process
ends.
"""

from __future__ import annotations

import sqlite3
from collections import Counter, deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

import xxhash

from nibbet.errors import SourceError

#: pending addresses held in memory; addresses added at once
HELD, PORTION = 5_000, 50_000
#: states of an address
TODO, DONE, CUT = 0, 1, 2
#: version of the layout, increased with every change of it
VERSION = 2
LAYOUT = """
CREATE TABLE IF NOT EXISTS facts (name TEXT PRIMARY KEY, value TEXT) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS addresses (
  number INTEGER PRIMARY KEY, address TEXT UNIQUE NOT NULL, depth INTEGER, chain INTEGER NOT NULL, named INTEGER NOT NULL, state INTEGER NOT NULL,
  fetched TEXT, status INTEGER, reason TEXT, etag TEXT, changed TEXT, record BLOB, links BLOB
);
CREATE INDEX IF NOT EXISTS by_state ON addresses (state, number);
CREATE TABLE IF NOT EXISTS outside (address TEXT PRIMARY KEY, fetched TEXT, status INTEGER, moved TEXT, reason TEXT) WITHOUT ROWID;
"""


@dataclass(frozen=True)
class Target:
    """An address to request: depth, links from the home page (None if no link leads to it); chain: number of consecutive addresses of its form
    that led to it; etag, changed: of the last version; fetched: its day.
    """

    number: int
    address: str
    depth: int | None
    chain: int
    etag: str | None
    changed: str | None
    fetched: str | None


def key_of(address: str) -> int:
    """A number that identifies an address."""
    return xxhash.xxh3_64_intdigest(address.encode("utf-8", "replace"))


class Frontier:
    """The addresses of a crawl in a file that is complete after each answer.

    Raises SourceError where the file is not writable or not one of Nibbet's.
    """

    def __init__(self, path: Path) -> None:
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._base = sqlite3.connect(path, isolation_level=None, check_same_thread=False)  # used by one thread at a time
            self._base.execute("PRAGMA journal_mode = WAL")
            self._base.execute("PRAGMA synchronous = NORMAL")
            if self._base.execute("PRAGMA user_version").fetchone()[0] != VERSION:  # from another version of Nibbet: start again
                self._base.executescript(f"DROP TABLE IF EXISTS facts; DROP TABLE IF EXISTS addresses; PRAGMA user_version = {VERSION};")
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

    def begin(self, home: str) -> None:
        """Starts a new round, or continues if addresses are pending. The state of another home page is deleted."""
        if self._fact("home") != home:
            self._base.executescript("DELETE FROM addresses; DELETE FROM facts; DELETE FROM outside;")
            self._known.clear()
            self._base.execute("INSERT INTO facts VALUES ('home', ?)", (home,))
        if not self.counts()[TODO]:
            self._base.execute("UPDATE addresses SET state = ?, named = 0", (TODO,))
        self._last, self._waiting = 0, deque()

    def _fact(self, name: str) -> str | None:
        row = self._base.execute("SELECT value FROM facts WHERE name = ?", (name,)).fetchone()
        return row[0] if row else None

    # -- addresses -------------------------------------------------------------------------------------------------------------------------

    def unknown(self, addresses: Iterable[str]) -> list[str]:
        """The addresses that are not known yet, without duplicates."""
        known = self._known
        return [one for one in dict.fromkeys(addresses) if key_of(one) not in known]

    def add(self, targets: Iterable[tuple[str, int | None, int]]) -> None:
        """Adds unknown addresses (address, depth, chain)."""
        fresh = []
        for address, depth, chain in targets:
            key = key_of(address)
            if key not in self._known:
                self._known.add(key)
                fresh.append((address, depth, chain, TODO))
        if fresh:
            self._base.executemany("INSERT OR IGNORE INTO addresses (address, depth, chain, named, state) VALUES (?, ?, ?, 0, ?)", fresh)

    def name(self, addresses: Iterable[str]) -> None:
        """Adds addresses given by sources other than links: the user, a sitemap, the sources of the workspace."""
        rest = iter(addresses)
        while portion := list(islice(rest, PORTION)):
            self._base.execute("BEGIN")
            try:
                self.add((one, None, 0) for one in portion)
                self._base.executemany("UPDATE addresses SET named = 1 WHERE address = ?", ((one,) for one in portion))
                self._base.execute("COMMIT")
            except BaseException:
                self._base.execute("ROLLBACK")
                raise

    def next(self) -> Target | None:
        """The next address to request, the oldest first; None when all have been handed out."""
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
               targets: Iterable[tuple[str, int | None, int]]) -> None:  # fmt: skip
        """Stores an answer and the addresses in it, in one transaction."""
        self._base.execute("BEGIN")
        try:
            self._base.execute(
                "UPDATE addresses SET state = ?, fetched = ?, status = ?, reason = ?, record = ?, links = ?, etag = ?, changed = ? WHERE number = ?",
                (DONE, day, status, reason, record, links, etag, changed, target.number),
            )
            self.add(targets)
            self._base.execute("COMMIT")
        except BaseException:
            self._base.execute("ROLLBACK")
            raise

    def unchanged(self, target: Target, day: str | None) -> None:
        """Keeps the stored data of an address; day: of the request, None without one."""
        self._base.execute("UPDATE addresses SET state = ?, fetched = coalesce(?, fetched) WHERE number = ?", (DONE, day, target.number))

    def cut(self, target: Target, reason: str) -> None:
        """Skips an address, with the reason; deletes its stored data."""
        self._base.execute(
            "UPDATE addresses SET state = ?, reason = ?, fetched = NULL, status = NULL, record = NULL, links = NULL, etag = NULL, changed = NULL "
            "WHERE number = ?",
            (CUT, reason, target.number),
        )

    def ask_again(self, targets: Iterable[Target]) -> None:
        """Makes addresses pending again."""
        self._base.executemany("UPDATE addresses SET state = ? WHERE number = ?", ((TODO, one.number) for one in targets))

    # -- other hosts -----------------------------------------------------------------------------------------------------------------------

    def checked(self, address: str, day: str, status: int | None, moved: str, reason: str) -> None:
        """Stores the answer of an address of another host."""
        self._base.execute("INSERT OR REPLACE INTO outside VALUES (?, ?, ?, ?, ?)", (address, day, status, moved, reason))

    def outside(self, since: str = "") -> dict[str, tuple[int | None, str, str]]:
        """(status, redirect target, reason) of the addresses of other hosts checked since a day."""
        rows = self._base.execute("SELECT address, status, moved, reason FROM outside WHERE fetched >= ?", (since,))
        return {address: (status, moved, reason) for address, status, moved, reason in rows}

    def forget_outside(self, day: str) -> None:
        """Deletes answers of addresses of other hosts since a day."""
        self._base.execute("DELETE FROM outside WHERE fetched >= ?", (day,))

    # -- what there is ---------------------------------------------------------------------------------------------------------------------

    def answered_versions(self) -> list[str]:
        """The addresses with parameters that were answered in this round."""
        return [one for (one,) in self._base.execute("SELECT address FROM addresses WHERE state = ? AND instr(address, '?')", (DONE,))]

    def counts(self) -> Counter[int]:
        """Number of addresses in each state."""
        return Counter(dict(self._base.execute("SELECT state, count(*) FROM addresses GROUP BY state").fetchall()))

    def reasons(self) -> list[tuple[str, int]]:
        """Reasons why addresses were skipped or failed, with their number, in descending order."""
        return self._base.execute(
            "SELECT reason, count(*) FROM addresses WHERE reason IS NOT NULL AND reason != '' GROUP BY reason ORDER BY 2 DESC, 1"
        ).fetchall()

    def rows(self) -> Iterator[tuple[str, bool, int, int | None, str, bytes | None, bytes | None]]:
        """address, named, state, status, reason, record, links of every requested or skipped address, by address."""
        yield from self._base.execute(
            "SELECT address, named, state, status, reason, record, links FROM addresses WHERE state != ? ORDER BY address", (TODO,)
        )

    def answers(self) -> Iterator[tuple[str, int | None, str]]:
        """address, status, reason of the same addresses in the same order."""
        yield from self._base.execute("SELECT address, status, reason FROM addresses WHERE state != ? ORDER BY address", (TODO,))

    def close(self) -> None:
        """Closes the file."""
        self._base.close()
