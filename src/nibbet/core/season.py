"""The season that pages share: what a section's pages have in common between two windows is no page's own change."""

from __future__ import annotations

import numpy as np
import pandas as pd

#: busy pages of a section that count as much as the whole site
SHRINK_PAGES = 10.0
BUSY_CLICKS = 20


def shared_change(recent: pd.Series, reference: pd.Series, section: pd.Series, *, scale: float) -> pd.Series:
    """Per page, the factor by which the pages of its section have moved together from the reference to the recent window.

    Args:
        recent, reference: clicks per page; section: its section; scale: factor that makes the reference as long as the recent window.
    Returns:
        The median ratio of the section's busy pages, drawn to that of the site where they are few. A median, so that the pages that
        truly changed do not bend it. 1 where no page is busy.
    """
    base = reference * scale
    busy = (recent >= BUSY_CLICKS) & (base >= BUSY_CLICKS)
    ratio = pd.Series(np.log((recent[busy] + 0.5) / (base[busy] + 0.5)))
    whole = float(ratio.median()) if busy.any() else 0.0
    by_section = ratio.groupby(section[busy]).agg(["median", "size"])
    mixed = (by_section["median"] * by_section["size"] + whole * SHRINK_PAGES) / (by_section["size"] + SHRINK_PAGES)
    return pd.Series(np.exp(section.map(mixed).astype("float64").fillna(whole)), index=recent.index)
