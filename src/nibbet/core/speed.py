"""Speed of pages for their visitors, and what slowness costs on this site."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.ratios import ratio_interval
from nibbet.core.repairs import REPAIRS
from nibbet.core.wording import pages as wording

SPEED = "page form_factor loading responding shifting samples rating clicks sessions engagement_rate because".split()
COST = "measure ratio low high pages proven".split()
#: limits of good and poor for the 75th percentile of visits, as defined by the open web vitals: seconds until the largest content is
#: visible, milliseconds until a page responds, share of the view that shifts
GOOD = {"loading": 2.5, "responding": 200.0, "shifting": 0.1}
POOR = {"loading": 4.0, "responding": 500.0, "shifting": 0.25}
#: seconds above which a value must be in milliseconds, and milliseconds below which it must be in seconds
MOST_SECONDS, LEAST_MILLISECONDS = 60.0, 10.0
#: sessions that slow and other pages each need for a comparison
ENOUGH = 100


def in_units(rows: pd.DataFrame) -> pd.DataFrame:
    """The rows with loading in seconds and responding in milliseconds, whatever the unit of the source (recognised by the median)."""
    loading, responding = rows["loading"].astype(float), rows["responding"].astype(float)
    loading = loading / 1000 if loading.median() > MOST_SECONDS else loading
    responding = responding * 1000 if responding.median() < LEAST_MILLISECONDS else responding
    return rows.assign(loading=loading, responding=responding, shifting=rows["shifting"].astype(float))


def page_speed(rows: pd.DataFrame, pages: pd.DataFrame) -> pd.DataFrame:
    """Each page and device type with its measures and rating: SPEED with pages by number, poor ones with most clicks first.

    Args:
        rows: page (number), month, form_factor, loading, responding, shifting (75th percentiles in the units of GOOD), samples: of several
            months the newest counts. pages: clicks, sessions, engagement_rate by number.
    Returns:
        rating: poor where any measure exceeds POOR, good where all known ones are within GOOD, else middling.
    """
    rows = rows.assign(form_factor=rows["form_factor"].astype("str").str.strip().str.lower().fillna(""))
    table = rows.sort_values(["page", "form_factor", "month"], na_position="first").drop_duplicates(["page", "form_factor"], keep="last")
    poor = np.column_stack([table[name].gt(limit) for name, limit in POOR.items()])
    good = np.column_stack([table[name].isna() | table[name].le(limit) for name, limit in GOOD.items()])
    known = table[list(GOOD)].notna().any(axis=1).to_numpy()
    rating = np.select([poor.any(axis=1), good.all(axis=1) & known, known], ["poor", "good", "middling"], "")
    shown = {name: table["page"].map(pages[name]) for name in ("clicks", "sessions", "engagement_rate")}
    table = table.assign(rating=rating, **shown)
    order = table["rating"].map({"poor": 0, "middling": 1, "good": 2}).fillna(3)
    table = table.assign(order=order, because=wording.slow(table, poor)).sort_values(
        ["order", "clicks", "page", "form_factor"], ascending=[True, False, True, True]
    )
    return table[table["rating"] != ""].reset_index(drop=True)[SPEED]


def slow_pages(speed: pd.DataFrame, pages: pd.DataFrame) -> pd.DataFrame:
    """Pages that are poor on any device type and have clicks or visits: REPAIRS with pages by number, `slow`."""
    rows = speed[speed["rating"] == "poor"].drop_duplicates("page")
    weight = rows["page"].map(pages["clicks_long"]).astype("float64").fillna(0.0)
    return rows.assign(repair="slow", weight=weight, target=None)[weight > 0][REPAIRS]


def insecure_pages(numbers: pd.Index, pages: pd.DataFrame) -> pd.DataFrame:
    """Pages served over plain http although the home page is on https: REPAIRS with pages by number, `insecure`."""
    known = pages.loc[pages.index.intersection(numbers)]
    weight = known["clicks_long"].astype("float64").fillna(0.0)
    because = wording.insecure(weight) if len(known) else ""
    return pd.DataFrame(
        {"page": known.index, "repair": "insecure", "weight": weight.to_numpy(), "target": None, "because": np.asarray(because)}
    )[REPAIRS]


def cost_of_slowness(speed: pd.DataFrame, pages: pd.DataFrame) -> pd.DataFrame:
    """Whether poor pages have lower engagement and conversion rates than the other pages of their section: COST, one row per measure.

    Args:
        speed: from `page_speed`; pages: section, sessions, engaged_sessions, conversions by number (recent window).
    Returns:
        ratio: rate on poor pages / rate on others of the same section, with a 95% interval; proven: whether that excludes 1.
    """
    rated = pages.loc[pages.index.intersection(pd.Index(speed["page"].unique()))]
    rated = rated[rated["sessions"].fillna(0) > 0]
    poor = rated.index.isin(speed.loc[speed["rating"] == "poor", "page"])
    sessions = rated["sessions"].astype(float)
    if sessions[poor].sum() < ENOUGH or sessions[~poor].sum() < ENOUGH:
        return pd.DataFrame(columns=COST)
    result = []
    for measure, name in (("engaged sessions", "engaged_sessions"), ("conversions", "conversions")):
        counted = rated[name].astype(float).fillna(0.0)
        others = pd.DataFrame({"counted": counted.where(~poor, 0.0), "sessions": sessions.where(~poor, 0.0)})
        usual = others.groupby(rated["section"]).transform("sum")
        known = (usual["sessions"] > 0).to_numpy() & (usual["counted"] > 0).to_numpy()
        if not (known & poor).any():
            continue
        expected = (sessions * usual["counted"] / usual["sessions"].where(usual["sessions"] > 0))[known]
        sides = pd.DataFrame({"counted": counted[known].to_numpy(), "expected": expected.to_numpy()})
        both = ratio_interval(sides.set_axis(pd.MultiIndex.from_arrays([poor[known], rated.index[known]])))
        # False sorts before True
        ratio, error = (
            float(both["ratio"].to_numpy(float)[-1]),
            float(np.hypot(*both["error"].to_numpy(float)[:2])),
        )
        low, high = ratio * np.exp(-1.96 * error), ratio * np.exp(1.96 * error)
        result.append((measure, ratio, low, high, int(poor.sum()), bool(high < 1 or low > 1)))
    return pd.DataFrame(result, columns=COST)
