"""How verdicts bear what is missing: a random 5% of days, or a whole source.

Usage: python benchmarks/robust.py [--seeds 3] [--pages 400] [LEVEL ...]
"""

from __future__ import annotations

import argparse
import shutil
import sys
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd

import nibbet
from nibbet.demo.builder import FIRST_DAY, LAST_COMPLETE_DAY
from nibbet.demo.exports import write

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from score import against_truth, costly, macro_f1, without_days, without_source

SOURCES = ("crawl", "landings", "backlinks", "editorial", "pairs")


def verdicts(folder: Path) -> pd.DataFrame:
    """The pages of a workspace with their verdicts."""
    site = nibbet.open_site(folder)
    found = site.pages()
    site.close()
    return found


def main() -> None:
    """Print the share of verdicts kept without some days, and what a missing source costs."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("levels", nargs="*", default=["usual"])
    parser.add_argument("--seeds", type=int, default=3)
    parser.add_argument("--pages", type=int, default=400)
    given = parser.parse_args()
    days = pd.date_range(FIRST_DAY, LAST_COMPLETE_DAY)[:-1]
    for level in given.levels:
        for seed in range(9500, 9500 + given.seeds):
            with tempfile.TemporaryDirectory() as root:
                whole, part = Path(root) / "a" / "site", Path(root) / "b" / "site"
                whole.mkdir(parents=True)
                write(whole, pages=given.pages, seed=seed, level=level)
                shutil.copytree(whole.parent, part.parent)
                before = verdicts(whole)
                lost = np.random.default_rng(seed).choice(len(days), len(days) // 20, replace=False)
                without_days(part, [days[n] for n in sorted(lost)])
                both = before.merge(verdicts(part), on="page", suffixes=("", "_part"))
                said = both[both["verdict"].notna()]
                same = said["verdict"] == said["verdict_part"]
                changed = (said["verdict"] + " to " + said["verdict_part"].fillna("none"))[~same].value_counts().to_dict()
                print(f"{level} {seed}: {same.mean():.3f} keep their verdict without {len(lost)} days {changed}", flush=True)
                for name in SOURCES:
                    shutil.copy(whole / "nibbet.toml", Path(root) / "kept.toml")
                    without_source(whole, name)
                    found = against_truth(whole, verdicts(whole))
                    judged = found[found["verdict_true"] != ""]
                    score = macro_f1(judged["verdict_true"], judged["said"])
                    print(
                        f"   without {name}: macro-F1 {score:.3f}, costly {costly(found)[['case', 'verdict']].value_counts().to_dict()}",
                        flush=True,
                    )
                    shutil.copy(Path(root) / "kept.toml", whole / "nibbet.toml")


if __name__ == "__main__":
    main()
