"""Steps that are worked out once, and side by side."""

from __future__ import annotations

import concurrent.futures
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import pandas as pd
import pytest

import nibbet
from nibbet.engine.store import Store
from nibbet.errors import is_interrupt
from nibbet.once import ahead, by_main_thread, in_turn, limit_threads, once, threads


class Steps:
    """Steps that rest on each other, and who worked them out."""

    def __init__(self, say: Callable[[str], None] = lambda _: None) -> None:
        self.done: list[str] = []
        self.say, self.turn, self.inside = by_main_thread(say), threading.RLock(), 0

    @once
    def rows(self) -> int:
        """What all rests on."""
        self.say("reading")
        time.sleep(0.05)
        self.done.append("rows")
        return 7

    @once
    def sums(self) -> int:
        return self.rows * 2

    @once
    def names(self) -> str:
        self.say("naming")
        return f"{self.rows} rows"

    @once
    def broken(self) -> int:
        raise ValueError("no sums")

    @in_turn
    def alone(self) -> int:
        self.inside += 1
        time.sleep(0.02)
        seen, self.inside = self.inside, self.inside - 1
        return seen


def test_a_step_that_two_threads_ask_for_is_worked_out_once() -> None:
    steps = Steps()
    with ahead(lambda: steps.sums):
        assert steps.names == "7 rows"
    assert (steps.sums, steps.done) == (14, ["rows"])
    assert Steps().done == [], "each object has its own"
    assert Steps.rows.__doc__ == "What all rests on."


def test_what_fails_ahead_fails_where_it_is_waited_for() -> None:
    steps = Steps()
    with pytest.raises(ValueError, match="no sums"), ahead(lambda: steps.broken):
        assert steps.rows == 7
    with pytest.raises(ValueError, match="no sums"):  # asked again it is tried again, as nothing was kept
        steps.broken  # noqa: B018


def test_what_is_worked_out_ahead_is_stopped_when_its_result_is_no_longer_wanted() -> None:
    class Long(Steps):
        stopped = threading.Event()

        @once
        def sums(self) -> int:
            assert self.stopped.wait(20), "nobody stopped it"
            raise ValueError("stopped")

        def interrupt(self) -> None:
            self.stopped.set()

    steps = Long()
    with pytest.raises(KeyboardInterrupt), ahead(lambda: steps.sums, interrupt=steps.interrupt):
        raise KeyboardInterrupt


def test_work_ahead_ends_before_its_next_step_when_nobody_waits() -> None:
    class Slow(Steps):
        begun, go_on = threading.Event(), threading.Event()

        @once
        def first(self) -> int:
            self.begun.set()
            return int(self.go_on.wait(20))

        @once
        def second(self) -> int:
            raise AssertionError("nobody waits for it")

        def interrupt(self) -> None:
            self.go_on.set()

    steps = Slow()
    with pytest.raises(KeyboardInterrupt), ahead(lambda: steps.first, lambda: steps.second, interrupt=steps.interrupt):
        raise KeyboardInterrupt if steps.begun.wait(20) else AssertionError
    assert "first" in vars(steps)


BUSY = 'hashlib.pbkdf2_hmac("sha256", b"a", b"b", 2_000_000_000)'  # many minutes in which Python is not asked
STUCK = f"""
import hashlib, sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
import nibbet.cli.main as program
from nibbet.passing import Passing

def task(*_, **__):
    kept = Passing()
    print("at work", flush=True)
    if sys.argv[2] == "here":
        {BUSY}
    if sys.argv[2] == "and nothing else runs":
        sum(range(10**12))  # keeps the lock of Python
    with ThreadPoolExecutor(1) as pool:
        pool.submit(lambda: {BUSY})

program.app = task
program.run()
"""


@pytest.mark.parametrize("where", ["here", "on another thread", "and nothing else runs"])
def test_an_interrupt_ends_what_cannot_be_stopped(where: str, tmp_path: Path) -> None:
    command = [sys.executable, "-c", STUCK, str(tmp_path), where]
    with subprocess.Popen(
        command, env={**os.environ, "TMPDIR": str(tmp_path)}, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    ) as process:
        assert process.stdout is not None
        assert process.stdout.readline() == "at work\n"
        time.sleep(0.3)
        process.send_signal(signal.SIGINT)
        said = process.communicate(timeout=20)[1]
    assert process.returncode == (130 if where != "and nothing else runs" else -signal.SIGTERM)
    assert said == "nibbet: interrupted; what was written before is whole.\n"
    assert not list(tmp_path.iterdir()), "its folder goes with it"


def test_only_the_thread_that_is_waited_for_tells_its_steps() -> None:
    said: list[str] = []
    steps = Steps(said.append)
    steps.rows  # noqa: B018
    with ahead(lambda: steps.names):
        pass
    assert said == ["reading"]
    assert steps.names == "7 rows"


def test_methods_in_turn_never_meet() -> None:
    steps, seen = Steps(), []
    threads = [threading.Thread(target=lambda: seen.append(steps.alone())) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert seen == [1, 1, 1, 1]


def test_threads_of_one_run_hold_the_store_together(tmp_path: object) -> None:
    store, held = Store(tmp_path), []  # type: ignore[arg-type]

    def hold() -> None:
        with store.locked():
            held.append((store.folder / "holder").exists())
            time.sleep(0.05)

    threads = [threading.Thread(target=hold) for _ in range(3)]
    with store.locked():
        for thread in threads:
            thread.start()
    for thread in threads:
        thread.join()
    assert held == [True] * 3
    assert not (store.folder / "holder").exists()
    with store.locked():
        pass


def test_no_more_threads_compute_than_are_allowed(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[int | None] = []
    real = concurrent.futures.ThreadPoolExecutor

    def counted(number: int | None = None, *given: object) -> concurrent.futures.ThreadPoolExecutor:
        asked.append(number)
        return real(number, *given)  # type: ignore[arg-type]

    monkeypatch.setattr("nibbet.once.ThreadPoolExecutor", counted)
    days = pd.date_range("2026-08-01", "2026-10-31")
    rows = pd.DataFrame({"date": days, "page": "/a/", "query": "canoe", "clicks": 3, "impressions": 60, "position": 3.0})
    with nibbet.Site("https://tarnbrook.example/", search=rows, settings={"engine": {"threads": 1}}) as site:
        site.pages()
        site.check_ideas(["canoe"])
        assert site._pipeline.context.engine.connection.raw_sql("SELECT current_setting('threads')").fetchone() == (1,)
    assert asked
    assert set(asked) == {1}
    limit_threads(None)
    assert threads() == os.cpu_count()


@pytest.mark.parametrize(
    ("fault", "told"),
    [
        (RuntimeError("Query interrupted"), True),
        (ValueError("KeyboardInterrupt: <EMPTY MESSAGE>"), True),
        (RuntimeError("no interrupt"), False),
    ],
)
def test_an_engines_interrupt_is_one(fault: Exception, told: bool) -> None:
    assert is_interrupt(fault) == told
