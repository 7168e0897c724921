"""Events of visitors on the pages of the invented site, by week."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from nibbet.demo.builder import World
from nibbet.demo.simulate import calendar

#: events, and their number per session by kind of page; "" for all other kinds
DEEDS: dict[str, dict[str, float]] = {
    "read to the end": {"": 0.42, "shop": 0.2, "legal": 0.1},
    "route sheet downloaded": {"rivers": 0.09, "lakes": 0.07},
    "newsletter joined": {"": 0.012},
}
#: one page in so many has unusually many events; by what factor
ODD_PAGE, ODD_FACTOR = 40, 4.0


def write_events(path: Path, world: World, visits: pd.DataFrame, *, first: bool) -> None:
    """Write the events of these pages by week, or append them to the file."""
    rng = np.random.default_rng([world.seed, 9, int(visits["page"].min())])
    weeks = visits.assign(week=visits["day"] // 7).groupby(["week", "page"], as_index=False)["sessions"].sum()
    days, parts = pd.Series(calendar()), []
    pages = world.pages.set_index("page")
    for name, rates in DEEDS.items():
        usual = pages["kind"].map(rates).fillna(rates.get("", 0.0))
        odd = np.where((pages.index % ODD_PAGE == 11) & (usual < 0.2), ODD_FACTOR, 1.0)
        rate = usual * odd * np.random.default_rng([world.seed, 8, len(name)]).lognormal(-0.02, 0.2, len(pages))
        count = rng.poisson(weeks["page"].map(rate).to_numpy(float) * weeks["sessions"].to_numpy(float))
        parts.append(weeks.assign(event=name, count=count)[count > 0])
    rows = pd.concat(parts).sort_values(["week", "page", "event"], kind="stable")
    table = pd.DataFrame(
        {
            "Week": days.dt.strftime("%Y-%m-%d")[rows["week"] * 7].to_numpy(),
            "Page": rows["page"].map(pages["path"]).to_numpy(),
            "Event name": rows["event"].to_numpy(),
            "Event count": rows["count"].to_numpy(),
        }
    )
    with path.open("wb" if first else "ab") as file:
        table.to_csv(file, index=False, header=first, lineterminator="\n")
