"""Technical faults and redirects."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core.redirects import (
    straighten,
)
from nibbet.core.repairs import anchor_faults, find_repairs, missed_addresses
from nibbet.core.verdict import LEAVING
from nibbet.pipeline.anchors import Anchors
from nibbet.pipeline.decisions import Decisions
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.merges import Merges
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.speed import Speed
from nibbet.pipeline.sums import Sums
from nibbet.pipeline.targets import Targets


@dataclass(frozen=True, eq=False)
class Mends:
    """Repairs and redirects."""

    inputs: Inputs
    sums: Sums
    pages: Pages
    query_map: QueryMap
    measures: Measures
    merges: Merges
    targets: Targets
    decisions: Decisions
    anchors: Anchors
    speed: Speed

    def repairs(self) -> pd.DataFrame:
        """Technical faults between pages and their traffic: page, repair, weight, target, because."""
        links = None if self.inputs.inlinks is None else self.inputs.inlinks.rename("pages").rename_axis("target").reset_index()
        state = self.inputs.index_exclusions
        groups = self.merges.groups.set_index("page")["group"]
        result = find_repairs(
            self.measures.ledger,
            self.query_map.pairs,
            self.targets.covering,
            self.sums.windows,
            links=links,
            kept_from_index=state,
            groups=groups,
            last_used=self.pages.last_used,
            over=self.pages.over,
        )
        worded = anchor_faults(self.anchors.by_number, self.measures.ledger)
        result = pd.concat([result, worded, self.speed.repairs()], ignore_index=True).sort_values(
            "weight", ascending=False, kind="stable", ignore_index=True
        )
        result = result.assign(page=result["page"].map(self.inputs.pages["page"]))
        if len(rows := self.targets.missed):
            result = pd.concat([result, missed_addresses(rows, self.sums.windows)], ignore_index=True).sort_values(
                "weight", ascending=False, kind="stable", ignore_index=True
            )
        return result.astype({"target": "str", "because": "str", "repair": "str"})

    def redirects(self) -> pd.DataFrame:
        """Redirects of addresses that go: from, to, status (301 or 410), because; no chains, no loops."""
        pages, verdicts = self.measures.ledger, self.decisions.outcome[0]
        leaving = verdicts["verdict"].isin(LEAVING)
        rows = pd.DataFrame(
            {"from": pages["page"], "to": verdicts["target"].map(pages["page"]), "because": "verdict " + verdicts["verdict"].fillna("")}
        )[leaving]
        moved = pages["gone"] & pages["redirects_to"].notna()
        now = pd.DataFrame({"from": pages["page"], "to": pages["redirects_to"], "because": "redirects already"})[moved]
        earned = (pages[["clicks_long", "backlinks", "conversions_long"]].fillna(0).astype(float) > 0).any(axis=1)
        broken = pages["gone"] & ~moved & (pages["status"].fillna(200) >= 400) & (earned | (pages["hits"].fillna(0) > 0))
        cover, section = (result.reindex(pages.index).map(pages["page"]) for result in (self.targets.covering, self.targets.section_hubs))
        broken &= cover.notna() | section.notna()  # pages that earned and have no cover are restored instead: see repairs
        until = np.where(earned, "; put it back, until then the section on its subject", "; the section on its subject")
        why = np.where(earned, " but earned", " but people ask for it") + np.where(cover.notna(), "; that page covers it", until)
        mend = pd.DataFrame(
            {
                "from": pages["page"],
                "to": cover.where(cover.notna(), section),
                "because": "answers " + pages["status"].astype("str") + pd.Series(why, index=pages.index, dtype="str"),
            }
        )[broken]
        missed = self.targets.missed.dropna(subset=["target"])
        why = np.where(missed["covered"], "; that page covers it", "; the nearest section")
        reason = "asked for in vain " + missed["hits"].astype("str") + " times" + pd.Series(why, index=missed.index, dtype="str")
        visits = pd.DataFrame({"from": missed["page"], "to": missed["target"], "because": reason})
        result = straighten(pd.concat([rows, now, mend, visits], ignore_index=True))
        # existing redirects may lead to a page that fails or is blocked, or in a circle
        ends_dead = result["to"].isin(pages.loc[pages["gone"] | pages["blocked"], "page"])
        in_circle = result["to"].isna() & result["from"].isin(now["from"])
        instead = result["from"].map(pd.Series(cover.where(cover.notna(), section).to_numpy(), index=pages["page"]))
        result["to"] = result["to"].where(~ends_dead & ~in_circle, instead)
        result["status"] = result["status"].mask(in_circle & instead.notna(), 301)
        return result[~(ends_dead & result["to"].isna())].reset_index(drop=True)
