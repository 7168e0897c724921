"""Score verdicts, redirects, topics and the query map on made-up sites by another hand (see `elsewhere`), set up by `nibbet init` alone.

Usage: python benchmarks/second.py [--seeds 10] [--first 100] [--show] [KIND[:LEVEL] ...]
"""

from __future__ import annotations

import argparse
import subprocess
import sys
import tempfile
import warnings
from pathlib import Path

import numpy as np
import pandas as pd
from elsewhere import KINDS, write
from sklearn.metrics import adjusted_rand_score

import nibbet

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from score import macro_f1

#: share of a query from which a page is a rival
RIVAL = 0.1


def told(folder: Path, name: str) -> pd.DataFrame:
    """A table of the truth."""
    return pd.read_csv(folder.parent / f"truth_{name}.csv", keep_default_na=False)


def judged(folder: Path, verdicts: pd.DataFrame) -> pd.DataFrame:
    """Truth beside verdict; a verdict that the truth also accepts counts as right."""
    both = told(folder, "pages").merge(verdicts, on="page", how="left", suffixes=("_true", ""))
    both["verdict"] = both["verdict"].astype(object).where(both["verdict"].notna(), "").astype(str)
    # of two twins either may be the one that stays
    twin = both.set_index("page")["verdict"].reindex(both["twin"]).fillna("").to_numpy()
    both["said"] = both["verdict"].where((both["verdict"] != both["also"]) | (both["also"] == ""), both["verdict_true"])
    swapped = (both["case"].isin(["double", "double_of"])) & (both["said"] != both["verdict_true"]) & (twin != both["said"])
    swapped &= both["said"].isin(["keep", "refresh", "consolidate"]) & np.isin(twin, ["keep", "refresh", "consolidate"])
    swapped &= (both["said"] == "consolidate") ^ (twin == "consolidate")
    both["said"] = both["said"].where(~swapped, both["verdict_true"])
    return both


def costly(both: pd.DataFrame) -> pd.DataFrame:
    """Verdicts that would cost a page that matters: removed though it is not dead, or merged into what is not its twin."""
    removed = (both["verdict"] == "prune") & (both["case"] != "dead")
    merged = (both["verdict"] == "consolidate") & ((both["twin"] == "") | (both["target"] != both["twin"]))
    return both[removed | merged]


def bad_redirects(folder: Path, redirects: pd.DataFrame) -> pd.DataFrame:
    """Redirects that lead searchers to another question, with what was right in `leads`."""
    pages = told(folder, "pages").set_index("page")
    rows = redirects[redirects["status"] == 301]
    rows = rows.assign(
        case=rows["from"].map(pages["case"]),
        of=rows["from"].map(pages["intent"]),
        to_=rows["to"].map(pages["intent"]),
        there=rows["to"].map(pages["case"]),
    )
    fine = (rows["of"] == rows["to_"]) & (rows["of"] != "") & (rows["there"] != "failed")
    hub = rows["there"].isin(["hub", "hub_visited", "home"])
    return rows[~fine & ~hub]


def score(folder: Path) -> tuple[dict[str, float], dict[str, pd.DataFrame]]:
    """All figures of one site, and the tables of what is wrong."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with nibbet.open_site(folder) as site:
            pages, queries, topics = site.pages(), site.queries(), site.topics()
            redirects, repairs, groups = site.redirects(), site.repairs(), site.groups()
            grouped = site._pipeline.query_map.grouped  # of queries that demand alone knows no table tells the topic
    both = judged(folder, pages[["page", "verdict", "cause", "target", "because"]])
    asked, pairs = told(folder, "queries"), told(folder, "pairs")
    known = both[both["verdict_true"] != ""]
    out = {"macro-F1": macro_f1(known["verdict_true"], known["said"]), "costly": len(costly(both))}
    for case, verdict in (("mild", "refresh"), ("sunk", "refresh"), ("draws", "expand")):
        mine = both[both["case"] == case]
        out[case] = float((mine["verdict"] == verdict).mean())
    merged = both[both["verdict"] == "consolidate"]
    right = (merged["twin"] != "") & (merged["target"] == merged["twin"])
    out["merges right"] = float(right.mean()) if len(merged) else 1.0
    out["merges found"] = float(right.sum() / both["case"].eq("double").sum())
    harmful = bad_redirects(folder, redirects)
    out["harmful"] = len(harmful)
    failed = both.loc[both["case"] == "failed", "page"]
    out["restore"] = float(failed.isin(repairs.loc[repairs["repair"] == "restore", "page"]).mean())
    out |= _topics(asked, queries, topics, grouped)
    out |= _roles(asked, pairs, queries, both)
    wrong = known[known["said"] != known["verdict_true"]][["path", "case", "verdict_true", "verdict", "cause", "because"]]
    return out, {"wrong": wrong, "costly": costly(both)[["path", "case", "verdict", "target"]], "harmful": harmful, "groups": groups}


def _topics(asked: pd.DataFrame, queries: pd.DataFrame, topics: pd.DataFrame, grouped: pd.DataFrame) -> dict[str, float]:
    """How near topics come to intents, beside the rule that a query's topic is the page shown most for it."""
    shown = queries[queries["query"].notna() & (queries["impressions"] > 0)].sort_values(
        ["query", "impressions", "page"], ascending=[True, False, True]
    )
    of_query = grouped.set_index("query")["topic"]
    plain = shown.drop_duplicates("query").set_index("query")["page"]
    truth = asked[(asked["intent"] != "brand") & asked["query"].isin(of_query.index)].set_index("query")
    drawn = truth[truth.index.isin(plain.index)]
    ours = drawn.index.to_series().map(of_query)
    both = {"ARI": ours, "ARI plain": drawn.index.to_series().map(plain)}
    out = {name: adjusted_rand_score(drawn["intent"], labels.astype(str)) for name, labels in both.items()}
    all_of = truth.assign(topic=truth.index.map(of_query), page=truth.index.map(plain))
    main = all_of.groupby(["intent", "topic"]).size().reset_index(name="n").sort_values(["intent", "n"], ascending=[True, False])
    first = main.drop_duplicates("intent").set_index("intent")["topic"]
    alike = [name.rsplit("_", 1) for name in asked["intent"].unique() if name.split("|")[-1].count("_")]
    stems = pd.DataFrame(alike, columns=["stem", "end"]).groupby("stem")["end"].agg(list)
    pairs = [(f"{stem}_{ends[0]}", f"{stem}_{ends[1]}") for stem, ends in stems.items() if len(ends) == 2]
    out["mixed"] = float(np.mean([first.get(a) == first.get(b) for a, b in pairs])) if pairs else 0.0
    share = main.merge(all_of.groupby("topic").size().rename("all"), on="topic")
    served = topics.set_index("topic")["served"]
    lone = asked.loc[asked["who"] != "owned", ["intent", "who"]].drop_duplicates()
    heads = share[(share["n"] * 2 > share["all"]) & share["topic"].map(served).eq("uncovered")]
    whole = asked.groupby("intent").size()
    proposed = heads.groupby("intent")["n"].sum().reindex(lone["intent"]).fillna(0) >= 0.5 * whole.reindex(lone["intent"])
    unseen = (lone["who"] == "unseen").to_numpy()
    return out | {"unseen proposed": float(proposed[unseen].mean()), "drawn proposed": float(proposed[~unseen].mean())}


