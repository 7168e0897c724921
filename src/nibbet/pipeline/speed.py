"""Speed of pages, and the cost of slowness."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from nibbet.core.ledger import matches
from nibbet.core.speed import COST, SPEED, cost_of_slowness, in_units, insecure_pages, page_speed, slow_pages
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures


@dataclass(frozen=True, eq=False)
class Speed:
    """Measures of visits by page, from a source of web vitals."""

    context: Context
    inputs: Inputs
    measures: Measures

    @once
    def by_number(self) -> pd.DataFrame:
        """`core.speed.SPEED` with pages by number; no rows without a source of vitals."""
        if (rows := self.inputs.joined.small_source("vitals")) is None:
            return pd.DataFrame(columns=SPEED)
        rows = in_units(rows)
        of_pages = rows[rows["aside"].isna() & rows["page_id"].notna()].assign(page=lambda t: t["page_id"].astype("int64"))
        return page_speed(pd.concat([self._of_groups(rows, of_pages), of_pages], ignore_index=True), self.measures.ledger)

    def _of_groups(self, rows: pd.DataFrame, page_rows: pd.DataFrame) -> pd.DataFrame:
        """Rows for patterns of paths: one for each matching page without a row of its own."""
        paths = self.inputs.pages["path"]
        free = paths[~paths.index.isin(page_rows["page"])]
        given = rows[rows["page"].isna() & rows["group"].notna()]
        parts = [
            given[given["group"] == name].merge(
                pd.DataFrame({"page": free.index[matches(free, [str(name)])]}), how="cross", suffixes=("_of", "")
            )
            for name in given["group"].unique()
        ]
        result: pd.DataFrame = pd.concat([page_rows.head(0), *parts], ignore_index=True)
        return result

    def table(self) -> pd.DataFrame:
        """`core.speed.SPEED`."""
        return self.by_number.assign(page=self.by_number["page"].map(self.inputs.pages["page"]))

    def cost(self) -> pd.DataFrame:
        """Whether slow pages have lower engagement and conversion rates: `core.speed.COST`."""
        return cost_of_slowness(self.by_number, self.measures.ledger) if len(self.by_number) else pd.DataFrame(columns=COST)

    def repairs(self) -> pd.DataFrame:
        """The repairs slow and insecure, pages by number."""
        pages = self.measures.ledger
        return pd.concat([slow_pages(self.by_number, pages), insecure_pages(self._plain, pages)], ignore_index=True)

    @property
    def _plain(self) -> pd.Index:
        """The numbers of pages that answered 200 over http in the crawl, although the home page is https."""
        crawl = self.inputs.joined.table("crawl")
        if crawl is None or not self.context.config.site.home.startswith("https://"):
            return pd.Index([], dtype="int64")
        insecure = (
            crawl.filter(crawl.page.lower().startswith("http://"), crawl.status == 200, crawl.aside.isnull()).select("page").distinct()
        )
        spellings = self.inputs.spellings
        known = spellings[spellings["spelling"].isin(self.context.fetch("plain-http", lambda: insecure)["page"])]
        number = pd.Series(self.inputs.pages.index, index=self.inputs.pages["page"])
        result: pd.Index = pd.Index(known["page"].map(number).dropna().astype("int64").unique())
        return result
