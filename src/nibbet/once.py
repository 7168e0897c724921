"""Properties computed when first asked for, once even where two threads ask, and steps worked out ahead on another core."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from functools import wraps
from typing import Any, Generic, TypeVar, overload

Value = TypeVar("Value")
Owner = TypeVar("Owner")
#: what the threads that work ahead are called
AHEAD = "nibbet-ahead"


class once(Generic[Value]):  # noqa: N801 - read as a word before a property
    """A property that is computed when first asked for; a thread that asks while another computes it waits for it."""

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
            return method(self, *given, **named)

    return run


@contextmanager
def ahead(of: object, *names: str) -> Iterator[None]:
    """Ask for these properties in another thread while the block runs; what fails there is raised at its end.

    When the block fails or is interrupted, `of.interrupt()` is called where there is such a method, so that nobody waits for what is not wanted.
    """
    with ThreadPoolExecutor(1, AHEAD) as pool:
        done = pool.submit(lambda: [getattr(of, name) for name in names])
        try:
            yield
            done.result()
        except BaseException:
            getattr(of, "interrupt", bool)()
            raise


def by_one_thread(say: Callable[[str], None]) -> Callable[[str], None]:
    """`say` for the thread whose steps are told; what is worked out ahead is told when it is waited for."""

    def told(step: str) -> None:
        if not threading.current_thread().name.startswith(AHEAD):
            say(step)

    return told