def _roles(asked: pd.DataFrame, pairs: pd.DataFrame, queries: pd.DataFrame, both: pd.DataFrame) -> dict[str, float]:
    """Owners of contested queries, strays, and rivals: by the share of a query that a page has by its planted place, days shown and appeal."""
    known = queries.dropna(subset=["query", "page"])
    met = known[known["impressions"] > 0].merge(pairs, on=["page", "query"], suffixes=("", "_true"))
    alive = ~met["page"].isin(both.loc[both["case"].isin(["failed", "gone_moved"]), "page"])
    met = met[alive]
    contested = met.groupby("query")["page"].nunique()
    contested = contested[contested > 1].index
    own = met[(met["role_true"] == "own") & met["query"].isin(contested) & (met["intent"] != "brand")]
    of = own.groupby("query")["page"].agg(set)
    owner = known[known["role"] == "owner"].set_index("query")["page"]
    right = [owner.get(query) in pages for query, pages in of.items()]
    failed = both.loc[both["case"] == "failed", "page"]  # what such a page answered nobody can say to be astray or not
    lost = pairs.loc[pairs["page"].isin(failed) & (pairs["role"] == "own"), "query"]
    met = met[~met["query"].isin(lost)]
    said, is_stray = met["role"] == "stray", met["role_true"] == "stray"
    living = pairs[~pairs["page"].isin(both.loc[both["case"].isin(["failed", "gone_moved"]), "page"])]
    looks = living["shown"] * np.exp(-np.maximum(living["rank"] - 10, 0) / 14)
    clicks = looks * living["eager"] / living["rank"]
    share = np.maximum(*(part / part.groupby(living["query"]).transform("sum") for part in (looks, clicks)))
    planted = living.assign(share=share)[["page", "query", "share"]]
    beside = met[met["query"].isin(owner.index) & (met["role"] != "owner")].merge(planted, on=["page", "query"])
    rival, is_rival = beside["role"] == "rival", beside["share"] >= RIVAL
    return {
        "owner": float(np.mean(right)),
        "rivals F1": float(2 * (rival & is_rival).sum() / max(rival.sum() + is_rival.sum(), 1)),
        "strays F1": float(2 * (said & is_stray).sum() / max(said.sum() + is_stray.sum(), 1)),
    }


def main() -> None:
    """Print the figures of every site, and their means."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=10)
    parser.add_argument("--first", type=int, default=100)
    parser.add_argument("--show", action="store_true")
    parser.add_argument("--keep", type=Path)
    parser.add_argument("sites", nargs="*", default=[f"{kind}:{level}" for kind in KINDS for level in ("usual", "hard")])
    given = parser.parse_args()
    for name in given.sites:
        kind, _, level = name.partition(":")
        found = []
        for seed in range(given.first, given.first + given.seeds):
            with tempfile.TemporaryDirectory() as root:
                folder = (given.keep / f"{kind}-{level or 'usual'}-{seed}" if given.keep else Path(root)) / "site"
                if not (folder / "nibbet.toml").exists():
                    write(folder, kind, seed, level or "usual")
                    subprocess.run([sys.executable, "-m", "nibbet", "init", str(folder)], check=True, capture_output=True)
                    settings = (folder / "nibbet.toml").read_text("utf-8")
                    (folder / "nibbet.toml").write_text(
                        settings.replace("[site]\n", f'[site]\nbrand = ["{KINDS[kind].brand}"]\n', 1), "utf-8"
                    )
                figures, tables = score(folder)
            found.append(figures)
            print(name, seed, {key: round(value, 3) for key, value in figures.items()}, flush=True)
            if given.show:
                for title, table in tables.items():
                    print(f"-- {title}\n{table.to_string(max_colwidth=150)}" if table is not None and len(table) else f"-- {title}: none")
        print("mean", name, pd.DataFrame(found).mean().round(3).to_dict(), flush=True)


if __name__ == "__main__":
    main()
