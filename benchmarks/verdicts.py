"""Score the verdicts on made-up sites of every hardness, beside the plain rules of a spreadsheet on the same exports.

Usage: python benchmarks/verdicts.py [--seeds 10] [--pages 400] [LEVEL ...]
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

import pandas as pd

import nibbet
from nibbet.demo.builder import LEVELS
from nibbet.demo.exports import write
from nibbet.demo.scenario import build

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from score import NEVER_PRUNED, against_truth, macro_f1, plain_rules, roles_right


def score(level: str, seed: int, pages: int) -> dict[str, float]:
    """Macro-F1 of both, costly mistakes, and how often the survivor of a merge is the right one."""
    with tempfile.TemporaryDirectory() as root:
        folder = Path(root) / "site"
        folder.mkdir()
        write(folder, pages=pages, seed=seed, level=level)
        site = nibbet.open_site(folder)
        roles = roles_right(build(pages, seed, LEVELS[level]), site.queries())
        both, sheet = against_truth(folder, site.pages()), against_truth(folder, plain_rules(folder))
        site.close()
    judged, plain = (table[table["verdict_true"] != ""] for table in (both, sheet))
    merged = both[(both["case"] == "duplicate") & (both["verdict"] == "consolidate")]
    costly = (both["case"].isin(NEVER_PRUNED) & (both["verdict"] == "prune")) | (
        (both["case"] == "look_alike") & (both["verdict"] == "consolidate")
    )
    return {
        "macro-F1": macro_f1(judged["verdict_true"], judged["said"]),
        "plain rules": macro_f1(plain["verdict_true"], plain["said"]),
        "costly mistakes": float(costly.sum()),
        "survivor right": float((merged["target"] == merged["target_true"]).mean()),
        **roles,
    }


def main() -> None:
    """Print the mean and the worst of the seeds, per level."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("levels", nargs="*", default=["easy", "usual", "hard"])
    parser.add_argument("--seeds", type=int, default=10)
    parser.add_argument("--pages", type=int, default=400)
    given = parser.parse_args()
    for level in given.levels:
        table = pd.DataFrame([score(level, 9100 + seed, given.pages) for seed in range(given.seeds)])
        print(
            f"{level}: "
            + ", ".join(f"{name} {table[name].mean():.3f} ({table[name].min():.3f} to {table[name].max():.3f})" for name in table),
            flush=True,
        )


if __name__ == "__main__":
    main()
