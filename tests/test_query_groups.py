"""Groups of queries: their sums are those of the rows, their intervals hold, and what stands out in them does."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.members import queries_in_groups
from nibbet.core.query_groups import REST, queries_of_groups, rates_of_groups


def rows_of(rng: np.random.Generator, pages: int, each: int, pull: float, spread: float, first: int = 0) -> pd.DataFrame:
    """Made-up rows of the query map: `pages` pages with `each` queries of their own, chosen `pull` as often as usual on average."""
    own = np.repeat(rng.lognormal(np.log(pull) - spread**2 / 2, spread, pages), each)
    impressions = rng.integers(20, 400, pages * each)
    expected = impressions * rng.uniform(0.02, 0.3, pages * each)
    place = rng.uniform(1, 12, pages * each)
    return pd.DataFrame(
        {
            "query": np.arange(pages * each) + first,
            "page": np.repeat(np.arange(pages), each) + first,
            "brand": False,
            "clicks": rng.poisson(expected * own),
            "impressions": impressions,
            "expected_clicks": expected,
            "position_sum": place * impressions,
            "placed": impressions,
        }
    )


def test_sums_count_each_query_once_and_balance() -> None:
    rows = pd.concat([rows_of(np.random.default_rng(1), 30, 4, 1.0, 0.2), rows_of(np.random.default_rng(2), 10, 2, 1.0, 0.2, first=1000)])
    rows["brand"] = rows["query"] % 10 == 0
    members = pd.DataFrame({"group": ["one"] * 40 + ["two"] * 30, "query": [*range(40), *range(20, 50)]})
    table = rates_of_groups(rows, members, ["one", "two", "none"]).set_index("group")
    assert list(table.index) == ["one", "two", "none", REST]
    for name, inside in (("one", rows["query"] < 40), ("two", rows["query"].between(20, 49)), (REST, rows["query"] >= 50)):
        part, row = rows[inside], table.loc[name]
        assert (row["clicks"], row["impressions"]) == (part["clicks"].sum(), part["impressions"].sum())
        assert (row["queries"], row["pages"]) == (part["query"].nunique(), part["page"].nunique())
        assert row["ctr"] == pytest.approx(part["clicks"].sum() / part["impressions"].sum())
        assert row["pull"] == pytest.approx(part["clicks"].sum() / part["expected_clicks"].sum())
        assert row["position"] == pytest.approx(np.average(part["position_sum"] / part["placed"], weights=part["impressions"]))
        assert row["brand_share"] == pytest.approx(part.loc[part["brand"], "impressions"].sum() / part["impressions"].sum())
        assert row["pull_low"] < row["pull"] < row["pull_high"]
    both = rows.loc[rows["query"].between(20, 39), "impressions"].sum()
    assert table.loc["one", "shared_share"] == pytest.approx(both / table.loc["one", "impressions"])
    assert table.loc[REST, "shared_share"] == 0
    assert table.loc["none", "queries"] == 0, "a group without a query says so"
    assert np.isnan(table.loc["none", "ctr"])
    assert table.loc[["one", REST], "site_share"].sum() + table.loc["two", "site_share"] > 1, "what stands in two groups counts in both"


@pytest.mark.parametrize(("pages", "spread"), [(4, 0.3), (12, 0.15), (60, 0.5)])
@pytest.mark.slow
def test_intervals_of_pull_hold_the_truth(pages: int, spread: float) -> None:
    inside, rng, tries = 0, np.random.default_rng(pages), 300
    for _ in range(tries):
        rows = rows_of(rng, pages, 5, 0.8, spread)
        table = rates_of_groups(rows, pd.DataFrame({"group": "g", "query": rows["query"]}), ["g"], rest=False)
        inside += bool(table["pull_low"].iloc[0] <= 0.8 <= table["pull_high"].iloc[0])
    assert 0.92 <= inside / tries <= 0.995, inside / tries


def test_queries_that_fall_out_of_their_group_are_flagged_and_few_others() -> None:
    rng = np.random.default_rng(8)
    rows = rows_of(rng, 200, 2, 0.6, 0.2)
    low = rows.index[(rows["expected_clicks"] > 50)][:15]
    rows.loc[low, "clicks"] = rng.poisson(rows.loc[low, "expected_clicks"] * 0.6 * 0.25)
    table = queries_of_groups(rows, pd.DataFrame({"group": "g", "query": rows["query"]})).set_index("query")
    planted = table["flag"].reindex(rows.loc[low, "query"])
    assert (planted == "low").mean() >= 0.75, "chosen a quarter as often as is usual in the group"
    others = table.drop(rows.loc[low, "query"])
    assert (others["flag"] != "").sum() <= 2, "the whole group is chosen seldom; that is no fault of one of its queries"
    assert (table["usual"] == table["usual"].iloc[0]).all()


def test_a_group_of_the_settings_has_the_sums_of_the_rows(ran: Path) -> None:
    with nibbet.open_site(ran) as site:
        groups = site.query_groups().set_index("group")
        assert list(groups.index) == ["hire", "beginners", "questions", REST]
        queries = site.queries().dropna(subset=["query"])
        hire = queries[queries["query"].str.contains(r"\bhire\b") & (queries["impressions"] > 0)]
        assert groups.loc["hire", "clicks"] == hire["clicks"].sum()
        assert groups.loc["hire", "impressions"] == hire["impressions"].sum()
        assert groups.loc["hire", "queries"] == hire["query"].nunique() > 10
        window = site.windows.recent
        found = site.sql(
            "SELECT sum(clicks) AS clicks FROM search WHERE query LIKE '%hire%' AND date BETWEEN $first AND $last",
            first=str(window.start), last=str(window.end),
        )  # fmt: skip
        assert found["clicks"].iloc[0] == hire["clicks"].sum(), "the rows of the export say the same"
        changes = site.compare(by="group").query("level == 'query group'").set_index("key")
        assert groups.loc["hire", "change"] == pytest.approx(changes.loc["hire", "change"])
        made_up = site.queries_like("hire")
        assert made_up["rates"]["clicks"].iloc[0] == hire["clicks"].sum()
        assert made_up["pages"]["impressions"].sum() == hire["impressions"].sum(), "its pages hold all of it"
        assert made_up["queries"]["clicks"].sum() == hire["clicks"].sum()
        members = site.group_queries()
        assert members.groupby("group")["clicks"].sum()["hire"] == hire["clicks"].sum()


def test_groups_on_the_command_line(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["query", "--site", str(ran), "-q"]) == 0
    assert "questions" in capsys.readouterr().out
    assert main(["query", "--site", str(ran), "-q", "--like", "hire", "--like", "re:^how "]) == 0
    told = capsys.readouterr().out
    assert "hire, re:^how : " in told
    assert "all other queries" in told
    assert main(["query", "--site", str(ran), "-q", "--like", "HIRE", "--format", "json"]) == 0
    assert all("hire" in row["query"] for row in json.loads(capsys.readouterr().out))
    for arguments, message in (
        (["--like", "nothing has it"], "Try a shorter word"),
        (["--like", "re:("], "RE2"),
        (["canoe", "--like", "x"], "not both"),
    ):
        assert main(["query", "--site", str(ran), "-q", *arguments]) == 2
        assert message in capsys.readouterr().err


def test_words_of_a_group_are_whole_words_in_any_case_and_accent() -> None:
    texts = pd.Series(["canoë hire", "CANOE trips".lower(), "canoes", "hire a canoe", "how to hire", "outrigger-canoe", "kayak"])
    members = queries_in_groups(texts, {"canoe": ["Canoe"], "how": ["re:^how "], "both": ["canoe", "re:kay"], "none": ["zzz"]})
    held = members.groupby("group")["query"].agg(set).to_dict()
    assert held == {
        "canoe": {"canoë hire", "canoe trips", "hire a canoe", "outrigger-canoe"},
        "how": {"how to hire"},
        "both": {"canoë hire", "canoe trips", "hire a canoe", "outrigger-canoe", "kayak"},
    }
    with pytest.raises(nibbet.ConfigError, match=r"\[groups.queries\] odd: 're:\(' is no expression of RE2"):
        queries_in_groups(texts, {"odd": ["re:("]})
    with nibbet.Site("https://tarnbrook.example/", search=pd.DataFrame(
        {"date": pd.date_range("2026-08-01", periods=40), "page": "/a/", "query": "canoe", "clicks": 2, "impressions": 40, "position": 3.0}
    )) as site:  # fmt: skip
        with pytest.raises(nibbet.ConfigError, match="words: 're:"):
            site.queries_like("re:(")
        with pytest.raises(nibbet.NotFoundError, match="Try a shorter word"):
            site.queries_like("kayak")
        with pytest.raises(nibbet.NotFoundError, match="Did you mean pages"):
            site.table("page")
        assert site.queries_like("canoe")["rates"]["queries"].tolist() == [1, 0]
        assert site.query_groups().empty, "no groups are named"


def test_queries_whose_pages_no_row_tells_make_groups_too() -> None:
    days = pd.date_range("2026-08-01", periods=60).repeat(2)
    rows = pd.DataFrame(
        {"date": days, "query": ["canoe hire", "river map"] * 60, "clicks": [2, 1] * 60, "impressions": 40, "position": 3.0}
    )
    with nibbet.Site("https://tarnbrook.example/", search=rows, settings={"groups": {"queries": {"hire": ["hire"]}}}) as site:
        groups = site.query_groups().set_index("group")
        assert groups.loc["hire", ["queries", "pages"]].tolist() == [1, 0]
        assert groups.loc["hire", "clicks"] == 2 * groups.loc[REST, "clicks"] > 20
