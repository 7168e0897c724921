"""Temporary folders of a process, deleted with it or, if it was killed, by the next one."""

from __future__ import annotations

import contextlib
import shutil
import tempfile
import time
from pathlib import Path

import filelock

#: seconds after which a folder without a lock is abandoned, not just being created
UNLOCKED_SECONDS = 60
LOCK = "in-use"


class Passing:
    """A new folder, locked while its process lives; abandoned ones beside it are deleted."""

    def __init__(self, parent: Path | None = None, prefix: str = "nibbet-") -> None:
        """Raises OSError where the parent is not writable."""
        parent = parent if parent is not None else Path(tempfile.gettempdir())
        sweep(parent, prefix)
        self.path = Path(tempfile.mkdtemp(prefix=prefix, dir=parent))
        self._lock = filelock.FileLock(self.path / LOCK, thread_local=False)
        self._lock.acquire(timeout=0)
        _HELD.add(self)

    def close(self) -> None:
        """Deletes the folder."""
        _HELD.discard(self)
        self._lock.release()
        shutil.rmtree(self.path, ignore_errors=True)


_HELD: set[Passing] = set()


def close_all() -> None:
    """Deletes all folders of this process, at its end."""
    for one in list(_HELD):
        with contextlib.suppress(OSError):
            one.close()


def sweep(parent: Path, prefix: str) -> None:
    """Deletes the folders of dead processes: their locks are free."""
    for left in parent.glob(f"{prefix}*"):
        with contextlib.suppress(OSError, filelock.Timeout):
            if not left.is_dir() or left.is_symlink():
                continue
            if not (left / LOCK).exists():
                gone = time.time() - left.stat().st_mtime > UNLOCKED_SECONDS and not any(left.iterdir())
            else:
                with filelock.FileLock(left / LOCK, timeout=0):
                    gone = True
            if gone:
                shutil.rmtree(left, ignore_errors=True)
