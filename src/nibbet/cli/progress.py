"""Progress on standard error: a line with a bar on a terminal, one line per step elsewhere."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from typing import Any

from nibbet.render.safe import for_terminal

#: seconds after which work outside a terminal prints its steps
SILENT_SECONDS = 2


class Progress:
    """Called with each step as it begins. `share` returns the progress of the step, 0 to 1, or None, while a bar is shown."""

    def __init__(self, *, quiet: bool, verbose: bool) -> None:
        self._quiet, self._verbose = quiet, verbose
        self.share: Callable[[], float | None] = lambda: None
        self._begun = self._step_begun = time.monotonic()
        self._step = ""
        self._bar: Any = None

    def __call__(self, step: str) -> None:
        """Prints the step that begins; with -v, how long the previous step took."""
        now = time.monotonic()
        if self._verbose and self._step:
            sys.stderr.write(f"{now - self._step_begun:6.1f} s  {self._step}\n")
        self._step, self._step_begun = step, now
        if self._quiet or not step:
            return
        line = for_terminal(step)
        if step.startswith("waiting"):
            self._hide()
            sys.stderr.write(f"{line} ...\n")
        elif sys.stderr.isatty() and not self._verbose:
            self._show(line)
        elif not self._verbose and now - self._begun > SILENT_SECONDS:
            sys.stderr.write(f"{line} ...\n")

    def done(self) -> float:
        """Removes the bar; returns the seconds since the beginning."""
        self("")
        self._hide()
        return time.monotonic() - self._begun

    def _share(self) -> float | None:
        return self.share()

    def _show(self, step: str) -> None:
        if self._bar is None:
            self._bar = _bar(self._share)
            self._bar.add_task(step)
            self._bar.start()
        else:
            self._bar.update(self._bar.task_ids[0], description=step)

    def _hide(self) -> None:
        if self._bar is not None:
            self._bar.stop()
            self._bar = None


def _bar(share: Callable[[], float | None]) -> Any:
    """A temporary line: a bar that fills where the progress is known and moves back and forth elsewhere, the elapsed time, the step."""
    from rich.console import Console
    from rich.progress import BarColumn, Progress, Task, TextColumn, TimeElapsedColumn
    from rich.table import Column
    from rich.theme import Theme

    class Told(BarColumn):
        def render(self, task: Task):  # type: ignore[no-untyped-def]
            known = share()
            task.total, task.completed = None if known is None else 1.0, known or 0.0
            return super().render(task)

    words = TextColumn("{task.description}", markup=False, table_column=Column(no_wrap=True, overflow="ellipsis"))
    colours = Theme({"bar.complete": "cyan", "bar.finished": "cyan", "bar.pulse": "cyan", "progress.elapsed": "none"})
    return Progress(
        Told(20),
        TimeElapsedColumn(),
        words,
        console=Console(stderr=True, highlight=False, theme=colours),
        transient=True,
        redirect_stdout=False,
        redirect_stderr=False,
    )
