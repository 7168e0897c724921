"""Links from other sites."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from nibbet.core.backlinks import FAULTS, HOSTS, link_faults, linking_hosts, with_state
from nibbet.core.join.address import hosts_of
from nibbet.core.redirects import end_of
from nibbet.once import once
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.sums import Sums
from nibbet.pipeline.targets import Targets


@dataclass(frozen=True, eq=False)
class Backlinks:
    """Linking sites, new and lost links, and links to failing addresses."""

    inputs: Inputs
    sums: Sums
    measures: Measures
    targets: Targets

    @once
    def _links(self) -> pd.DataFrame | None:
        """Each link once; None without such a source."""
        if (rows := self.inputs.joined.small_source("backlinks")) is None:
            return None
        return with_state(rows[rows["aside"].isna()], pd.Timestamp(self.sums.windows.as_of))

    def hosts(self) -> pd.DataFrame:
        """Linking hosts: `core.backlinks.HOSTS`."""
        if (links := self._links) is None:
            return pd.DataFrame(columns=HOSTS)
        fails = (links["page_id"].map(self.measures.ledger["status"]).astype("Float64").fillna(200) >= 400).astype(bool)
        return linking_hosts(links, hosts_of(links["from_url"]), fails)

    def faults(self) -> pd.DataFrame:
        """Lost links and links to addresses that fail or redirect: `core.backlinks.FAULTS`."""
        if (links := self._links) is None:
            return pd.DataFrame(columns=FAULTS)
        pages = self.measures.ledger
        covering = self.targets.covering.reindex(pages.index)
        covering = covering.where(covering.notna(), self.targets.section_hubs.reindex(pages.index)).map(pages["page"])
        end = end_of(pages)[0]
        result = link_faults(links, pages, end.where(end.notna(), covering))
        return result.assign(page=result["page"].map(pages["page"]))
