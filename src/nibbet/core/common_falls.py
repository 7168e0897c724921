"""Falls that most pages of a site or section share: their reason lies with what the pages have in common, not with each of them."""

from __future__ import annotations

import pandas as pd

from nibbet.core.section_pull import LEAST_BASE, SHARING, SHARING_PAGES


def common_falls(pages: pd.DataFrame) -> pd.DataFrame:
    """section ("" for the whole site), pages (with enough clicks in the reference window to tell), fallen (of them): one row for the site if
    most of its pages fell, else one for each such section, by the number of pages.

    Args:
        pages: section, verdict, cause, clicks_reference (null without a reference window) of pages.csv.
    """
    known = pages[pages["clicks_reference"].fillna(0).ge(LEAST_BASE) & pages["verdict"].notna()]
    fell = known["verdict"].eq("refresh") & known["cause"].eq("decay")
    rows = pd.DataFrame({"section": known["section"].astype("str"), "pages": 1, "fallen": fell.astype("int64")})
    site = rows.assign(section="").groupby("section", as_index=False)[["pages", "fallen"]].sum()
    sections = rows.groupby("section", as_index=False)[["pages", "fallen"]].sum()
    site, sections = (
        table[(table["pages"] >= SHARING_PAGES) & (table["fallen"] >= SHARING * table["pages"])] for table in (site, sections)
    )
    return (site if len(site) else sections).sort_values(["pages", "section"], ascending=[False, True], ignore_index=True)


def fell_together(pages: pd.DataFrame) -> list[str]:
    """One sentence for each row of `common_falls`."""
    rows = common_falls(pages).to_dict("records")  # the site, or some sections
    return [
        f"{row['fallen']:,} of {row['pages']:,} pages of {row['section'] or 'the site'} fell by more than demand: look for what changed on all of them "
        "before you refresh each."
        for row in rows
    ]
