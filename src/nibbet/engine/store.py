"""Tables kept between commands: each lies whole in a file of its own, named by the digest of all that decides it.

A file is written beside its place and moved there, so that it is whole or absent whatever happens; equal inputs, settings and
program find it again; whatever differs makes another. So nothing in the store is ever changed, and nothing in it can be out of date.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
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

    from nibbet.engine.engine import Engine

#: seconds for which a table that no longer serves is kept: another process may still read it, and settings are often turned back
UNUSED_SECONDS = 86_400
Make = Callable[[], Any]


def key_of(*parts: object) -> str:
    """One digest of several things by the way they are written."""
    return xxhash.xxh3_128_hexdigest("\x1f".join(map(repr, parts)).encode("utf-8", "surrogateescape"))


@cache
def program() -> str:
    """The digest of this program: what another version computed is not taken for its own."""
    from importlib.metadata import version

    root = Path(__file__).parent.parent
    code = [path.read_bytes() for path in sorted(root.rglob("*")) if path.suffix in (".py", ".j2")]
    return key_of([xxhash.xxh3_64_hexdigest(text) for text in code], version("duckdb"), version("pandas"))


class Store:
    """The folder of kept tables and its manifest of the files they were made from."""

    def __init__(self, folder: Path | None, say: Callable[[str], None] = lambda _: None) -> None:
        """The store in `folder`; without one, or where it cannot be written, in a folder that goes when it is closed."""
        self._say, self._lasts = say, folder is not None
        if folder is not None:
            try:
                folder.mkdir(exist_ok=True)
                with tempfile.TemporaryFile(dir=folder):
                    pass
            except OSError as fault:
                say(f"nothing is kept for the next command, {folder} cannot be written ({fault.strerror or fault})")
                self._lasts = False
        self.folder = folder if self._lasts and folder is not None else Path(tempfile.mkdtemp(prefix="nibbet-"))
        self._inputs: dict[str, list[Any]] = self._manifest()
        self.changed = False
        self._lock: Any = None
        self._depth, self._counting = 0, threading.Lock()

    # -- what was read -------------------------------------------------------------------------------------------------------------------

    def _manifest(self) -> dict[str, list[Any]]:
        try:
            told = json.loads((self.folder / "manifest.json").read_text("utf-8"))
            return dict(told["inputs"]) if told["program"] == program() else {}
        except (OSError, ValueError, KeyError, TypeError):
            return {}

    def digest(self, path: Path) -> str:
        """The digest of an input file, read again only when its size, times or place on the disk differ from those in the manifest."""
        from nibbet.engine.digest import digest_of

        try:
            found = path.stat()
            with path.open("rb"):
                pass
        except OSError as fault:
            raise SourceError(f"{path}: cannot be read ({fault.strerror or fault}). Give yourself the right to read it.") from None
        seen = [found.st_size, found.st_mtime_ns, found.st_ctime_ns, found.st_ino]
        known = self._inputs.get(str(path.absolute()))
        if known is not None and known[:-1] == seen:
            return str(known[-1])
        self._inputs[str(path.absolute())] = [*seen, digest := digest_of(path)]
        self.changed = True
        return digest

    # -- what is kept --------------------------------------------------------------------------------------------------------------------

    def has(self, name: str, key: str, suffix: str = ".parquet") -> bool:
        """Whether it is there."""
        return self.path(name, key, suffix).exists()

    def path(self, name: str, key: str, suffix: str = ".parquet") -> Path:
        """Where the file of that name and key lies."""
        return self.folder / f"{name}-{key}{suffix}"

    def table(self, engine: Engine, name: str, key: str, make: Callable[[], ibis.Table]) -> ibis.Table:
        """A kept table of the engine; computed and written when it is not there."""
        path = self._made(name, key, ".parquet", lambda target: engine.write(make(), target))
        return engine.parquet([path])

    def frame(self, name: str, key: str, make: Callable[[], pd.DataFrame]) -> pd.DataFrame:
        """A kept frame, always as it is when read back."""
        return read_frame(self._made(name, key, ".parquet", lambda target: write_frame(make(), target)))

    def fetched(self, engine: Engine, name: str, key: str, make: Callable[[], ibis.Table]) -> pd.DataFrame:
        """The rows of a kept table of the engine as a frame."""
        return read_frame(self._made(name, key, ".parquet", lambda target: engine.write(make(), target)))

    def value(self, name: str, key: str, make: Make) -> Any:
        """A kept value that JSON can write."""
        path = self._made(name, key, ".json", lambda target: target.write_text(json.dumps(make(), ensure_ascii=False), "utf-8"))
        return json.loads(path.read_text("utf-8"))

    def forget(self, name: str, key: str) -> None:
        """Take a kept table away."""
        self.path(name, key).unlink(missing_ok=True)

    def _made(self, name: str, key: str, suffix: str, write: Callable[[Path], Any]) -> Path:
        path = self.path(name, key, suffix)
        if path.exists():
            with contextlib.suppress(OSError):
                os.utime(path)
            return path
        with self.held():
            if path.exists():  # another process has made it while we waited
                return path
            partial = self.folder / f"partial-{os.getpid()}-{threading.get_ident()}-{path.name}"
            try:
                write(partial)
                os.replace(partial, path)
            except OSError as fault:
                raise SourceError(
                    f"{self.folder}: writing failed ({fault.strerror or fault}); what was kept before is whole. Free space there."
                ) from None
            finally:
                partial.unlink(missing_ok=True)
        return path

    # -- one at a time -------------------------------------------------------------------------------------------------------------------

    @contextlib.contextmanager
    def held(self) -> Iterator[None]:
        """The store to itself: another process that computes in this folder is waited for, and named."""
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
            self._lock = filelock.FileLock(self.folder / "lock", thread_local=False)  # threads of one run hold it together
        try:
            self._lock.acquire(timeout=0)
        except filelock.Timeout:
            with contextlib.suppress(OSError):
                self._say(f"waiting for {self._holder.read_text('utf-8')}, which works in this folder")
            self._lock.acquire()
        self._holder.write_text(f"process {os.getpid()}", "utf-8")

    def save(self) -> None:
        """Write the manifest, and take away what has not served for a day or was left half-written."""
        if not self._lasts:
            return
        with self.held():
            partial = self.folder / f"partial-{os.getpid()}-manifest.json"
            there = {name: seen for name, seen in self._inputs.items() if Path(name).exists()}
            partial.write_text(json.dumps({"program": program(), "inputs": there}, indent=1), "utf-8")
            os.replace(partial, self.folder / "manifest.json")
            for path in self.folder.iterdir():
                with contextlib.suppress(OSError):
                    old = time.time() - path.stat().st_mtime > UNUSED_SECONDS and path.suffix in (".parquet", ".json")
                    if path.name.startswith("partial-") or (old and path.name != "manifest.json"):
                        path.unlink()

    def clear(self) -> None:
        """Forget everything."""
        with self.held():
            self._inputs = {}
            for path in self.folder.iterdir():
                if path.suffix in (".parquet", ".json"):
                    path.unlink()

    def close(self) -> None:
        """Give a passing folder back."""
        if not self._lasts:
            shutil.rmtree(self.folder, ignore_errors=True)


def write_frame(frame: pd.DataFrame, path: Path) -> None:
    """A frame as Parquet with its index and types."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    pq.write_table(pa.Table.from_pandas(frame), path, compression="lz4")


def read_frame(path: Path) -> pd.DataFrame:
    """A frame from Parquet."""
    import pyarrow.parquet as pq

    return pq.read_table(path).to_pandas(
        split_blocks=True, self_destruct=True
    )  # each column by itself, so that one is dropped or taken alone
