"""How far verdicts agree with the demo's hidden truth, beside the plain rules that a spreadsheet user applies to the same exports."""

from __future__ import annotations

import gzip
import re
from pathlib import Path

import numpy as np
import pandas as pd

from nibbet.core.windows import MONTH_DAYS
from nibbet.demo.builder import World
from nibbet.demo.exports import HOME
from nibbet.demo.scenario import mended
from nibbet.demo.simulate import expected_clicks

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


def roles_right(world: World, queries: pd.DataFrame) -> dict[str, float]:
    """How far the query map agrees with the world: owners right (share of queries whose true owner stands there), F1 of strays, and how
    well `answer` tells pairs that answer from those that do not (area under the ROC curve; of all, and of the words' part alone).
    """
    pages = world.pages.set_index("page")
    true = world.pairs[world.pairs["query"] != ""]
    true = true.assign(page=HOME + true["page"].map(pages["path"]), case=true["page"].map(pages["case"]), query=true["query"].str.lower())
    leads = true[(true["role"] == "own") & ~true["case"].isin(["duplicate", "moved", "broken"])]
    both = queries[queries["query"].notna() & (queries["impressions"] > 0)].merge(
        true[["page", "query", "role"]], on=["page", "query"], suffixes=("", "_true")
    )
    owner = queries[queries["role"] == "owner"].set_index("query")["page"]
    asked = leads[leads["query"].isin(both["query"])].drop_duplicates("query")
    said, is_stray = both["role"] == "stray", both["role_true"] == "stray"
    ranks, answers = both["answer"].rank(), both["role_true"].isin(["own", "shared"])
    return {
        "owner right": float((asked["query"].map(owner) == asked["page"]).mean()),
        "strays F1": float(2 * (said & is_stray).sum() / max(said.sum() + is_stray.sum(), 1)),
        "answer AUC": float((ranks[answers].sum() - answers.sum() * (answers.sum() + 1) / 2) / (answers.sum() * (~answers).sum())),
        "answer right": float(((both["answer"] >= 0.5) == answers).mean()),
    }


def without_days(folder: Path, days: list[pd.Timestamp]) -> None:
    """Take the rows of some days out of every search and visits file of a demo workspace (dates stand first in their lines)."""
    spelt = {form for day in days for form in (f"{day:%Y-%m-%d}", f"{day:%d.%m.%Y}", f"{day:%Y%m%d}")}
    for path in [*(folder / "search").glob("*.gz"), *(folder / "visits").glob("*.csv")]:
        opened = gzip.open if path.suffix == ".gz" else open
        with opened(path, "rb") as file:
            lines = file.read().splitlines(keepends=True)
        kept = [line for line in lines if re.split(rb'[",;\t]', line.lstrip(b'"'), maxsplit=1)[0].decode("utf-8", "replace") not in spelt]
        with opened(path, "wb") as file:
            file.write(b"".join(kept))


def without_source(folder: Path, name: str) -> None:
    """Take a source out of the settings of a demo workspace: a kind, or `pairs` for the search rows that name queries."""
    settings = (folder / "nibbet.toml").read_text("utf-8")
    if name == "pairs":
        settings = settings.replace('"search/*.csv.gz"', '"search/pages-*.csv.gz"')
    else:
        settings = re.sub(rf'\[\[source\]\]\nkind = "{name}"\n.*?(?=\n\[)', "", settings, flags=re.DOTALL)
    (folder / "nibbet.toml").write_text(settings, "utf-8")


def costly(both: pd.DataFrame) -> pd.DataFrame:
    """The rows of `against_truth` that would cost a page that matters."""
    removed = both["case"].isin(NEVER_PRUNED) & (both["verdict"] == "prune")
    return both[removed | ((both["case"] == "look_alike") & (both["verdict"] == "consolidate"))]


def promises(world: World, verdicts: pd.DataFrame, groups: pd.DataFrame, days: int) -> pd.DataFrame:
    """One row per promised gain: cause, page, gain, gain_low, gain_high, and true: the clicks a month that the world gains once mended."""
    gained = (expected_clicks(mended(world), days) - expected_clicks(world, days)) * MONTH_DAYS / days
    stray = world.pairs["role"] == "stray"
    address = HOME + world.pages.set_index("page")["path"]
    own, drawn = (gained[rows].groupby(world.pairs["page"]).sum().rename(address) for rows in (~stray, stray))
    of_unit = gained.groupby(world.pairs["unit"]).sum()
    unit = world.pages["unit"].set_axis(address.to_numpy()).map(of_unit)
    refresh = verdicts[verdicts["cause"].isin(["decay", "climb", "snippet"])]
    expand, merges = verdicts[verdicts["cause"] == "strays"], groups[groups["survivor"].astype(bool)]
    parts = [
        refresh.assign(true=refresh["page"].map(own)),
        expand.assign(true=expand["page"].map(drawn)),
        merges.assign(cause="merge", true=merges["page"].map(unit)),
    ]
    return pd.concat(parts)[["cause", "page", "gain", "gain_low", "gain_high", "true"]].fillna({"true": 0.0})
