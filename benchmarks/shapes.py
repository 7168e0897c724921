"""One world in every shape of exports: verdicts against the truth beside those from daily rows, and totals to the click.

Usage: python benchmarks/shapes.py [--seeds 10] [--pages 400] [--level usual] [SHAPE ...]
"""

from __future__ import annotations

import argparse
import shutil
import sys
import tempfile
from pathlib import Path

import pandas as pd

import nibbet
from nibbet.demo.exports import write
from nibbet.demo.shapes import RECENT, SHAPES, WHOLE_YEAR, YEAR_BEFORE, daily_pages, daily_pairs, reshape, within

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from score import against_truth, costly, macro_f1

#: macro-F1 that a shape must reach, as a share of what daily rows give
ASKED = {"undated": 0.85, "sidebyside": 0.85, "service": 0.85, "monthly": 0.85, "screens": 0.5, "pages": 0.35, "short": 0.5}


def true_clicks(folder: Path, shape: str) -> dict[str, int]:
    """Clicks of the recent, reference and long window as the daily files of the workspace hold them, for shapes whose windows are told."""
    if shape in ("monthly", "short", "daily", "screens"):
        return {}
    rows = daily_pairs(folder) if shape == "undated" else daily_pages(folder)
    rows = rows[~rows["page"].str.contains("forum.")]
    return {
        name: int(within(rows, days)["clicks"].sum())
        for name, days in (("clicks", RECENT), ("clicks_reference", YEAR_BEFORE), ("clicks_long", WHOLE_YEAR))
    }


def score(base: Path, shape: str) -> dict[str, float]:
    """Macro-F1, costly mistakes, and whether totals are right to the click (1) or not (0)."""
    with tempfile.TemporaryDirectory() as root:
        folder = Path(root) / "site"
        shutil.copytree(base / "site", folder)
        shutil.copy(base / "truth.csv", folder.parent / "truth.csv")
        wanted = true_clicks(folder, shape)
        reshape(folder, shape)
        with nibbet.open_site(folder) as site:
            pages = site.pages()
        both = against_truth(folder, pages)
    judged = both[both["verdict_true"] != ""]
    return {
        "macro-F1": macro_f1(judged["verdict_true"], judged["said"]),
        "costly": float(len(costly(both))),
        "totals right": float(all(int(pages[name].sum()) == clicks for name, clicks in wanted.items())),
    }


def main() -> None:
    """Print mean and worst of the seeds by shape, and the share of what daily rows give."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("shapes", nargs="*", default=list(SHAPES))
    parser.add_argument("--seeds", type=int, default=10)
    parser.add_argument("--pages", type=int, default=400)
    parser.add_argument("--level", default="usual")
    given = parser.parse_args()
    rows = []
    for seed in range(given.seeds):
        with tempfile.TemporaryDirectory() as root:
            base = Path(root)
            (base / "site").mkdir()
            write(base / "site", pages=given.pages, seed=9100 + seed, level=given.level)
            rows += [{"seed": seed, "shape": shape, **score(base, shape)} for shape in dict.fromkeys(["daily", *given.shapes])]
    table = pd.DataFrame(rows)
    daily = table[table["shape"] == "daily"].set_index("seed")["macro-F1"]
    table["share"] = table["macro-F1"] / table["seed"].map(daily)
    for shape, own in table.groupby("shape", sort=False):
        print(
            f"{shape}: macro-F1 {own['macro-F1'].mean():.3f} ({own['macro-F1'].min():.3f} to {own['macro-F1'].max():.3f}), "
            f"{own['share'].mean():.3f} of daily (worst {own['share'].min():.3f}, asked {ASKED.get(str(shape), 1.0)}), "
            f"costly {own['costly'].sum():.0f}, totals right in {own['totals right'].mean():.0%}",
            flush=True,
        )


if __name__ == "__main__":
    main()
