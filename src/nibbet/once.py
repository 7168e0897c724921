"""Properties computed on first use, once even if two threads ask, and steps computed in advance on another core."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from functools import wraps
from typing import Any, Generic, TypeVar, overload

Value = TypeVar("Value")
Owner = TypeVar("Owner")


class once(Generic[Value]):  # noqa: N801 - read as a word before a property
    """A property computed on first use; a thread that needs it while another computes it waits."""

    def __init__(self, make: Callable[[Any], Value]) -> None:
        self._make, self.__doc__ = make, make.__doc__

    def __set_name__(self, owner: type, name: str) -> None:
        self._name = name

    @overload
    def __get__(self, of: None, owner: type) -> once[Value]: ...
    @overload
    def __get__(self, of: object, owner: type) -> Value: ...
    def __get__(self, of: object | None, owner: type) -> Any:
        if of is None:
            return self
        _stop_if_unneeded()
        known = vars(of)
        with known.setdefault(f"lock of {self._name}", threading.RLock()):
            if self._name not in known:
                known[self._name] = self._make(of)
        return known[self._name]


def in_turn(method: Callable[..., Value]) -> Callable[..., Value]:
    """A method that one thread at a time runs: its object has a lock named `turn`."""

    @wraps(method)
    def run(self: Any, *given: Any, **named: Any) -> Value:
        with self.turn:
            _stop_if_unneeded()
            return method(self, *given, **named)

    return run


@contextmanager
def ahead(*steps: Callable[[], object], interrupt: Callable[[], object] = bool) -> Iterator[None]:
    """Computes these steps in another thread while the block runs; re-raises their errors on exit.

    When the block fails or is interrupted, the thread ends before its next step, and `interrupt` is called for the step under
    way.
    """
    if threads() == 1:  # no parallel work
        yield
        for step in steps:
            step()
        return
    stopped = threading.Event()

    def work() -> None:
        _THREAD.stopped = stopped
        for step in steps:
            step()

    with ThreadPoolExecutor(1) as pool:
        done = pool.submit(work)
        try:
            yield
            done.result()
        except BaseException:
            stopped.set()
            interrupt()
            raise


_THREAD = threading.local()
_LIMIT: list[int] = []


def limit_threads(number: int | None) -> None:
    """Sets the number of threads of this process; all processors for None."""
    _LIMIT[:] = [number] if number else []


def threads() -> int:
    """Number of threads that may compute at once."""
    return _LIMIT[0] if _LIMIT else os.cpu_count() or 1


def workers() -> ThreadPoolExecutor:
    """Threads for work outside the interpreter lock, as many as may compute."""
    return ThreadPoolExecutor(threads())


def _stop_if_unneeded() -> None:
    """Ends the work of a background thread once its results are no longer needed."""
    stopped = getattr(_THREAD, "stopped", None)
    if stopped is not None and stopped.is_set():
        raise KeyboardInterrupt


def by_main_thread(say: Callable[[str], None]) -> Callable[[str], None]:
    """`say` for the main thread; background steps do not report progress."""

    def on_main_thread(step: str) -> None:
        if getattr(_THREAD, "stopped", None) is None:
            say(step)

    return on_main_thread
