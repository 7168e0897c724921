"""Who is seen in the results: counts are those of the snapshots, shares those of places and searches, the earlier snapshot stands beside."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.hosts import FIRST, seen_hosts

RATE = np.array([0.3, 0.15, 0.1, *[0.03] * (FIRST - 3)])


def snapshot(*rows: tuple[str, int, str]) -> pd.DataFrame:
    return pd.DataFrame(rows, columns=["query", "rank", "url"]).assign(title="A title: with two parts")


def test_shares_are_those_of_places_and_searches() -> None:
    now = snapshot(("a", 1, "https://www.rival.example/a"), ("a", 2, "https://own.example/a"), ("a", 3, "https://rival.example/b"), ("b", 1, "http://OWN.example:8080/b"),
                   ("b", 11, "https://late.example/"), ("c", 1, "https://rival.example/c?x"))  # fmt: skip
    then = snapshot(("a", 1, "https://own.example/a"), ("a", 2, "https://rival.example/a"))
    topics, demand = pd.Series({"a": "boats", "b": "boats"}), pd.Series({"a": 100.0, "b": 300.0})
    table = seen_hosts(now, then, topics, demand, RATE, frozenset({"own.example"}))
    whole = table[table["level"] == "all"].set_index("host")
    weights = {"rival.example": 100 * 0.3 + 200 * 0.3, "own.example": 100 * 0.15 + 300 * 0.3}  # c is searched as often as the median
    for host, weight in weights.items():
        assert whole.loc[host, "share"] == pytest.approx(weight / sum(weights.values()))
    assert whole["queries"].to_dict() == {"own.example": 2, "rival.example": 2}, "the best place of each query, the first ten alone"
    assert whole.loc["rival.example", "query_share"] == pytest.approx(2 / 3)
    assert whole.loc["own.example", "share_before"] == pytest.approx(0.3 / 0.45)
    boats = table[table["key"] == "boats"].set_index("host")
    assert boats["searches"].tolist() == [400.0, 400.0]
    assert (boats["own_share"] == boats.loc["own.example", "share"]).all()
    assert boats["share"].sum() == pytest.approx(1)
    assert seen_hosts(now.head(0), then, topics, demand, RATE, frozenset()).empty


def test_hosts_of_the_demo_are_those_of_the_snapshots(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with nibbet.open_site(ran) as site:
        table, topics = site.hosts(), site.topics()
    raw = pd.read_csv(ran / "results.csv.gz")
    raw = raw[(raw["Type"] == "result") & (raw["Rank"] <= 10)]
    raw["host"] = raw["Address"].str.split("/").str[2]
    best = raw.groupby(["host", "Search term"])["Rank"].min().reset_index()
    whole = table[table["level"] == "all"].set_index("host")
    assert whole["queries"].to_dict() == best.groupby("host").size().to_dict()
    assert whole["top3"].to_dict() == best[best["Rank"] <= 3].groupby("host").size().reindex(whole.index).fillna(0).astype(int).to_dict()
    np.testing.assert_allclose(whole["rank"], best.groupby("host")["Rank"].mean().reindex(whole.index))
    assert whole["share"].sum() == pytest.approx(1)
    assert whole.index[whole["own"]].tolist() == ["tarnbrook.example"]
    of_topics = table[table["level"] == "topic"]
    assert set(of_topics["key"]) <= set(topics["label"])
    absent = of_topics.loc[of_topics["own_share"] == 0, "key"].unique()
    assert 0 < len(absent) < of_topics["key"].nunique() / 2, "the site stands for most of what it is shown for"
    assert main(["hosts", str(ran), "-q", "--top", "3"]) == 0
    told = capsys.readouterr().out
    assert f"Absent in {len(absent)} of {of_topics['key'].nunique()} topics" in told
    assert "tarnbrook.example" in told
    assert main(["hosts", str(ran), "-q", "--topic", str(of_topics["key"].iloc[0]).upper()]) == 0
    assert of_topics["host"].iloc[0] in capsys.readouterr().out


def test_results_in_another_dress() -> None:
    days = pd.date_range("2026-10-01", "2026-10-31")
    search = pd.DataFrame({"Tag": days, "Seite": "/boote", "Suchanfrage": "boot mieten", "Klicks": 3, "Einblendungen": 40, "Position": 2.0})
    rows = [(day, "Boot mieten", n + 1, f"{host}/boote") for day, order in (("01.09.2026", "ab"), ("01.10.2026", "ba")) for n, host in enumerate(
        {"a": "tarnbrook.example", "b": "https://www.Rival.example"}[one] for one in order)]  # fmt: skip
    results = pd.DataFrame(rows, columns=["Datum", "Suchbegriff", "Platz", "Adresse"])
    with nibbet.Site(home="https://tarnbrook.example/", search=search, results=results) as site:
        table = site.hosts()
    whole = table[table["level"] == "all"].set_index("host")
    assert whole["rank"].to_dict() == {"rival.example": 1.0, "tarnbrook.example": 2.0}
    assert whole["own"].to_dict() == {"rival.example": False, "tarnbrook.example": True}
    assert whole.loc["tarnbrook.example", "share_before"] > whole.loc["tarnbrook.example", "share"], "it fell by a place"
