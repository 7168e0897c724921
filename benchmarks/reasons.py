"""Hold what is said of changes against what was planted: real or not, how wide, and why; on both kinds of made-up sites.

Usage: python benchmarks/reasons.py [--seeds 3] [--first 800] [--against year|before] [demo:LEVEL | KIND:LEVEL ...]

A change is true when the clicks meant for a page (its plan, without the wandering of ranks and without chance) differ by more than 10%.
"""

from __future__ import annotations

import argparse
import subprocess
import sys
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd
from elsewhere import DAYS, KINDS, _demand, live, plan_site, write
from numpy.typing import NDArray

import nibbet
from nibbet.demo.builder import LEVELS
from nibbet.demo.exports import HOME
from nibbet.demo.exports import write as write_demo
from nibbet.demo.scenario import build
from nibbet.demo.simulate import expected_clicks

Floats = NDArray[np.float64]
RECENT = 90
#: what was planted -> the words in which its cause may be told
CAUSES = {
    "decayed": ["rank"], "retitled": ["pull"], "demand_decline": ["demand"], "new": ["new"], "broken": ["gone"], "noindex": ["blocked"],
    "moved": ["moved"], "moved_to": ["moved", "new"], "sunk": ["rank"], "mild": ["rank"], "failed": ["gone"], "gone_moved": ["moved"],
    "fading": ["demand"], "new_undated": ["new"],
}  # fmt: skip


@dataclass(frozen=True)
class World:
    """A workspace, and per page (address) its planted case, the clicks meant for it in the recent and the reference window, and how searches
    for what it is about changed, where that is planted.
    """

    folder: Path
    pages: pd.DataFrame


def demo_world(folder: Path, level: str, seed: int, before: int) -> World:
    """A site of the demo."""
    folder.mkdir(parents=True)
    write_demo(folder, pages=400, seed=seed, level=level)
    world = build(400, seed, LEVELS[level])
    calm = 1e-3
    of_page = world.pairs["page"]
    sums = {
        name: expected_clicks(world, RECENT, before=days, noise=calm).groupby(of_page).sum()
        for name, days in (("now", 0), ("then", before))
    }
    pages = world.pages.set_index("page")
    table = pd.DataFrame({"case": pages["case"], **sums}).fillna({"now": 0.0, "then": 0.0})
    return World(folder, table.set_index(HOME + pages["path"]))


def other_world(folder: Path, kind: str, level: str, seed: int, before: int) -> World:
    """A site by the other hand, set up by `nibbet init` alone."""
    write(folder, kind, seed, level)
    subprocess.run([sys.executable, "-m", "nibbet", "init", str(folder)], check=True, capture_output=True)
    settings = (folder / "nibbet.toml").read_text("utf-8")
    (folder / "nibbet.toml").write_text(settings.replace("[site]\n", f'[site]\nbrand = ["{KINDS[kind].brand}"]\n', 1), "utf-8")
    site = plan_site(kind, seed, level)
    meant = live(site)[2].meant
    for page, old in site.pages["old"].dropna().items():  # until it moved, the old address had what is meant for the new one
        meant[int(old), : DAYS - 300], meant[page, : DAYS - 300] = meant[page, : DAYS - 300], 0.0
    now, then = meant[:, DAYS - RECENT :].sum(axis=1), meant[:, DAYS - RECENT - before : DAYS - before].sum(axis=1)
    table = pd.DataFrame({"case": site.pages["case"].to_numpy(), "now": now, "then": then}, index=site.pages["page"].to_numpy())
    searches, subject = _demand(plan_site(kind, seed, level)), site.intents["intent"].str.split("|").str[0]
    of_subject = pd.DataFrame({
        "now": searches[:, DAYS - RECENT :].sum(axis=1), "then": searches[:, DAYS - RECENT - before : DAYS - before].sum(axis=1)
    }).groupby(subject.to_numpy()).sum()  # fmt: skip
    return World(folder, table.assign(searches=site.pages["subject"].map(of_subject["now"] / of_subject["then"]).to_numpy()))


