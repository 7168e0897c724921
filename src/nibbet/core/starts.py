"""How new pages start, compared with earlier new pages of the site at the same age."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

STARTS = ["age_weeks", "start_clicks", "start_low", "start_usual", "start_high", "start_rank", "earlier"]
#: earlier new pages needed for a median and a band
LEAST_EARLIER = 8


def starts(weeks: NDArray[np.int64], began: NDArray[np.int64], young: NDArray[np.bool_]) -> pd.DataFrame:
    """Clicks of young pages since they began, and those of earlier new pages at the same age.

    Args:
        weeks: clicks, pages x whole weeks, oldest first; one row per page that began within the data. began: per page, its first whole
            week;
            young: per page, whether to report it.
    Returns:
        One row per young page, in order: STARTS. age_weeks: whole weeks since it began; start_clicks: clicks in these; start_low,
        start_usual, start_high: the 10th, 50th and 90th percentile over the same number of first weeks of earlier pages that are not
        young; start_rank: the share of these with fewer clicks, ties counted half; earlier: their number. Null for fewer than LEAST_EARLIER
        of them, and for pages without a whole week.
    """
    count = weeks.shape[1]
    since = np.concatenate([np.zeros((len(weeks), 1), dtype=np.int64), weeks.cumsum(axis=1, dtype=np.int64)], axis=1)
    old, chosen = np.flatnonzero(~young), np.flatnonzero(young)
    age = np.maximum(count - began, 0)
    gained = since[chosen, count] - since[chosen, np.minimum(began[chosen], count)]
    table = pd.DataFrame({"age_weeks": age[chosen], "start_clicks": gained}, index=pd.Index(chosen))
    for name in STARTS[2:]:
        table[name] = np.nan
    for weeks_old, rows in table.groupby("age_weeks").groups.items():
        span = int(str(weeks_old))
        able = old[age[old] >= span]
        table.loc[rows, "earlier"] = len(able)
        if span == 0 or len(able) < LEAST_EARLIER:
            continue
        first = np.sort(since[able, began[able] + span] - since[able, began[able]])
        table.loc[rows, ["start_low", "start_usual", "start_high"]] = np.quantile(first, [0.1, 0.5, 0.9])
        clicks = table.loc[rows, "start_clicks"].to_numpy()
        below, upto = np.searchsorted(first, clicks, "left"), np.searchsorted(first, clicks, "right")
        table.loc[rows, "start_rank"] = (below + upto) / 2 / len(first)
    return table[STARTS].reset_index(drop=True).astype({"earlier": "Int64"})
