"""The six verdicts, by their names."""

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


#: verdicts after which a page is gone, and those that ask for nothing to be done
LEAVING = (Verdict.PRUNE, Verdict.CONSOLIDATE)
IDLE = (Verdict.KEEP, Verdict.WATCH)
