"""Hold the gains that verdicts promise against what the made-up site would truly gain, were the advice followed.

Usage: python benchmarks/gains.py [--seeds 5] [--pages 400] [LEVEL ...]
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd

import nibbet
from nibbet.demo.exports import write
from nibbet.demo.scenario import LEVELS, build

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from score import promises


def cases(pages: int, seed: int, level: str) -> pd.DataFrame:
    """One row per promise: cause, gain, gain_low, gain_high, true."""
    with tempfile.TemporaryDirectory() as root:
        folder = Path(root) / "site"
        folder.mkdir()
        write(folder, pages=pages, seed=seed, level=level)
        site = nibbet.open_site(folder)
        said, groups = site.verdicts(), site.groups()
        site.close()
    return promises(build(pages, seed, LEVELS[level]), said, groups, 90).assign(seed=seed, level=level)


def told(rows: pd.DataFrame) -> dict[str, float]:
    """How a set of promises held: coverage of the 80% intervals, order, width and bias."""
    inside = rows["true"].between(rows["gain_low"], rows["gain_high"])
    return {
        "cases": len(rows),
        "inside": inside.mean(),
        "below": (rows["true"] < rows["gain_low"]).mean(),
        "above": (rows["true"] > rows["gain_high"]).mean(),
        "spearman": rows["gain"].corr(rows["true"], method="spearman"),
        "width/true": ((rows["gain_high"] - rows["gain_low"]) / rows["true"].where(rows["true"] > 0)).median(),
        "sum/true": rows["gain"].sum() / rows["true"].sum(),
        "median ratio": np.exp(np.log(rows["gain"] / rows["true"].where(rows["true"] > 0)).median()),
    }


def main() -> None:
    """Print how promises held, by cause and over all."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("levels", nargs="*", default=["usual"])
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--first", type=int, default=9300)
    parser.add_argument("--pages", type=int, default=400)
    parser.add_argument("--out", type=Path)
    given = parser.parse_args()
    rows = pd.concat([cases(given.pages, given.first + n, level) for level in given.levels for n in range(given.seeds)])
    if given.out:
        rows.to_csv(given.out, index=False)
    for level, of_level in rows.groupby("level"):
        parts = {"all": of_level, **dict(list(of_level.groupby("cause")))}
        print(f"{level}\n{pd.DataFrame({name: told(part) for name, part in parts.items()}).T.round(3).to_string()}", flush=True)


if __name__ == "__main__":
    main()
