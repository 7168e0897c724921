"""Try every measure on made-up sites whose truth is known, beside the plain rule that a spreadsheet gives on the same data.

Usage: python benchmarks/measures.py [--seeds 10]

Each function takes a seed and a size and returns figures; `main` prints their means. The tests run the same functions at a small size.
"""

from __future__ import annotations

import argparse
import time

import numpy as np
import pandas as pd
from worlds import pairs_of, rows_of_results, seasonal_pages, single_causes, two_windows, weeks_of_pages

from nibbet.core.change import change
from nibbet.core.compare import page_noise
from nibbet.core.curve import SEGMENT, bin_centre, learn_curve
from nibbet.core.decline import lasting_changes
from nibbet.core.pull import judged_pull
from nibbet.core.split import ASSUMPTION, learn_sight, row_parts, split
from nibbet.core.tables import PARTS


def share(some: pd.Series | np.ndarray, of: pd.Series | np.ndarray) -> float:
    """How many of `of` are in `some`; 0 of none."""
    return float((some & of).sum() / max(of.sum(), 1))


def declines(seed: int, pages: int = 20_000) -> dict[str, float]:
    """Lasting declines: false ones among those called, power, week of onset; a steep season; the plain rule of 90 days."""
    clicks, truth = weeks_of_pages(np.random.default_rng(seed), pages)
    found = lasting_changes(clicks, truth["section"].to_numpy())
    real, true = found["real"].to_numpy(bool), (truth["left"] < 1).to_numpy()
    level, sudden = truth["level"], (truth["case"] == "collapse").to_numpy()
    figures = {"false": share(~true, real)}
    for low, high in ((5, 10), (10, 20), (20, 50), (50, np.inf)):
        figures[f"false, {low} to {high:g} clicks a week"] = share(~true, real & level.between(low, high).to_numpy())
    seen = sudden & (truth["onset"] <= clicks.shape[1] - 8).to_numpy()
    for name, low, high, left in (("20 clicks, -70%", 16, 25, 0.3), ("20 clicks, -50%", 16, 25, 0.5), ("5 clicks, -70%", 4, 6.5, 0.3)):
        figures[f"power {name}"] = share(real, seen & level.between(low, high).to_numpy() & (truth["left"] == left).to_numpy())
    near = (found["onset"].astype(float) - truth["onset"]).abs().le(1).to_numpy()
    promised = seen & ((level >= 16) & (truth["left"] <= 0.5) | (level >= 4) & (truth["left"] == 0.3)).to_numpy()
    figures["onset within a week, of these"] = share(near, real & promised)
    figures["onset within a week, of all sudden ones"] = share(near, real & sudden)
    figures["short dips called"] = share(real, (truth["case"] == "dip").to_numpy())
    season, pages_of = seasonal_pages(np.random.default_rng(seed + 1000), pages // 3)
    figures["season called"] = float(lasting_changes(season, pages_of["section"].to_numpy())["real"].mean())
    plain = clicks[:, -13:].sum(axis=1) < 0.8 * clicks[:, -26:-13].sum(axis=1)
    figures["plain rule: false"] = share(~true, plain)
    fallen = season[:, -13:].sum(axis=1) < 0.8 * season[:, -26:-13].sum(axis=1)
    return figures | {"plain rule: season called": float(fallen.mean())}


def changes(seed: int, pages: int = 8_000, *, kind: str = "year") -> dict[str, float]:
    """Changes between two windows: false ones among the real, coverage of the intervals by volume, power; down 20%."""
    truth, scale = two_windows(np.random.default_rng(seed), pages, kind=kind)
    counts = truth["recent"].to_numpy(float), truth["reference"].to_numpy(float)
    season = truth["true_season"].to_numpy(float) if kind == "before" else np.ones(len(truth))
    noise = page_noise(*counts, scale, season, np.empty((len(counts[0]), 0)))
    found = change(*counts, scale=scale * season, noise=noise)
    moved = truth["true_recent"] - truth["true_recent"] / (1 + truth["true_share"])
    inside = (found["change_low"] <= moved) & (moved <= found["change_high"])
    still, real = truth["true_share"].abs() <= 0.1, found["change_real"].astype(bool)
    busy = truth["true_reference"] > 100
    plain = truth["recent"] < 0.8 * truth["reference"]
    return {
        "false": share(still, real),
        "95% intervals hold the truth": float(inside.mean()),
        "of them under 30 clicks": float(inside[truth["true_reference"] < 30].mean()),
        "of them over 300 clicks": float(inside[truth["true_reference"] > 300].mean()),
        "power over 100 clicks, 50% and more": share(real, busy & ~still),
        "plain rule: false": share(still, plain),
    }


def splits(seed: int, pages: int = 3_000) -> dict[str, float]:
    """Single causes: the share of the change that goes to the right part; what the parts miss of the whole; the plain reading."""
    rows, truth = single_causes(np.random.default_rng(seed), pages)
    pairs, totals = pairs_of(rows)
    sight = learn_sight(pairs)
    parts = split(row_parts(pairs, sight), pairs["page"], totals).merge(truth, left_on="page", right_index=True).merge(totals, on="page")
    moved = parts["clicks_recent"] - parts["clicks_reference"]
    whole = moved.where(moved != 0)
    figures = {"parts miss of the change": float((parts[PARTS].sum(axis=1) - moved).abs().max())}
    assumed = split(row_parts(pairs, ASSUMPTION), pairs["page"], totals)
    for cause in ("demand", "rank", "pull"):
        mine = (parts["cause"] == cause) & (moved.abs() >= 20)
        figures[f"{cause} to {cause}"] = float((parts[cause] / whole)[mine].clip(0, 1).mean())
    mine = ((parts["cause"] == "rank") & (moved.abs() >= 20)).to_numpy()
    figures["rank to rank, sight not learnt"] = float((assumed["rank"].to_numpy() / whole.to_numpy())[mine].clip(0, 1).mean())
    sums = pairs.groupby("page")[["impressions", "impressions_reference"]].sum().reindex(parts["page"])
    fewer = (sums["impressions"] / sums["impressions_reference"]).to_numpy()
    lost = mine & (moved < 0).to_numpy()
    return figures | {"plain rule: sunk pages read as demand (impressions down 20%)": share(fewer < 0.8, lost)}


def pulls(seed: int, pages: int = 4_000, *, noise: float = 0.4) -> dict[str, float]:
    """The CTR curve and pages chosen too seldom: errors, false flags, power; below the site's CTR; below 70% of the curve."""
    rows, truth = rows_of_results(np.random.default_rng(seed), pages, noise=noise)
    rows["bin"] = np.minimum((np.log(rows["position"]) * 10).astype(int), 46)
    curve = learn_curve(rows.groupby([*SEGMENT, "bin", "page"], as_index=False)[["clicks", "impressions"]].sum())
    rates = curve.rates[~curve.rates["brand"].astype(bool)]
    place = np.exp(bin_centre(rates["bin"].to_numpy(float)))
    true = truth["first"][0] * place ** -truth["steep"][0] * np.where(rates["device"] == "mobile", 1.05, 0.85)
    figures = {"curve error, positions 1 to 30": float(np.abs(rates["rate"] / true - 1)[place <= 30].mean())}
    rows = rows[~rows["brand"]].merge(curve.rates[[*SEGMENT, "bin", "rate", "slope"]], on=[*SEGMENT, "bin"])
    beside = np.log(rows["position"]) - bin_centre(rows["bin"].to_numpy(float))
    rows["expected"] = rows["rate"] * (1 + rows["slope"] * beside) * rows["impressions"]
    figures["row expectation error"] = float(
        (rows["expected"] - rows["true"] * rows["impressions"]).abs().sum() / (rows["true"] * rows["impressions"]).sum()
    )
    of_page = rows.groupby("page")[["clicks", "impressions", "expected"]].sum().join(truth["low"])
    flagged = judged_pull(of_page["clicks"].to_numpy(float), of_page["expected"].to_numpy())["flag"].to_numpy() == "low"
    low = of_page["low"].to_numpy(bool)
    figures["false"] = share(~low, flagged)
    figures["power at 0.4 with 100 clicks expected"] = share(flagged, low & (of_page["expected"] >= 100).to_numpy())
    figures["plain rule: false (below the site's CTR)"] = share(
        ~low, (of_page["clicks"] / of_page["impressions"] < of_page["clicks"].sum() / of_page["impressions"].sum()).to_numpy()
    )
    return figures | {"plain rule: false (below 70% of the curve)": share(~low, (of_page["clicks"] < 0.7 * of_page["expected"]).to_numpy())}


def main() -> None:
    """Print the means over the seeds, and how long a million pages take."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--seeds", type=int, default=10)
    seeds = range(100, 100 + parser.parse_args().seeds)
    trials = {
        "lasting declines": declines,
        "changes against a year before": changes,
        "changes against the days before": lambda seed: changes(seed, kind="before"),
        "parts of a change": splits,
        "pull, noisy queries (0.4)": pulls,
        "pull, quieter queries (0.25)": lambda seed: pulls(seed, noise=0.25),
    }
    for name, trial in trials.items():
        table = pd.DataFrame([trial(seed) for seed in seeds])
        print(f"\n{name}, mean (worst) of {len(table)} seeds")
        for figure in table:
            values = table[figure]
            worst = values.min() if figure.startswith(("power", "onset", "95%", "of them", "demand", "rank", "pull")) else values.max()
            print(f"  {figure:62} {values.mean():8.3g}  ({worst:.3g})")
    clicks, truth = weeks_of_pages(np.random.default_rng(1), 50_000)
    begun = time.perf_counter()
    lasting_changes(np.tile(clicks, (20, 1)), np.tile(truth["section"].to_numpy(), 20))
    print(f"\na million pages of 70 weeks: {time.perf_counter() - begun:.1f} s")


if __name__ == "__main__":
    main()
