"""The cache of tables between commands: each is a complete file, named by the digest of all that determines it.

A file is written under a temporary name, synchronised to disk and renamed, so it is complete or absent whatever happens. Equal inputs,
settings and program find it again; any difference makes another. Nothing in the store is ever modified, and nothing can be out
of date. The digest of the content is recorded: a file damaged by a disk fault is rebuilt.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

import xxhash

from nibbet.errors import SourceError

if TYPE_CHECKING:
    import ibis
    import pandas as pd

    from nibbet.engine import AnyEngine
    from nibbet.passing import Passing

#: seconds for which an unused table is kept: another process may still read it, and settings are often restored
UNUSED_SECONDS = 86_400
Make = Callable[[], Any]


def key_of(*parts: object) -> str:
    """One digest of several values by their representation."""
    return xxhash.xxh3_128_hexdigest("\x1f".join(map(repr, parts)).encode("utf-8", "surrogateescape"))


@cache
def program() -> str:
    """The digest of this program, so that results of another version are not reused."""
    root = Path(__file__).parent.parent
    code = [path.read_bytes() for path in sorted(root.rglob("*")) if path.suffix in (".py", ".j2")]
    return key_of([xxhash.xxh3_64_hexdigest(text) for text in code], libraries())


def libraries() -> list[tuple[str, str]]:
    """Name and version of Python and of every library that this program uses."""
    from importlib.metadata import PackageNotFoundError, distribution, requires

    result = [("python", f"{sys.version_info.major}.{sys.version_info.minor}")]
    for need in requires("nibbet") or []:
        if 'extra == "dev"' in need:
            continue
        name = re.split(r"[^\w.-]", need, maxsplit=1)[0]
        with contextlib.suppress(PackageNotFoundError):
            # parsing all metadata is slow
            version = re.search(r"^Version: (.+)$", distribution(name).read_text("METADATA") or "", re.MULTILINE)
            result.append((name, version[1] if version else ""))
    return sorted(set(result))


class Store:
    """The folder of cached tables and its manifest of input files."""

    def __init__(self, folder: Path | None, say: Callable[[str], None] = lambda _: None) -> None:
        """The store in `folder`; without one, or if it is not writable, in a temporary folder that is deleted on close."""
        self._say, self._lasts = say, folder is not None
        if folder is not None:
            try:
                folder.mkdir(exist_ok=True)
                with tempfile.TemporaryFile(dir=folder):
                    pass
            except OSError as fault:
                say(f"nothing is kept for the next command, {folder} cannot be written ({fault.strerror or fault})")
                self._lasts = False
        self._own = folder
        self._passing: Passing | None = None
        self._inputs: dict[str, list[Any]] = self._manifest() if self._lasts else {}
        self.changed = False
        self._sound: dict[Path, tuple[int, int]] = {}  # size and inode of each verified file
        self._recorded: tuple[tuple[int, ...], dict[str, str]] = ((), {})  # the state of the journal, and what it says
        self._lock: Any = None
        self._depth, self._counting = 0, threading.Lock()

    @property
    def folder(self) -> Path:
        """Its location; a temporary folder is created on first use."""
        if self._lasts and self._own is not None:
            return self._own
        if self._passing is None:
            from nibbet.passing import Passing

            self._passing = Passing()
        return self._passing.path

    # -- what was read -------------------------------------------------------------------------------------------------------------------

    def _manifest(self) -> dict[str, list[Any]]:
        try:
            manifest = json.loads((self.folder / "manifest.json").read_text("utf-8"))
            return dict(manifest["inputs"]) if manifest["program"] == program() else {}
        except (OSError, ValueError, KeyError, TypeError):
            return {}

    def digest(self, path: Path) -> str:
        """The digest of an input file, computed again only if its size, times or inode differ from the manifest."""
        from nibbet.engine.digest import digest_of

        try:
            result = path.stat()
            with path.open("rb"):
                pass
        except OSError as fault:
            raise SourceError(f"{path}: cannot be read ({fault.strerror or fault}). Give yourself the right to read it.") from None
        seen = [result.st_size, result.st_mtime_ns, result.st_ctime_ns, result.st_ino]
        known = self._inputs.get(str(path.absolute()))
        if known is not None and known[:-1] == seen:
            return str(known[-1])
        self._inputs[str(path.absolute())] = [*seen, digest := digest_of(path)]
        self.changed = True
        return digest

    # -- what is kept --------------------------------------------------------------------------------------------------------------------

    def has(self, name: str, key: str, suffix: str = ".parquet") -> bool:
        """Whether the file exists and is intact; a query counts as use."""
        return self._serves(self.path(name, key, suffix))

    def path(self, name: str, key: str, suffix: str = ".parquet") -> Path:
        """The path of the file with that name and key."""
        return self.folder / f"{name}-{key}{suffix}"

    def table(self, engine: AnyEngine, name: str, key: str, make: Callable[[], ibis.Table]) -> ibis.Table:
        """A cached table of the engine; computed and written if it is not there."""
        path = self._made(name, key, ".parquet", lambda target: engine.write(make(), target))
        return engine.parquet([path])

    def frame(self, name: str, key: str, make: Callable[[], pd.DataFrame]) -> pd.DataFrame:
        """A cached frame, always as read back from its file."""
        return read_frame(self._made(name, key, ".parquet", lambda target: write_frame(make(), target)))

    def fetched(self, engine: AnyEngine, name: str, key: str, make: Callable[[], ibis.Table]) -> pd.DataFrame:
        """The rows of a cached table of the engine as a frame."""
        return read_frame(self._made(name, key, ".parquet", lambda target: engine.write(make(), target)))

    def value(self, name: str, key: str, make: Make) -> Any:
        """A cached value that JSON can represent."""
        path = self._made(name, key, ".json", lambda target: target.write_text(json.dumps(make(), ensure_ascii=False), "utf-8"))
        return json.loads(path.read_text("utf-8"))

    def forget(self, name: str, key: str) -> None:
        """Removes a cached table."""
        self._sound.pop(path := self.path(name, key), None)
        path.unlink(missing_ok=True)

    def _made(self, name: str, key: str, suffix: str, write: Callable[[Path], Any]) -> Path:
        path = self.path(name, key, suffix)
        if self._serves(path):
            return path
        with self.locked():
            if self._serves(path):  # another process has made it while this one waited
                return path
            partial = self.folder / f"partial-{os.getpid()}-{threading.get_ident()}-{path.name}"
            try:
                write(partial)
                self._note(path.name, partial)
                os.replace(partial, path)
                seen = path.stat()
                self._sound[path] = (seen.st_size, seen.st_ino)
            except OSError as fault:
                raise SourceError(
                    f"{self.folder}: writing failed ({fault.strerror or fault}); what was kept before is whole. Free space there."
                ) from None
            finally:
                partial.unlink(missing_ok=True)
        return path

    def _serves(self, path: Path) -> bool:
        """Whether a cached file exists as it was written; marks it as used. Its bytes are verified once."""
        from nibbet.engine.digest import digest_of

        try:
            seen = path.stat()
            if self._sound.get(path) != (seen.st_size, seen.st_ino):
                if digest_of(path) != self._digests().get(path.name):
                    return False
                self._sound[path] = (seen.st_size, seen.st_ino)
            os.utime(path)
        except OSError:
            return path in self._sound and path.exists()
        return True

    @property
    def _journal(self) -> Path:
        return self.folder / "digests"

    def _digests(self) -> dict[str, str]:
        """The recorded digest of each file, by its name; read again where the journal has changed."""
        try:
            seen = self._journal.stat()
            state = (seen.st_size, seen.st_mtime_ns, seen.st_ino)
            if self._recorded[0] != state:
                lines = self._journal.read_text("utf-8", errors="replace").splitlines()
                self._recorded = (state, {name: digest for digest, dot, name in (line.partition(" ") for line in lines) if dot})
        except OSError:
            return {}
        return self._recorded[1]

    def _note(self, name: str, partial: Path) -> None:
        """Synchronises a written file to disk, and records its digest under its final name."""
        from nibbet.engine.digest import digest_of

        if self._lasts:
            _to_disk(partial)
        with self._journal.open("a", encoding="utf-8") as journal:
            journal.write(f"{digest_of(partial)} {name}\n")

    # -- one at a time -------------------------------------------------------------------------------------------------------------------

    @contextlib.contextmanager
    def locked(self) -> Iterator[None]:
        """Exclusive access to the store; waits for another process that computes in this folder, and names it."""
        if not self._lasts:
            yield
            return
        with self._counting:
            if not self._depth:
                self._acquire()
            self._depth += 1
        try:
            yield
        finally:
            with self._counting:
                self._depth -= 1
                if not self._depth:
                    self._holder.unlink(missing_ok=True)
                    self._lock.release()

    @property
    def _holder(self) -> Path:
        return self.folder / "holder"

    def _acquire(self) -> None:
        import filelock

        if self._lock is None:
            self._lock = filelock.FileLock(self.folder / "lock", thread_local=False)  # threads of one run share it
        try:
            self._lock.acquire(timeout=0)
        except filelock.Timeout:
            with contextlib.suppress(OSError):
                self._say(f"waiting for {self._holder.read_text('utf-8')}, which works in this folder")
            self._lock.acquire()
        self._holder.write_text(f"process {os.getpid()}", "utf-8")

    def save(self) -> None:
        """Writes the manifest, and removes files that were not used for a day or are incomplete."""
        if not self._lasts:
            return
        with self.locked():
            there = {name: seen for name, seen in self._inputs.items() if Path(name).exists()}
            self._replace("manifest.json", json.dumps({"program": program(), "inputs": there}, indent=1))
            for path in self._sound:
                with contextlib.suppress(OSError):
                    os.utime(path)
            served = self._others_at_work()
            for path in self.folder.iterdir():
                with contextlib.suppress(OSError):
                    old = time.time() - path.stat().st_mtime > UNUSED_SECONDS and path.suffix in (".parquet", ".json")
                    if path.name.startswith("partial-") or (old and not served and path.name != "manifest.json"):
                        path.unlink()
            digests = self._digests()
            left = [f"{digest} {name}\n" for name, digest in digests.items() if (self.folder / name).exists()]
            self._replace("digests", "".join(left))

    def _replace(self, name: str, text: str) -> None:
        partial = self.folder / f"partial-{os.getpid()}-{name}"
        partial.write_text(text, "utf-8")
        _to_disk(partial)
        os.replace(partial, self.folder / name)

    def at_work(self) -> None:
        """Announces that this process reads cached tables until it closes the store; none is removed meanwhile."""
        if self._lasts:
            (self.folder / f"reader-{os.getpid()}").touch()

    def _others_at_work(self) -> bool:
        """Whether another living process reads cached tables; removes the marks of dead ones."""
        living = False
        for mark in self.folder.glob("reader-*"):
            process = mark.name.partition("-")[2]
            if process == str(os.getpid()):
                continue
            if _is_alive(process):
                living = True
            else:
                mark.unlink(missing_ok=True)
        return living

    def clear(self) -> None:
        """Invalidates everything: all is computed again and replaces existing files, which others may read until then."""
        with self.locked():
            self._inputs = {}
            self._sound.clear()
            self._replace("digests", "")

    def close(self) -> None:
        """Deletes a temporary folder; later results are computed again."""
        if self._lasts:
            (self.folder / f"reader-{os.getpid()}").unlink(missing_ok=True)
        if self._passing is not None:
            self._passing.close()
            self._passing = None
            self._sound.clear()


def _is_alive(process: str) -> bool:
    """Whether a process with this number runs."""
    try:
        os.kill(int(process), 0)
    except (ProcessLookupError, ValueError, OverflowError):
        return False
    except PermissionError:
        return True
    return True


def _to_disk(path: Path) -> None:
    """Waits until the bytes of a file are on the disk."""
    with path.open("rb+") as file:
        os.fsync(file.fileno())


def write_frame(frame: pd.DataFrame, path: Path) -> None:
    """A frame as Parquet with its index and types."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    pq.write_table(pa.Table.from_pandas(frame), path, compression="lz4")


def read_frame(path: Path) -> pd.DataFrame:
    """A frame from Parquet."""
    import pyarrow.parquet as pq

    result: pd.DataFrame = pq.read_table(path).to_pandas(split_blocks=True, self_destruct=True)  # each column can be dropped or used alone
    return result
