"""The six verdicts."""

from __future__ import annotations

from enum import StrEnum


class Verdict(StrEnum):
    """What to do with a page."""

    WATCH = "watch"
    PRUNE = "prune"
    CONSOLIDATE = "consolidate"
    REFRESH = "refresh"
    EXPAND = "expand"
    KEEP = "keep"


#: verdicts that remove a page, and those that ask for no work
LEAVING = (Verdict.PRUNE, Verdict.CONSOLIDATE)
IDLE = (Verdict.KEEP, Verdict.WATCH)
