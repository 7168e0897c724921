"""Several inventories of one site: the newest is believed, and titles that changed between them are held against what was."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.config import make_config

HOME = "https://tarnbrook.example"
DAYS = pd.date_range("2026-03-01", "2026-10-31")
SEARCH = f'[site]\nhome = "{HOME}/"\n[[source]]\nkind = "search"\nfiles = "search.csv"\n'
CRAWLS = '[[source]]\nkind = "crawl"\nfiles = "crawl-*.csv"\n[[source]]\nkind = "links"\nfiles = "links-*.csv"\n'


def workspace(folder: Path, *names: str, settings: str = CRAWLS) -> nibbet.Site:
    """Three pages, an old inventory and a new one under these names."""
    paths = [HOME + path for path in ("/owl", "/heron", "/otter")]
    rows = pd.DataFrame({"page": paths}).merge(pd.DataFrame({"date": DAYS.strftime("%Y-%m-%d")}), how="cross")
    rows.assign(query="bird", clicks=3, impressions=60, position=4.0).to_csv(folder / "search.csv", index=False)
    old = pd.DataFrame({"page": paths, "status": 200, "title": ["Owl", "Heron", "Otter"], "words": [300, 400, 500]})
    new = pd.DataFrame({"page": paths[:2], "status": [200, 404], "title": ["Owl: when and where", None]})
    for name, table in zip(names, (old, new), strict=True):
        table.to_csv(folder / f"crawl-{name}.csv", index=False)
    before = pd.DataFrame(
        {"source": [paths[0], paths[0], paths[1]], "target": [paths[1], HOME + "/gone", paths[2]], "status": [200, 404, 200]}
    )
    before.to_csv(folder / f"links-{names[0]}.csv", index=False)
    pd.DataFrame({"source": paths[:1], "target": paths[1:2], "status": [404]}).to_csv(folder / f"links-{names[1]}.csv", index=False)
    (folder / "nibbet.toml").write_text(SEARCH + settings)
    return nibbet.open_site(folder)


def codes(site: nibbet.Site) -> set[str]:
    return {note["code"] for note in site.account["notes"]}


@pytest.mark.parametrize("names", [("2026-06-01", "2026-10-30"), ("z 12.04.2026", "a 30.10.2026"), ("april-2026", "oktober-2026")])
def test_the_newest_inventory_is_believed(tmp_path: Path, names: tuple[str, str]) -> None:
    with workspace(tmp_path, *names) as site:
        pages, links, sources = site.ledger().set_index("page"), site.broken_links(), site.account["sources"]
        assert "older_inventory" in codes(site)
    assert pages.loc[HOME + "/heron", "status"] == 404, "it lived when the older one was taken"
    assert pages.loc[HOME + "/owl", ["title", "words"]].tolist() == ["Owl: when and where", 300], "words stand only in the older one"
    assert pages.loc[HOME + "/otter", "title"] == "Otter"
    assert links["target"].tolist() == [HOME + "/heron"], "the older link to /gone is mended"
    account = {one["file"]: one for one in sources if one["kind"] == "links"}
    assert account[f"links-{names[0]}.csv"]["set_aside"] == [{"reason": "older export", "rows": 2, "measures": {}}]
    assert all(one["rows_read"] == one["rows_used"] + sum(part["rows"] for part in one["set_aside"]) for one in sources)


def test_what_no_name_dates_is_doubted_and_can_be_dated(tmp_path: Path) -> None:
    with workspace(tmp_path, "a", "b") as site:
        assert site.ledger().set_index("page").loc[HOME + "/heron", "status"] == 200
        assert "undated_inventories" in codes(site)
        assert site.title_changes().empty
    dated = '[[source]]\nkind = "crawl"\nfiles = "crawl-{}.csv"\nconstant = {{ crawled = "{}" }}\n'
    settings = dated.format("a", "2026-06-01") + dated.format("b", "2026-10-30")
    with workspace(tmp_path, "a", "b", settings=settings) as site:
        assert site.ledger().set_index("page").loc[HOME + "/heron", "status"] == 404
        assert "undated_inventories" not in codes(site)


@pytest.mark.parametrize("agents", [[], ["otherbot"]])
def test_what_is_said_to_one_robot_counts_where_it_is_a_search_engines(agents: list[str]) -> None:
    paths = [HOME + path for path in ("/owl", "/heron")]
    search = pd.DataFrame(
        {"date": DAYS.strftime("%Y-%m-%d"), "page": paths[0], "query": "owl", "clicks": 3, "impressions": 60, "position": 4.0}
    )
    crawl = pd.DataFrame({"page": paths, "status": 200, "noindex": "index", "noindex_for": ["slowbot, OtherBot", None]})
    settings = make_config({"site": {"home": HOME + "/", "search_agents": agents}})
    with nibbet.Site(config=settings, search=search, crawl=crawl) as site:
        assert site.ledger()["indexable"].tolist() == [True, not agents]
        assert ("noindex_alone" in codes(site)) is not bool(agents)
        assert site.repairs()["repair"].eq("noindex").any() == bool(agents)


def changed(seed: int, effects: np.ndarray, crawls: tuple[str, str], *, pages: int = 70) -> nibbet.Site:
    """A site of which the first pages got other titles between two crawls: from then on they are chosen so many times as often."""
    rng = np.random.default_rng(seed)
    paths = np.array([f"{HOME}/page-{n}" for n in range(pages)])
    place, pull = rng.uniform(1.5, 9, pages), rng.lognormal(0, 0.25, pages)
    number, day = np.repeat(np.arange(pages), len(DAYS)), np.tile(np.arange(len(DAYS)), pages)
    moved = np.clip(place[number] * np.exp(0.1 * rng.standard_normal(len(number))), 1, None)
    shown = rng.poisson(60 * (1 + 0.4 * np.sin(day / 30)))
    rate = 0.3 * moved**-0.9 * pull[number] * np.exp(0.05 * rng.standard_normal(len(number))) * np.where(day > 150, 0.9, 1.0)
    after = DAYS[day] > pd.Timestamp("2026-06-20")
    rate = rate * np.where(after & (number < len(effects)), effects[np.minimum(number, len(effects) - 1)], 1.0)
    search = pd.DataFrame({"date": DAYS[day].strftime("%Y-%m-%d"), "page": paths[number], "query": [f"thing {n}" for n in number]})
    search = search.assign(clicks=rng.binomial(shown, np.clip(rate, 0, 0.9)), impressions=shown, position=moved.round(1))
    before = pd.DataFrame({"page": paths, "status": 200, "title": [f"Page of thing {n}" for n in range(pages)], "crawled": crawls[0]})
    titles = [f"All on thing {n}, with prices" if n < len(effects) else title for n, title in enumerate(before["title"])]
    crawl = pd.concat([before, before.assign(title=titles, crawled=crawls[1])])
    return nibbet.Site(config=make_config({"site": {"home": HOME + "/"}}), search=search, crawl=crawl)


@pytest.mark.slow
def test_what_changed_titles_did_is_told_with_its_interval() -> None:
    truth = np.array([1.0] * 12 + [1.5] * 8)
    inside, named, wrongly, together = [], [], [], []
    for seed in range(4):
        with changed(seed, truth, ("2026-06-15", "2026-06-25")) as site:
            rows = site.title_changes()
            together.append(site.table("title_trials").set_index("change").loc["all changes"])
        true = truth[rows["page"].str.rpartition("-")[2].astype(int)]
        assert len(rows) == len(truth)
        inside += ((rows["effect_low"] <= true) & (true <= rows["effect_high"])).tolist()
        named += rows.loc[true > 1, "real"].tolist()
        wrongly += rows.loc[true == 1, "real"].tolist()
    assert np.mean(inside) >= 0.88
    assert np.mean(named) >= 0.6
    assert np.mean(wrongly) <= 0.1
    mean = np.exp(np.log(truth).mean())
    assert sum(one["effect_low"] <= mean <= one["effect_high"] for one in together) >= 3
    assert rows["because"].str.contains("Since its title changed between 2026-06-15 and 2026-06-25, CTR at the same position is").all()


@pytest.mark.parametrize(
    ("crawls", "said"),
    [
        (("2026-09-01", "2026-10-30"), "too early to measure the effect before 2026-11-20"),
        (("2026-03-05", "2026-04-01"), "do not cover 14 days before"),
    ],
)
def test_changes_without_days_on_both_sides_are_told_as_such(crawls: tuple[str, str], said: str) -> None:
    with changed(1, np.array([1.2, 1.2]), crawls, pages=8) as site:
        rows = site.title_changes()
    assert rows["effect"].isna().all()
    assert rows["because"].str.contains(said).all()
    assert not rows["real"].any()


def test_rows_without_days_do_not_tell_what_a_title_did(tmp_path: Path) -> None:
    workspace(tmp_path, "2026-06-01", "2026-07-01").close()
    rows = pd.read_csv(tmp_path / "search.csv")
    rows = rows.assign(month=rows.pop("date").str[:7]).groupby(["page", "query", "month"], as_index=False)
    rows.agg({"clicks": "sum", "impressions": "sum", "position": "mean"}).to_csv(tmp_path / "search.csv", index=False)
    with nibbet.open_site(tmp_path) as site:
        assert site.title_changes()["because"].str.contains("without daily rows the effect is unknown").tolist() == [True]


def test_planted_titles_are_found_with_what_they_cost(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    truth = pd.read_csv(ran.parent / "truth.csv") if (ran.parent / "truth.csv").exists() else None
    with nibbet.open_site(ran) as site:
        rows, pages = site.title_changes().set_index("page"), site.pages().set_index("page")
        search = site.sql(
            "SELECT page, date, clicks FROM search WHERE query IS NOT NULL AND NOT regexp_matches(query, 'tarn ?brook') "
            "AND (set_aside IS NULL OR set_aside = 'detail of page rows')"
        )
    day, counted = pd.to_datetime(search["date"]), rows[[]].copy()
    for page, changed in rows["changed_by"].items():  # ninety days before, and after the week in which engines learn of it
        mine = search[search["page"] == page].assign(back=(day - changed).dt.days)
        counted.loc[page, "before"] = mine.loc[mine["back"].between(-90, -1), "clicks"].sum()
        counted.loc[page, "after"] = mine.loc[mine["back"].between(8, 97), "clicks"].sum()
    assert truth is None or set(rows.index) == set(truth.loc[truth["case"] == "retitled", "page"])
    assert len(rows) >= 2
    assert rows["real"].any()
    assert (rows.loc[rows["real"], "effect"] < 0.75).all(), "planted titles are chosen less"
    assert (counted[["before", "after"]].to_numpy() == rows[["clicks_before", "clicks_after"]].to_numpy()).all(), "as the rows say"
    assert rows["title"].tolist() == pages.loc[rows.index, "title"].tolist()
    assert rows["because"].str.contains("Since its title and description changed on 2026-").all()
    assert main(["page", rows.index[0], "--site", str(ran), "-q"]) == 0
    assert "Restore the old text, or improve it." in " ".join(capsys.readouterr().out.split())


def test_changes_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    workspace(tmp_path, "2026-06-01", "2026-07-01").close()
    assert main(["titles", "--changes", str(tmp_path), "-q"]) == 0
    said = " ".join(capsys.readouterr().out.split())
    assert "Owl -> Owl: when and where" in said
    assert main(["titles", "--changes", str(tmp_path), "-q", "--format", "json"]) == 0
    assert [row["page"] for row in json.loads(capsys.readouterr().out)] == [HOME + "/owl"]
