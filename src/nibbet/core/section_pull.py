"""The pull that the pages of a section have, or lost, in common: what results show beside them, not their own titles."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.pull import SURE

#: reference clicks needed to judge a share of them
LEAST_BASE = 20
#: the pull that a section has or lost in common is none of its pages' own: from so many pages that can be judged, and this difference (of the
#: logarithm); a loss must also be that of this share of them
SHARING_PAGES, SHARING, LEAST_SHARED = 8, 0.75, 0.15
#: the part of a section that stands for its good pages, and the standard error of that quantile of normal values, in s / sqrt(n)
GOOD, ERROR_OF_GOOD = 0.75, 1.36


def pull_of_sections(pages: pd.DataFrame) -> pd.Series:
    """By page, the pull of its section relative to other sections: 1, or less where even the good pages of the section have clearly less.

    Where results show answers or products above all that a section has, its CTR is low at every position, and no new title mends that.
    The upper quartiles are compared, since up to half of a section may have poor titles, and only beyond two standard errors.

    Args:
        pages: section, clicks_titled, expected_titled.
    """
    clicks, expected = (pages[name].fillna(0.0).astype(float) for name in ("clicks_titled", "expected_titled"))
    known = expected >= SURE
    section: pd.Series = pages["section"][known]
    ratio: pd.Series = np.log((clicks[known] + 0.5) / expected[known])  # type: ignore[assignment]
    of_section = ratio.groupby(section)
    good = of_section.quantile(GOOD)[of_section.size() >= SHARING_PAGES]
    pull = {}
    for name in good.index[good < ratio.quantile(GOOD)]:
        inside = section == name
        own, rest = ratio[inside], ratio[~inside]
        lower = rest.quantile(GOOD) - good[name]
        if len(rest) >= SHARING_PAGES and lower >= max(LEAST_SHARED, 2 * ERROR_OF_GOOD * np.hypot(own.sem(), rest.sem())):
            pull[name] = np.exp(-lower)
    return pages["section"].map(pull).fillna(1.0).astype(float)


def of_equal_sections(pages: pd.DataFrame) -> pd.DataFrame:
    """The ledger with the expectations that its pages would have in their own section."""
    return pages.assign(**{name: pages[name] * pages["section_pull"] for name in ("expected_titled", "expected_answered")})


def pull_lost_by_sections(pages: pd.DataFrame) -> pd.Series:
    """By page, the pull that the pages of its section lost in common (of the logarithm, 0 or more): when CTR falls at the same positions on
    nearly all pages of a section, what results show beside them has changed, and no page can win it back.

    Args:
        pages: section, base, taken_over, clicks, pull_part, reference_known. The median over pages with enough clicks, where most lost pull.
    """
    base, recent = (pages["base"] + pages["taken_over"]).astype(float), pages["clicks"].fillna(0).astype(float)
    known = (base >= LEAST_BASE) & pages["reference_known"] & pages["pull_part"].notna() & (recent > 0)
    had, has = base[known], recent[known]
    mean = np.where(np.isclose(has, had), had, (has - had) / np.log((has + 0.5) / (had + 0.5)))
    fall = pd.DataFrame({"section": pages["section"][known], "fall": -pages["pull_part"][known].astype(float) / mean})
    of_section = (
        fall.assign(fell=fall["fall"] > 0).groupby("section").agg(pages=("fall", "size"), share=("fell", "mean"), median=("fall", "median"))
    )
    enough = (of_section["pages"] >= SHARING_PAGES) & (of_section["share"] >= SHARING) & (of_section["median"] >= LEAST_SHARED)
    common = of_section["median"].where(enough)
    return pages["section"].map(common).fillna(0.0).astype(float)
