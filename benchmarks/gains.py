"""Hold the gains that verdicts promise against what the made-up site would truly gain, were the advice followed.

Usage: python benchmarks/gains.py [--seeds 5] [--pages 400] [LEVEL | KIND:LEVEL ...], KIND as in `elsewhere`
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd
from elsewhere import DAYS, live, plan_site
from reasons import other_world

import nibbet
from nibbet.core.windows import MONTH_DAYS
from nibbet.demo.builder import LEVELS
from nibbet.demo.exports import write
from nibbet.demo.scenario import build

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


def other_cases(name: str, seed: int) -> pd.DataFrame:
    """The same of a site by the other hand; merges, whose gain nobody planted, are left out. A climb that is said to bring a page back to its
    former position is compared with that.
    """
    kind, _, level = name.partition(":")
    with tempfile.TemporaryDirectory() as root:
        folder = Path(root) / "site"
        other_world(folder, kind, level, seed, 365)
        with nibbet.open_site(folder) as site:
            said = site.verdicts()
    plan = plan_site(kind, seed, level)
    course = live(plan)[2]
    gained = {
        name: (after - course.meant)[:, DAYS - 90 :].sum(axis=1) * MONTH_DAYS / 90
        for name, after in (("mended", course.mended), ("climbed", course.climbed))
    }
    true = pd.DataFrame(gained, index=plan.pages["page"].to_numpy())
    rows = said[said["cause"].isin(["decay", "climb", "snippet", "strays"])]
    climbs = rows["cause"].eq("climb") & ~rows["because"].str.contains("assumes a return there")
    truth = rows["page"].map(true["climbed"]).where(climbs, rows["page"].map(true["mended"]))
    return rows.assign(true=truth, case=rows["page"].map(plan.pages.set_index("page")["case"]), seed=seed, level=name)


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
    made = [(level, given.first + n) for level in given.levels for n in range(given.seeds)]
    rows = pd.concat([other_cases(level, seed) if ":" in level else cases(given.pages, seed, level) for level, seed in made])
    if given.out:
        rows.to_csv(given.out, index=False)
    for level, of_level in rows.groupby("level"):
        parts = {"all": of_level, **dict(list(of_level.groupby("cause")))}
        print(f"{level}\n{pd.DataFrame({name: told(part) for name, part in parts.items()}).T.round(3).to_string()}", flush=True)


if __name__ == "__main__":
    main()
