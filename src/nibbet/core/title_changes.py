"""Effects of changed titles and descriptions: CTR after relative to before, compared with pages that stayed the same."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core.pull import false_discovery
from nibbet.core.tables import THIN_CLICKS
from nibbet.core.titles import CHANCE
from nibbet.core.wording import pages as wording

Floats = NDArray[np.float64]

CHANGES = (
    "page changed title_before title changed_after changed_by clicks_before clicks_after ctr_before ctr_after position_before position_after "
    "effect effect_low effect_high q_value real because"
).split()
TRIALS = "change pages effect effect_low effect_high q_value real".split()
#: most and fewest days compared before and after a change: a season, and two whole weeks
MOST_DAYS, LEAST_DAYS = 90, 14
#: days after a change that count on neither side: search engines show a new title only after fetching the page again
SETTLING_DAYS = 7
#: prior standard deviation of unchanged pages (of the logarithm), prior of the common drift, and weight of both in pages
THOUGHT_STRAY, THOUGHT_DRIFT, THOUGHT_PAGES = 0.2, 0.1, 3
#: pages with a change of one kind needed for its effect
LEAST_PAGES = 3
SPANS = "before_first before_last after_first after_last".split()
Z95 = float(special.ndtri(0.975))


class Estimate(NamedTuple):
    """Log ratios of pull after and before, and their counting variances."""

    value: Floats
    variance: Floats


def dated(changed: pd.DataFrame, modified: pd.Series) -> pd.DataFrame:
    """The changes with changed_on: the date of change given by the page, where it lies between the two inventories; it then replaces them.

    Args:
        changed: crawled_before, crawled_after, by page number; modified: by page number.
    """
    before, after = pd.to_datetime(changed["crawled_before"]), pd.to_datetime(changed["crawled_after"])
    day = pd.to_datetime(modified).reindex(changed.index)
    day = day.where((day > before) & (day <= after))
    eve = day - pd.Timedelta(days=1)
    return changed.assign(changed_on=day, crawled_before=eve.fillna(before), crawled_after=day.fillna(after))


def spans(changed: pd.DataFrame, first: pd.Timestamp, last: pd.Timestamp) -> pd.DataFrame:
    """The days compared for each change: SPANS; null where LEAST_DAYS are not known on both sides.

    Args:
        changed: crawled_before, crawled_after, by page number; first, last: the days that the data cover.
    """
    before, after, day = pd.to_datetime(changed["crawled_before"]), pd.to_datetime(changed["crawled_after"]), pd.Timedelta(days=1)
    result = pd.DataFrame({"before_last": before.where(before <= last, last), "after_first": after + day * (SETTLING_DAYS + 1)})
    begin, end = result["before_last"] - day * (MOST_DAYS - 1), result["after_first"] + day * (MOST_DAYS - 1)
    result["before_first"], result["after_last"] = begin.where(begin >= first, first), end.where(end <= last, last)
    short = [(result[f"{side}_last"] - result[f"{side}_first"]).dt.days + 1 < LEAST_DAYS for side in ("before", "after")]
    return result[SPANS].mask(short[0] | short[1])


def with_stand_ins(changed: pd.DataFrame, stayed: pd.Index) -> pd.DataFrame:
    """The spans of changed pages, and for unchanged pages those of one changed page each, in turn, so that chance is measured over the same
    days.
    """
    known = changed.dropna()
    if known.empty:
        return known
    turn = np.arange(len(stayed)) % len(known)
    return pd.concat([known, known.iloc[turn].set_axis(stayed)])


def estimated(sums: pd.DataFrame) -> Estimate:
    """For each page the log ratio of its pull after and before, null where too few clicks are expected.

    sums: clicks_before, clicks_after, expected_clicks_before, expected_clicks_after.
    """
    c0, c1, e0, e1 = (sums[name].to_numpy(float) for name in CLICKS)
    enough = (e0 >= THIN_CLICKS) & (e1 >= THIN_CLICKS)
    with np.errstate(divide="ignore", invalid="ignore"):
        value = np.log((c1 + 0.5) / e1) - np.log((c0 + 0.5) / e0)
    return Estimate(np.where(enough, value, np.nan), np.where(enough, 1 / (c1 + 0.5) + 1 / (c0 + 0.5), np.nan))


CLICKS = ("clicks_before", "clicks_after", "expected_clicks_before", "expected_clicks_after")


def _strays(stayed: Estimate) -> tuple[float, float, float]:
    """(drift, its variance, variance of pages beyond counting) of unchanged pages, shrunk to the prior.

    The variance by the moments of DerSimonian & Laird (1986, Control. Clin. Trials 7:177).
    """
    known = np.isfinite(stayed.value)
    value, variance = stayed.value[known], stayed.variance[known]
    spread = _between(value, variance)
    of_page = (len(value) * spread + THOUGHT_PAGES * THOUGHT_STRAY**2) / (len(value) + THOUGHT_PAGES)
    weight = 1 / (variance + of_page)
    whole = weight.sum() + 1 / THOUGHT_DRIFT**2
    return float((weight * value).sum() / whole), float(1 / whole), float(of_page)


def _between(value: Floats, variance: Floats) -> float:
    """The variance between values beyond that of each."""
    if len(value) < 2:
        return 0.0
    weight = 1 / variance
    mean = (weight * value).sum() / weight.sum()
    spare = weight.sum() - (weight**2).sum() / weight.sum()
    return float(max(0.0, ((weight * (value - mean) ** 2).sum() - (len(value) - 1)) / spare)) if spare > 0 else 0.0


def change_effects(changed: pd.DataFrame, stayed: Estimate) -> pd.DataFrame:
    """The ratio of CTR after and before for each changed page, at the same position, relative to unchanged pages over the same days.

    Args:
        changed: page, changed, title_before, title, crawled_before, crawled_after, changed_on, tells_from (the day from which there are
            enough data), early (whether that is in the future), has_days (whether rows have days), the sums of
            `estimated`, impressions and position on both sides; null sums where no days are known.
    Returns:
        CHANGES, the most certain first; effect_low and effect_high are a 95% interval. Real: beyond chance at 5% false discovery among the
        estimated pages.
    """
    effect = estimated(changed)
    drift, unsure, strays = _strays(stayed)
    value, error = effect.value - drift, np.sqrt(effect.variance + strays + unsure)
    table = changed.assign(effect=np.exp(value), effect_low=np.exp(value - Z95 * error), effect_high=np.exp(value + Z95 * error))
    table["q_value"] = false_discovery(2 * special.ndtr(-np.abs(value / error)))
    table["real"] = (table["q_value"] < CHANCE).fillna(False)
    for side in ("before", "after"):
        table[f"ctr_{side}"] = table[f"clicks_{side}"] / table[f"impressions_{side}"].where(table[f"impressions_{side}"] > 0)
    table["because"] = wording.title_changed(table, _state(table), LEAST_DAYS)
    table = table.rename(columns={"crawled_before": "changed_after", "crawled_after": "changed_by"})
    result: pd.DataFrame = table.sort_values(["q_value", "clicks_after", "page"], ascending=[True, False, True], ignore_index=True)[CHANGES]
    return result


def trials(kinds: pd.DataFrame, changed: pd.DataFrame, stayed: Estimate) -> pd.DataFrame:
    """The combined effect of changes of one kind: TRIALS, all changes first.

    kinds: of each changed page, whether its change was of each kind; changed: as `change_effects`, in the same order.
    """
    effect = estimated(changed)
    drift, unsure, strays = _strays(stayed)
    rows = []
    for name in kinds:  # there are few traits
        mine = kinds[name].to_numpy(bool) & np.isfinite(effect.value)
        if mine.sum() < LEAST_PAGES:
            continue
        value, variance = effect.value[mine] - drift, effect.variance[mine] + strays
        weight = 1 / (variance + _between(value, variance))
        mean, error = (weight * value).sum() / weight.sum(), np.sqrt(1 / weight.sum() + unsure)
        rows.append((name, int(mine.sum()), *np.exp([mean, mean - Z95 * error, mean + Z95 * error]), 2 * special.ndtr(-abs(mean / error))))
    table = pd.DataFrame(rows, columns=TRIALS[:-1])
    table["q_value"] = false_discovery(table["q_value"].to_numpy(float))
    return table.assign(real=table["q_value"] < CHANCE)


def _state(table: pd.DataFrame) -> pd.Series:
    """The state of each change, as `wording.pages.title_changed` names it."""
    real, better = table["real"], table["effect"] > 1
    conditions = [real & better, real, table["effect"].notna(), table["clicks_after"].notna(), ~table["has_days"], table["early"]]
    return pd.Series(np.select(conditions, ["better", "worse", "open", "few", "dayless", "early"], "old"), index=table.index)
