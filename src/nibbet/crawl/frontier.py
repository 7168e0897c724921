"""What a crawl knows: every address met, what is still to be asked, what was answered. Whole at any moment, however the process ends."""

from __future__ import annotations

import sqlite3
from collections import Counter, deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

import xxhash

from nibbet.errors import SourceError

#: addresses that are held in memory, of those still to be asked; addresses that are taken up at once
HELD, PORTION = 5_000, 50_000
#: states of an address
TODO, DONE, CUT = 0, 1, 2
#: number of the layout, to be raised with every change of it
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
            if self._base.execute("PRAGMA user_version").fetchone()[0] != VERSION:  # of another version of Nibbet: begin anew
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
        """Begin anew, or go on where something is left to ask. What another home left is forgotten."""
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
        """Those addresses that are not known yet, each once."""
        known = self._known
        return [one for one in dict.fromkeys(addresses) if key_of(one) not in known]

    def add(self, targets: Iterable[tuple[str, int | None, int]]) -> None:
        """Take up addresses (address, depth, chain) that are not known yet."""
        fresh = []
        for address, depth, chain in targets:
            key = key_of(address)
            if key not in self._known:
                self._known.add(key)
                fresh.append((address, depth, chain, TODO))
        if fresh:
            self._base.executemany("INSERT OR IGNORE INTO addresses (address, depth, chain, named, state) VALUES (?, ?, ?, 0, ?)", fresh)

    def name(self, addresses: Iterable[str]) -> None:
        """Take up addresses that others than links name: the user, a sitemap, the sources of the workspace."""
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
               targets: Iterable[tuple[str, int | None, int]]) -> None:  # fmt: skip
        """Keep an answer and the addresses that it names, both or neither."""
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
        """Keep what is known of an address; day: when it was asked, None where it was not."""
        self._base.execute("UPDATE addresses SET state = ?, fetched = coalesce(?, fetched) WHERE number = ?", (DONE, day, target.number))

    def cut(self, target: Target, reason: str) -> None:
        """Leave an address unasked, with the reason; what was known of it is forgotten."""
        self._base.execute(
            "UPDATE addresses SET state = ?, reason = ?, fetched = NULL, status = NULL, record = NULL, links = NULL, etag = NULL, changed = NULL "
            "WHERE number = ?",
            (CUT, reason, target.number),
        )

    def ask_again(self, targets: Iterable[Target]) -> None:
        """Put addresses back among those to be asked."""
        self._base.executemany("UPDATE addresses SET state = ? WHERE number = ?", ((TODO, one.number) for one in targets))

    # -- other hosts -----------------------------------------------------------------------------------------------------------------------

    def checked(self, address: str, day: str, status: int | None, moved: str, reason: str) -> None:
        """Keep what an address of another host answered."""
        self._base.execute("INSERT OR REPLACE INTO outside VALUES (?, ?, ?, ?, ?)", (address, day, status, moved, reason))

    def outside(self, since: str = "") -> dict[str, tuple[int | None, str, str]]:
        """(status, where it leads, reason) of the addresses of other hosts that were asked on a day or later."""
        rows = self._base.execute("SELECT address, status, moved, reason FROM outside WHERE fetched >= ?", (since,))
        return {address: (status, moved, reason) for address, status, moved, reason in rows}

    def forget_outside(self, day: str) -> None:
        """Forget what addresses of other hosts answered since a day."""
        self._base.execute("DELETE FROM outside WHERE fetched >= ?", (day,))

    # -- what there is ---------------------------------------------------------------------------------------------------------------------

    def answered_versions(self) -> list[str]:
        """The addresses with parameters that were answered in this round."""
        return [one for (one,) in self._base.execute("SELECT address FROM addresses WHERE state = ? AND instr(address, '?')", (DONE,))]

    def counts(self) -> Counter[int]:
        """How many addresses are in each state."""
        return Counter(dict(self._base.execute("SELECT state, count(*) FROM addresses GROUP BY state").fetchall()))

    def reasons(self) -> list[tuple[str, int]]:
        """Why addresses were left or failed, and how many; most first."""
        return self._base.execute(
            "SELECT reason, count(*) FROM addresses WHERE reason IS NOT NULL AND reason != '' GROUP BY reason ORDER BY 2 DESC, 1"
        ).fetchall()

    def rows(self) -> Iterator[tuple[str, bool, int, int | None, str, bytes | None, bytes | None]]:
        """address, named, state, status, reason, record, links of every address that was asked or left, by address."""
        yield from self._base.execute(
            "SELECT address, named, state, status, reason, record, links FROM addresses WHERE state != ? ORDER BY address", (TODO,)
        )

    def answers(self) -> Iterator[tuple[str, int | None, str]]:
        """address, status, reason of the same addresses in the same order."""
        yield from self._base.execute("SELECT address, status, reason FROM addresses WHERE state != ? ORDER BY address", (TODO,))

    def close(self) -> None:
        """Give the file back."""
        self._base.close()