def held(found: pd.DataFrame, now: pd.Series, then: pd.Series, *, beside: pd.Series | None = None) -> dict[str, float]:
    """Of the rows of a level (by key): false ones among those called real, intervals that hold the truth, those of busy rows, power.

    beside: keys of which nothing is asked, for they came or went.
    """
    rows = found.set_index("key")
    now, then = now.reindex(rows.index).fillna(0), then.reindex(rows.index).fillna(0)
    use = ((rows["recent"] + rows["reference"] > 0) & ~rows.index.isin(beside if beside is not None else [])).to_numpy()
    share = np.where(then > 0, now / then.where(then > 0, 1.0) - 1, np.inf)
    still, real = np.abs(share) <= 0.1, rows["real"].to_numpy(bool)
    inside = (rows["change_low"] <= now - then) & (now - then <= rows["change_high"])
    busy = use & (then >= 100).to_numpy()
    large = busy & (np.abs(share) > 0.25)
    return {
        "called": float((real & use).sum()),
        "false": float((real & still & use).sum()),
        "inside": float(inside[use].mean()) if use.any() else np.nan,
        "inside, busy": float(inside[busy].mean()) if busy.any() else np.nan,
        "power": float(real[large].mean()) if large.any() else np.nan,
        "large": float(large.sum()),
    }


def score(world: World, against: str) -> dict[str, float]:
    """All figures of one site."""
    with nibbet.open_site(world.folder) as site:
        changes, ledger = site.compare(against=against), site.pages().set_index("page")
    clicks, truth = changes[changes["measure"] == "clicks"], world.pages
    of = {str(level): rows for level, rows in clicks.groupby("level")}
    scale = float(of["site"]["reference"].iloc[0] / max(ledger["clicks_reference"].sum(), 1)) if against == "year" else 1.0
    now, then = truth["now"], truth["then"] * scale
    came = truth.index[truth["case"].isin(["new", "new_undated", "failed", "broken", "noindex", "moved", "moved_to", "gone_moved"])]
    section = ledger["section"].reindex(truth.index)
    out = {f"page {name}": value for name, value in held(of["page"], now, then, beside=came.to_series()).items()}
    out |= {
        f"section {name}": value for name, value in held(of["section"], now.groupby(section).sum(), then.groupby(section).sum()).items()
    }
    whole = {"site": now.sum()}, {"site": then.sum()}
    out |= {f"site {name}": value for name, value in held(of["site"], *map(pd.Series, whole)).items()}
    rows = of["page"].set_index("key")
    rows = rows[rows["real"].astype(bool)]
    case = truth["case"].reindex(rows.index)
    wanted = case.map(CAUSES)
    known = wanted.notna()
    # two things may befall a page: it is new besides, or its whole section is searched less
    steady = truth[truth["case"].isin(["healthy", "steady"]) & (truth["then"] > 0)]
    course = (steady["now"] / steady["then"]).groupby(section.reindex(steady.index)).median()
    fading = section.reindex(rows.index).map(course).fillna(1.0) < 0.8
    if "searches" in truth:
        fading |= truth["searches"].reindex(rows.index).fillna(1.0) < 0.8
    born = truth["then"].reindex(rows.index) <= 0.05 * truth["now"].reindex(rows.index)
    right = [
        why in words or (why == "new" and new) or (why == "demand" and fades)
        for why, words, new, fades in zip(rows["why"][known], wanted[known], born[known], fading[known], strict=True)
    ]
    out["cause right"] = float(np.mean(right)) if right else np.nan
    quiet = case.isin(["healthy", "steady", "hub", "look_alike"])
    out["steady pages told rank or pull"] = float(rows["why"][quiet].isin(["rank", "pull"]).sum())
    return out


def main() -> None:
    """Print the figures of every site, and their means; false ones are pooled over seeds."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=3)
    parser.add_argument("--first", type=int, default=800)
    parser.add_argument("--against", default="year", choices=["year", "before"])
    every = [*(f"demo:{level}" for level in LEVELS), *(f"{kind}:{level}" for kind in KINDS for level in ("usual", "hard"))]
    parser.add_argument("sites", nargs="*", default=every)
    given = parser.parse_args()
    before = {"year": 365, "before": RECENT}[given.against]
    for name in given.sites:
        kind, _, level = name.partition(":")
        found = []
        for seed in range(given.first, given.first + given.seeds):
            with tempfile.TemporaryDirectory() as root:
                folder = Path(root) / "site"
                make: Callable[[], World] = (
                    (lambda: demo_world(folder, level, seed, before))  # noqa: B023 - called at once
                    if kind == "demo"
                    else (lambda: other_world(folder, kind, level, seed, before))  # noqa: B023
                )
                found.append(score(make(), given.against))
            print(name, seed, {key: round(value, 3) for key, value in found[-1].items()}, flush=True)
        table = pd.DataFrame(found)
        mean = table.mean()
        for part in ("page", "section", "site"):
            mean[f"{part} false share"] = table[f"{part} false"].sum() / max(table[f"{part} called"].sum(), 1)
        print("mean", name, mean.round(3).to_dict(), flush=True)


if __name__ == "__main__":
    main()
