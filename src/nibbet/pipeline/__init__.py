"""From the sources of a site to its verdicts: stages, each computed on first use from earlier ones."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pandas as pd

from nibbet.core.compare import CHANGES, LOSSES, nothing
from nibbet.engine.store import Store
from nibbet.once import ahead, by_main_thread
from nibbet.pipeline.absence import Absence
from nibbet.pipeline.account import Balance
from nibbet.pipeline.anchors import Anchors
from nibbet.pipeline.backlinks import Backlinks
from nibbet.pipeline.changes import Changes
from nibbet.pipeline.comparison import Comparison
from nibbet.pipeline.context import Context, Engines
from nibbet.pipeline.decisions import Decisions
from nibbet.pipeline.diagnostics import Diagnostics
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.history import History
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.linking import Linking
from nibbet.pipeline.lives import Lives
from nibbet.pipeline.markets import Markets
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.mends import Mends
from nibbet.pipeline.merges import Merges
from nibbet.pipeline.opportunities import Opportunities
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.popular import Popular
from nibbet.pipeline.query_groups import QueryGroups
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.questions import Questions
from nibbet.pipeline.speed import Speed
from nibbet.pipeline.splits import Splits
from nibbet.pipeline.successors import Successors
from nibbet.pipeline.sums import Sums
from nibbet.pipeline.targets import Targets
from nibbet.pipeline.titles import Titles
from nibbet.pipeline.topics import Topics

if TYPE_CHECKING:
    from nibbet.config import Config
    from nibbet.core.windows import Windows

#: pairs of windows whose sums stay in memory: each may be as large as those of the site
COMPARISONS = 2


class Pipeline:
    """All stages of one site; each stage holds those it reads, so its constructor shows its inputs."""

    def __init__(self, settings: Config, root: Path, frames: Mapping[str, Any], store: Store, key: str, say: Callable[[str], None]) -> None:
        """frames: sources given as tables; key: the digest of everything that sums depend on, under which they are stored."""
        self._comparisons: dict[Windows, Comparison] = {}
        context = Context(settings, root, frames, store, key, by_main_thread(say), Engines(settings, root, store))
        self.context = context
        self.inputs = inputs = Inputs(context)
        self.sums = sums = Sums(context, inputs)
        self.expectation = expectation = Expectation(context, inputs, sums)
        self.pages = pages = Pages(context, inputs, sums)
        self.successors = successors = Successors(sums, expectation, pages)
        self.history = history = History(context, inputs, sums, successors)
        self.account = Balance(context, inputs, sums, pages)
        self.query_map = query_map = QueryMap(context, inputs, expectation, pages)
        self.changes = changes = Changes(context, inputs, sums, expectation, history, pages, successors)
        self.measures = measures = Measures(context, inputs, sums, expectation, history, pages, query_map, changes)
        self.opportunities = opportunities = Opportunities(context, inputs, sums, expectation, pages, query_map, measures)
        self.merges = merges = Merges(context, inputs, sums, expectation, pages, query_map, measures)
        self.targets = targets = Targets(context, inputs, sums, query_map, measures)
        self.decisions = decisions = Decisions(
            context, inputs, sums, expectation, history, pages, query_map, changes, measures, opportunities, merges, targets
        )
        self.topics = Topics(context, inputs, sums, expectation, pages, query_map, measures, opportunities, decisions)
        self.linking = Linking(context, inputs, query_map, measures, opportunities, targets, decisions)
        self.popular = Popular(context, inputs, sums, pages, query_map, measures, self.topics, self.linking)
        self.absence = Absence(context, inputs, sums, pages, query_map, measures)
        self.backlinks = Backlinks(inputs, sums, measures, targets)
        self.anchors = anchors = Anchors(context, inputs, pages, query_map)
        self.lives = Lives(context, inputs, sums, history, query_map)
        self.speed = speed = Speed(context, inputs, measures)
        self.mends = Mends(inputs, sums, pages, query_map, measures, merges, targets, decisions, anchors, speed)
        self.diagnostics = Diagnostics(context, inputs, sums, expectation, pages, query_map, measures)
        self.query_groups = QueryGroups(inputs, query_map, measures)
        self.splits = Splits(context, inputs, sums, expectation)
        self.markets = Markets(context, inputs, sums, expectation, query_map, measures, self.splits)
        self.titles = Titles(context, inputs, sums, expectation, pages, query_map)
        self.questions = Questions(context, inputs, sums)

    def comparison(self, windows: Windows) -> Comparison:
        """The changes between two windows; everything that does not depend on them is shared, including the calibration."""
        result = self._comparisons.pop(windows, None) or self._new_comparison(windows)
        while len(self._comparisons) >= COMPARISONS:  # the least recently used
            self._comparisons.pop(next(iter(self._comparisons)))
        self._comparisons[windows] = result
        return result

    def _new_comparison(self, windows: Windows) -> Comparison:
        context, inputs, sums, expectation, changes = self.context, self.inputs, self.sums, self.expectation, self.changes
        if windows != sums.windows:
            context = context.at(windows)
            sums = Sums(context, inputs, windows)
            expectation = Expectation(context, inputs, sums, self.expectation.calibration)
            changes = Changes(context, inputs, sums, expectation, self.history, self.pages, Successors(sums, expectation, self.pages))
        return Comparison(context, inputs, sums, expectation, self.query_map, changes)

    def changes_table(self) -> pd.DataFrame:
        """The changes between the usual windows at every level; no rows where the data do not cover the earlier one."""
        comparison = self._usual_comparison
        return nothing(CHANGES) if comparison is None else comparison.table()

    def losses_table(self) -> pd.DataFrame:
        """Queries that lose together between the usual windows; no rows where the data do not cover the earlier one."""
        comparison = self._usual_comparison
        return nothing(LOSSES) if comparison is None else comparison.losses()

    def query_groups_table(self) -> pd.DataFrame:
        """The totals and changes of each group of queries in the settings; no rows without such groups."""
        groups = self.context.config.groups.queries
        members = self.query_groups.members(groups)
        changes = self.query_groups.changes(members, self._usual_comparison if groups else None)
        return self.query_groups.rates(members, list(groups), changes, rest=bool(groups))

    def group_queries_table(self) -> pd.DataFrame:
        """The queries of each group in the settings."""
        return self.query_groups.queries(self.query_groups.members(self.context.config.groups.queries))

    def queries_like(self, words: Sequence[str]) -> dict[str, Any]:
        """An ad-hoc group of queries: see `QueryGroups.like`."""
        return self.query_groups.like(words, self._usual_comparison)

    @property
    def _usual_comparison(self) -> Comparison | None:
        windows = self.sums.windows
        return self.comparison(windows) if windows.has_reference else None

    def windows_table(self) -> pd.DataFrame:
        """The windows: window (recent, reference, long), first, last, days."""
        spans = {name: getattr(self.sums.windows, name) for name in ("recent", "reference", "long")}
        rows = [(name, pd.Timestamp(w.start), pd.Timestamp(w.end), w.days) for name, w in spans.items()]
        return pd.DataFrame(rows, columns=["window", "first", "last", "days"])

    def prepare(self) -> None:
        """Computes every sum of rows that later commands need; the account is computed while the engine sums."""
        self.inputs.joined  # noqa: B018 - asked for, so that it is there
        with ahead(lambda: self.account.balance, interrupt=self.context.engines.interrupt):
            self.context.table("pairs", self.expectation.numbered_pairs)

    def close(self) -> None:
        """Releases the engines' memory and spill folders; computed results stay."""
        self.context.engines.close()
