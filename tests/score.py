"""How far verdicts agree with the demo's hidden truth, beside the plain rules that a spreadsheet user applies to the same exports."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

VERDICTS = ["watch", "prune", "consolidate", "refresh", "expand", "keep"]
NEVER_PRUNED = {"dead_selling", "dead_linked", "dead_protected", "new", "seasonal", "hub"}


def macro_f1(truth: pd.Series, said: pd.Series) -> float:
    """Mean over the six verdicts of 2 x hits / (2 x hits + misses + false alarms)."""
    scores = []
    for verdict in VERDICTS:
        hits = int(((truth == verdict) & (said == verdict)).sum())
        wrong = int(((truth == verdict) ^ (said == verdict)).sum())
        scores.append(2 * hits / (2 * hits + wrong) if hits or wrong else 1.0)
    return float(np.mean(scores))


def against_truth(folder: Path, said: pd.DataFrame) -> pd.DataFrame:
    """Truth and verdict side by side, one row per page of the truth; a verdict that the truth also accepts counts as right."""
    truth = pd.read_csv(folder.parent / "truth.csv", keep_default_na=False)
    both = truth.merge(said[["page", "verdict", "cause", "target"]], on="page", how="left", suffixes=("_true", ""))
    both["said"] = both["verdict"].fillna("").where(both["verdict"] != both["also_right"], both["verdict_true"])
    return both


def plain_rules(folder: Path) -> pd.DataFrame:
    """What a spreadsheet gives: addresses looked up as they are, zero clicks in 90 days = prune, down 20% = refresh, shared top query = consolidate."""
    crawl = pd.read_excel(folder / "inventory.xlsx", engine="calamine")[["Address of page"]].set_axis(["page"], axis=1)
    search = pd.concat([pd.read_csv(path) for path in sorted((folder / "search").glob("pages-*.csv.gz"))])
    search["Day"] = pd.to_datetime(search["Day"])
    last = search["Day"].max()
    recent = search[search["Day"] > last - pd.Timedelta(days=90)].groupby("Address")["Clicks"].sum()
    before = (
        search[(search["Day"] <= last - pd.Timedelta(days=90)) & (search["Day"] > last - pd.Timedelta(days=180))]
        .groupby("Address")["Clicks"]
        .sum()
    )
    queries = pd.concat([pd.read_csv(path, sep=";") for path in sorted((folder / "search").glob("queries-2026-*.csv.gz"))])
    top = (
        queries.groupby(["Zielseite", "Suchbegriff"])["Klicks"]
        .sum()
        .reset_index()
        .sort_values("Klicks", ascending=False)
        .drop_duplicates("Zielseite")
    )
    shared = set(top[top.duplicated("Suchbegriff", keep=False)]["Zielseite"])
    # the sheet's own repair of addresses: the host written as search writes it
    known = crawl["page"].where(crawl["page"].isin(recent.index), crawl["page"].str.replace("https://", "https://www.", regex=False))
    clicks, earlier = known.map(recent).fillna(0), known.map(before).fillna(0)
    rules = [clicks == 0, known.isin(shared), clicks < 0.8 * earlier]
    return crawl.assign(verdict=np.select(rules, ["prune", "consolidate", "refresh"], "keep"), cause="", target="")
