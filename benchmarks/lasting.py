"""How often the scan for lasting changes calls chance one, over histories of 26 to 260 weeks: the share of p-values below a bound / the bound.

Usage: python benchmarks/lasting.py [--pages 20000]
"""

from __future__ import annotations

import argparse

import numpy as np
import pandas as pd

from nibbet.core import decline

WEEKS = (26, 39, 52, 70, 104, 156, 208, 260)


def p_values(clicks: np.ndarray, section: np.ndarray, *, rising: bool) -> np.ndarray:
    """The p-values before any q-value is made of them."""
    kept: list[np.ndarray] = []
    finished = decline._finished

    def keeping(table: pd.DataFrame, p: np.ndarray, level: float) -> pd.DataFrame:
        kept.append(p)
        return finished(table, p, level)

    decline._finished = keeping  # type: ignore[assignment]
    try:
        decline.lasting_changes(clicks, section, rising=rising)
    finally:
        decline._finished = finished
    return kept[0][~np.isnan(kept[0])]


def main() -> None:
    """Print a line per kind of site and length of history."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--pages", type=int, default=20_000)
    given = parser.parse_args()
    bounds = (0.05, 0.01, 0.001)
    print(f"clicks a week, wander by week, weeks: falls, rises below {bounds}")
    for mean in (6, 30):
        for wander in (0.05, 0.15):
            for weeks in WEEKS:
                random = np.random.default_rng(weeks)
                rate = mean * random.lognormal(0, 0.6, given.pages)
                clicks = random.poisson(rate[:, None] * np.exp(wander * random.standard_normal((given.pages, weeks)))).astype(np.int32)
                section = random.integers(0, 6, given.pages)
                both = [p_values(clicks, section, rising=rising) for rising in (False, True)]
                told = [" ".join(f"{(p < bound).mean() / bound:.2f}" for bound in bounds) for p in both]
                print(f"{mean}, {wander}, {weeks}: {told[0]}, {told[1]}", flush=True)


if __name__ == "__main__":
    main()
