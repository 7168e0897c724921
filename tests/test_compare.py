"""What changed and why: on the demo's hidden truth, on small sites worked out by hand, and through the command line."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable
from datetime import date
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.compare import CHAINS, CHANGES, LOSSES, shared_noise
from nibbet.core.members import pages_in_groups, queries_in_groups
from nibbet.core.peers import odd_segments, share_among_peers
from nibbet.core.season import annual_index, season_calendar, weekday_index
from nibbet.core.split import split_ratio
from nibbet.core.tables import PARTS
from nibbet.core.windows import Window, Windows
from nibbet.errors import ConfigError, NotFoundError

HOME = "https://tarnbrook.example/"


@pytest.fixture(scope="module")
def site(world: Callable[..., Path]) -> nibbet.Site:
    return nibbet.open_site(world(4211, 400))


def cases(site: nibbet.Site, table: pd.DataFrame, key: str = "key") -> pd.DataFrame:
    truth = pd.read_csv(site.root.parent / "truth.csv", keep_default_na=False)
    return truth.merge(table, left_on="page", right_on=key)


@pytest.mark.slow
def test_planted_causes_are_named(site: nibbet.Site) -> None:
    pages = cases(site, site.compare(by="page"))
    pages = pages[(pages["recent"] + pages["reference"] >= 100) & pages["real"]]
    for case, why in (("decayed", "rank"), ("retitled", "pull"), ("demand_decline", "demand")):
        mine = pages[pages["case"] == case]
        assert len(mine) >= 3
        assert mine["why"].eq(why).mean() >= 0.8, f"{case}: {mine['why'].tolist()}"
    named = pages["why"].isin(["rank", "pull"]) & pages["case"].isin(["healthy", "look_alike", "hub"])
    assert named.sum() <= 0.05 * len(cases(site, site.compare(by="page")).query("case in ['healthy', 'look_alike', 'hub']"))


@pytest.mark.slow
def test_a_season_is_called_a_season(site: nibbet.Site) -> None:
    sections = site.compare(against="before", by="section")
    sections = sections[(sections["measure"] == "clicks") & (sections["reference"] >= 1000)].set_index("key")
    low = sections[sections["change_share"] < -0.15]
    assert len(low) >= 3, "after the summer most sections of the demo have fewer clicks than before"
    assert low["why"].eq("season").all()
    assert not low["real"].any()
    calendar = site.seasons().query("level == 'section'").set_index("key")
    # hire has a summer of its own and a few pages that sell in deep winter: both stand
    assert {calendar.loc["/hire/", name].month for name in ("peak", "second_peak")} <= {1, 6, 7, 8}
    assert {calendar.loc["/hire/", name].month for name in ("peak", "second_peak")} & {6, 7, 8}
    assert calendar.loc["/hire/", "ready_by"] < calendar.loc["/hire/", "begins"] < calendar.loc["/hire/", "peak"]
    assert calendar.loc["/hire/", "weekend"] > 1.15 > calendar.loc["/shop/", "weekend"]


@pytest.mark.parametrize("against", ["year", pytest.param("before", marks=pytest.mark.slow)])
def test_every_level_adds_up(ran: Path, against: str) -> None:
    site = nibbet.open_site(ran)
    table = site.compare(against=against)
    assert list(table) == CHANGES
    clicks = table[table["measure"] == "clicks"]
    parts = clicks[PARTS].sum(axis=1)
    told = clicks["demand"].notna()
    assert np.allclose(parts[told], clicks["change"][told], atol=1e-6)
    of = {level: rows for level, rows in clicks.groupby("level")}
    whole = of["site"].iloc[0]
    for level in ("section", "page", "device"):
        for name in ("recent", "reference", "change"):
            assert of[level][name].sum() == pytest.approx(whole[name]), f"{level} {name}"
        assert np.allclose(of[level]["contribution"], of[level]["change"] / whole["reference"])
    for name in PARTS:
        assert of["section"][name].sum() == pytest.approx(whole[name])
    assert clicks[clicks["level"] == "site"]["recent"].iloc[0] == site.pages()["clicks"].sum()
    chain = table[table["measure"].isin(CHAINS)].dropna(subset=["volume"])
    assert set(chain["measure"]) == set(CHAINS)
    assert np.allclose(chain["volume"] + chain["rate"], chain["change"], atol=1e-6)
    assert (table["change_low"] <= table["change"] + 1e-9).all()
    assert (table["change"] <= table["change_high"] + 1e-9).all()


@pytest.mark.slow
def test_topics_that_pages_draw_are_compared(site: nibbet.Site) -> None:
    topics, queries = site.compare(by="topic"), site.queries()
    strays = queries[queries["topic"].notna()]
    assert len(topics) >= 5
    assert set(strays["topic"]) <= set(topics["key"])
    assert topics["recent"].sum() == strays["clicks"].sum()
    assert len(site.compare(28, "before", by="topic")) >= 5


@pytest.mark.slow
def test_losing_queries_are_named_as_one_loss(site: nibbet.Site) -> None:
    losses = site.losses()
    assert list(losses) == LOSSES
    assert not losses["page"].duplicated().any()
    assert (losses["change"] < 0).all()
    assert (losses["queries"] >= 2).all()
    decayed = cases(site, losses, "page").query("case == 'decayed'")
    assert len(decayed) >= 8
    words = [subject.split()[0] in page.replace("-", " ") for subject, page in zip(decayed["subject"], decayed["page"], strict=True)]
    assert np.mean(words) >= 0.8, "the words that name a loss are those of the page's subject"


@pytest.mark.slow
def test_trends_and_peers_find_what_was_planted(site: nibbet.Site) -> None:
    trends = cases(site, site.trends(), "page")
    real = trends.groupby("case")["real"].mean()
    assert real["decayed"] >= 0.8
    assert real["seasonal"] <= 0.3
    fallen = trends["real"] & trends["kind"].isin(["collapse", "slow decay"])
    assert fallen[trends["case"] == "healthy"].mean() <= 0.02
    pulls = cases(site, site.pulls()[lambda f: f["query"].isna()], "page")
    assert pulls[pulls["case"].isin(["badly_titled", "retitled"])]["flag"].eq("low").mean() >= 0.8
    assert pulls[pulls["case"] == "healthy"]["flag"].eq("low").mean() <= 0.02
    low = cases(site, site.peers().query("measure == 'engagement_rate' and flag == 'low'"), "page")
    assert low["case"].eq("poor_engagement").mean() >= 0.9
    assert len(low) >= 6
    parts, pages = site.parts(), site.pages()
    assert parts[parts["level"] == "section"]["clicks"].sum() == parts["clicks"].iloc[0] == pages["clicks"].sum()
    assert parts["engagement_rate"].iloc[0] == pytest.approx(pages["engaged_sessions"].sum() / pages["sessions"].sum())
    visits = site.engagement()
    assert visits["sessions"].sum() == pages["sessions"].sum()
    assert visits["conversions"].sum() == pytest.approx(pages["conversions"].sum())


def test_reach_grows_with_the_place(ran: Path) -> None:
    site = nibbet.open_site(ran)
    third, first = site.within_reach(3.0), site.within_reach(1.0)
    assert first["gain"].sum() > third["gain"].sum() > 0
    assert (third["gain_low"] <= third["gain"] + 1e-9).all()
    assert (third["gain"] <= third["gain_high"] + 1e-9).all()
    assert (third["position"] > 3).all()
    with pytest.raises(NotFoundError):
        site.within_reach(0)


def test_compare_on_the_command_line(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["compare", str(ran), "-q"]) == 0
    said = capsys.readouterr().out
    for words in ("against 2025-08-03..2025-10-31", "Clicks went from", "Sections", "Pages that lost most", "Queries that lose together"):
        assert words in said
    assert main(["compare", str(ran), "--recent", "28", "--against", "before", "--by", "device", "-q"]) == 0
    assert "mobile" in capsys.readouterr().out
    assert main(["compare", str(ran), "--by", "page", "--where", "real and change < 0", "--top", "4", "--format", "csv", "-q"]) == 0
    rows = list(csv.DictReader(io.StringIO(capsys.readouterr().out)))
    assert 0 < len(rows) <= 4
    assert all(float(row["change"]) < 0 for row in rows)
    for wrong in (
        ["--recent", "0"],
        ["--recent", "soon"],
        ["--against", "2026-10-01..2026-09-01"],
        ["--against", "2019-01-01..2019-02-01"],
    ):
        assert main(["compare", str(ran), *wrong, "-q"]) == 2
        fault = capsys.readouterr().err
        assert fault.startswith("nibbet: ")
        assert len(fault.splitlines()) == 1


def test_the_noise_of_a_series_is_that_of_its_weeks() -> None:
    days = pd.date_range("2026-05-05", "2026-10-31")
    recent, before = Window(date(2026, 8, 3), date(2026, 10, 31)), Window(date(2026, 5, 5), date(2026, 8, 2))
    windows = Windows(recent, before, recent, "before", date(2026, 5, 5))
    weekly = np.exp(np.random.default_rng(4).normal(0, 0.2, len(days) // 7 + 1)).repeat(7)[: len(days)]
    steady, wavering = (pd.DataFrame({"date": days, "clicks": level}) for level in (500.0, 500.0 * weekly))
    assert shared_noise(steady, windows) == 0.02, "never none at all"
    assert 0.05 <= shared_noise(wavering, windows) <= 0.13, "0.2 a week, of twelve weeks in each window: 0.08"


def test_hostile_addresses_are_drawn_as_they_stand() -> None:
    from nibbet.render.canvas import as_svg
    from nibbet.render.figures import movers

    rows = pd.DataFrame({"key": [HOME + r"$\frac{1}{0}$<script>\x1b[31m/", HOME + "_a_^b^/"], "change": [-50.0, 40.0], "real": True})
    drawn = as_svg(movers(rows.assign(demand=rows["change"], rank=0.0, pull=0.0)))
    assert "<script>" not in drawn
    assert "\x1b" not in drawn
    assert "frac" in drawn


def test_named_groups_of_pages_and_queries() -> None:
    rng = np.random.default_rng(3)
    table = pd.DataFrame(
        [(d, p) for d in pd.date_range("2026-03-01", "2026-10-31") for p in ("/a/x/", "/a/y/", "/b/z/")], columns=["date", "page"]
    )
    late = table["date"] >= "2026-08-03"
    table["impressions"] = rng.poisson(np.where(late & (table["page"] == "/b/z/"), 20, 60))
    table["clicks"], table["position"] = rng.binomial(table["impressions"], 0.2), 2.0
    table["query"] = table["page"].map({"/a/x/": "Canoë hire", "/a/y/": "canoes", "/b/z/": "kayak hire prices"})
    groups = {"pages": {"ays": ["/a/*"]}, "queries": {"hire": ["hire"], "canoe": ["canoe"], "prices": ["re:prices?$"]}}
    site = nibbet.Site(home=HOME, search=table, settings={"groups": groups, "windows": {"reference": "before"}})
    found = site.compare(by="group").set_index("key")
    recent = table[late]
    assert found.loc["ays", "recent"] == recent[recent["page"].str.startswith("/a/")]["clicks"].sum()
    assert found.loc["hire", "recent"] == recent[recent["query"].str.contains("hire")]["clicks"].sum()
    assert found.loc["canoe", "recent"] == recent[recent["page"] == "/a/x/"]["clicks"].sum(), "whole words, whatever their accents"
    assert found.loc["prices", "why"] == "demand"
    assert found.loc["prices", "real"]
    assert site.parts().query("level == 'group'")["key"].tolist() == ["ays"]
    site.close()
    with pytest.raises(ConfigError, match="prices"):
        queries_in_groups(pd.Series(["a"]), {"prices": ["re:("]})
    assert queries_in_groups(pd.Series(["a"]), {}).empty
    assert pages_in_groups(pd.Series(["/a/"], index=[4]), {"g": ["/a/*"]})["page"].tolist() == [4]


def test_sites_without_queries_or_landings_are_compared_too() -> None:
    rng = np.random.default_rng(4)
    table = pd.DataFrame([(d, p) for d in pd.date_range("2026-04-01", "2026-10-31") for p in ("/x/", "/y/")], columns=["date", "page"])
    table["impressions"] = rng.poisson(50, len(table))
    table["clicks"], table["position"] = rng.binomial(table["impressions"], 0.2), np.where(table["date"] >= "2026-08-03", 6.0, 2.0)
    table["clicks"] //= np.where(table["date"] >= "2026-08-03", 3, 1)
    site = nibbet.Site(home=HOME, search=table)
    changes = site.compare()
    assert set(changes["level"]) == {"site", "section", "page"}
    assert changes["real"].all()
    assert site.losses().empty
    assert site.engagement().empty
    site.close()


def test_segments_that_do_not_fit_the_rest_of_a_page_are_named() -> None:
    rng = np.random.default_rng(9)
    pages = 1600
    rows = pd.DataFrame({"page": np.repeat(np.arange(pages), 2), "dimension": "device", "value": ["mobile", "desktop"] * pages})
    expected = rng.lognormal(4, 0.8, len(rows))
    bad = (rows["page"] < 80) & (rows["value"] == "mobile")
    everywhere = rows["page"].between(80, 159)
    factor = np.where(bad | everywhere, 0.35, 1.0) * rng.gamma(100, 0.01, len(rows))
    rows = rows.assign(
        expected_clicks=expected, clicks=rng.poisson(expected * factor), impressions=(expected * 10).astype(int), position=3.0
    )
    sessions = rng.poisson(80, len(rows))
    engaged = rng.binomial(sessions, np.where(bad, 0.2, 0.6))
    visits = rows[["page", "dimension", "value"]].assign(sessions=sessions, engaged_sessions=engaged)
    found = odd_segments(rows, visits)
    low = found[(found["flag"] == "low") & (found["value"] == "mobile")]
    assert low["page"].lt(80).mean() >= 0.9
    assert low["page"].lt(80).sum() >= 30
    assert found["page"].between(80, 159).mean() <= 0.05, "a page badly chosen everywhere is no matter of a segment"
    assert found[found["engagement_flag"] == "low"]["page"].lt(80).mean() >= 0.95


def test_shares_are_drawn_to_their_peers_where_little_is_known() -> None:
    rng = np.random.default_rng(2)
    trials = rng.integers(1, 400, 500).astype(float)
    events = rng.binomial(trials.astype(int), 0.5).astype(float)
    found = share_among_peers(events, trials, np.zeros(500, dtype=np.int64))
    assert (found["flag"] != "").mean() <= 0.01
    few = trials < 10
    assert (found["shrunk"] - 0.5).abs()[few].max() < (found["value"] - 0.5).abs()[few].max()
    assert found.loc[trials < 30, "q_value"].isna().all()


def test_a_short_history_has_no_season_and_weekdays_add_up() -> None:
    day = pd.date_range("2025-07-01", periods=480)
    wave = 100 * np.exp(np.cos(2 * np.pi * (day.day_of_year - 190) / 365.25)) * np.where(day.day_of_week >= 5, 2.0, 1.0)
    days = pd.DataFrame({"section": "/rivers/", "date": day, "clicks": np.rint(wave)})
    index = weekday_index(days)
    assert index.loc["/rivers/"].mean() == pytest.approx(1.0)
    assert index.loc["/rivers/", 6] / index.loc["/rivers/", 2] == pytest.approx(2.0, rel=0.05)
    weeks = (
        days.assign(end=day + pd.to_timedelta(6 - day.day_of_week, unit="D")).groupby(["section", "end"], as_index=False)["clicks"].sum()
    )
    whole = annual_index(weeks)
    peak = season_calendar(whole, pd.Timestamp("2026-10-31").date())["peak"].iloc[0]
    assert whole.known
    assert abs((peak - pd.Timestamp("2027-07-09")).days) <= 14
    assert not annual_index(weeks.head(50)).known
    assert season_calendar(annual_index(weeks.head(50)), pd.Timestamp("2026-06-30").date())["peak"].isna().all()


def test_a_chain_of_counts_adds_up_through_zeros() -> None:
    now = pd.DataFrame({"sessions": [100, 0, 50], "conversions": [10, 0, 0]})
    then = pd.DataFrame({"sessions": [50, 10, 0], "conversions": [5, 1, 0]})
    parts = split_ratio(now, then, ["sessions", "conversions"])
    assert np.allclose(parts.sum(axis=1), now["conversions"] - then["conversions"])
    assert parts["sessions"].iloc[0] > 4.5 > abs(parts["conversions"].iloc[0])


@pytest.mark.slow
def test_a_source_of_demand_is_believed_as_far_as_it_has_been_right() -> None:
    """Of impressions that halve at the same place demand has the whole, whatever a flat source says; of a page that sank, a source that knows
    its seasons tells what searchers did, and a flat one does not.
    """
    days = pd.date_range("2025-07-01", "2026-10-31")
    months = pd.period_range("2025-07", "2026-10", freq="M")
    rng, pages = np.random.default_rng(8), 60
    search = pd.DataFrame([(d, f"/a{n}/", f"word{n} lake") for d in days for n in range(pages)], columns=["date", "page", "query"])
    late, number = (search["date"] >= "2026-08-01").to_numpy(), search["page"].str.extract(r"(\d+)", expand=False).astype(int).to_numpy()
    searched = np.where(late & (number < 50), 0.5, 1.0)  # half as many search for the words of the first fifty pages
    sunk = late & np.isin(number, [0, 1, 55])
    search["position"] = np.where(sunk, 24.0, 6.0)
    search["impressions"] = rng.poisson(120 * searched * np.where(sunk, 0.3, 1.0))
    search["clicks"] = rng.binomial(search["impressions"], np.where(sunk, 0.004, 0.06))
    true = np.where((months >= "2026-08")[None, :] & (np.arange(pages) < 50)[:, None], 1500, 3000)
    parts = {}
    for name, volume in {"right": true, "flat": np.full_like(true, 3000)}.items():
        demand = pd.concat(
            [pd.DataFrame({"query": f"word{n} Lake", "month": months.astype(str), "volume": volume[n]}) for n in range(pages)]
        )
        site = nibbet.Site(home=HOME, search=search, demand=demand)
        found = site.compare(by="page").assign(page=lambda f: f["key"].str.extract(r"/(a\d+)/$", expand=False)).set_index("page")
        parts[name] = found[PARTS].div(found["change"], axis=0)
        whole = site.compare(by="site").iloc[0]
        held = found.drop(index=["a0", "a1", "a55"])
        assert held["rank"].abs().sum() <= 0.05 * held["change"].abs().sum()
        assert abs(whole["demand"] - held["change"].sum()) <= 0.15 * abs(whole["change"])
        site.close()
    assert abs(parts["right"].loc["a55", "demand"]) < 0.05
    for name in parts:
        assert (parts[name].loc[["a0", "a1"], "rank"] > 0.6).all()
        assert parts[name].loc[["a0", "a1"], "demand"].between(0.05, 0.4).all()


def test_one_change_has_one_answer() -> None:
    """A section of one page is that page; what all pages do by chance cancels out in their sum; and no level is real within the band."""
    rng = np.random.default_rng(12)
    days, pages = pd.date_range("2025-07-01", "2026-10-31"), 60
    level = np.exp(rng.normal(0, 0.1, (2, pages)))[(days >= "2026-08-01").astype(int)] * rng.uniform(3, 30, pages)
    level[days >= "2026-08-01", 0] *= 0.4
    frame = pd.DataFrame(rng.poisson(level), index=days, columns=["/alone/x/", *[f"/many/{n}/" for n in range(1, pages)]])
    search = frame.rename_axis("date").reset_index().melt("date", var_name="page", value_name="clicks")
    search = search.assign(impressions=search["clicks"] * 9, position=3.0, query="words of " + search["page"])
    site = nibbet.Site(home=HOME, search=search[search["impressions"] > 0])
    found = site.compare().query("measure == 'clicks'").set_index(["level", "key"])
    told = ["recent", "reference", "change", "change_low", "change_high", *PARTS]
    one, section, topic = (
        found.loc[("page", HOME + "alone/x/")],
        found.loc[("section", "/alone/")],
        found.loc[("query", "words of /alone/x/")],
    )
    assert section[told].to_numpy(float) == pytest.approx(one[told].to_numpy(float))
    assert topic["change"] == pytest.approx(one["change"])
    ledger = site.pages().set_index("page").loc[HOME + "alone/x/"]
    assert ledger[["change", "change_low", "change_high"]].to_numpy(float) == pytest.approx(one[told[2:5]].to_numpy(float))
    assert one["real"]
    assert ledger["change_real"]
    many = found.loc["section"].loc["/many/"]
    widths = found.loc["page"].eval("(change_high - change_low) / reference")
    assert (many["change_high"] - many["change_low"]) / many["reference"] < widths.median() / 2
    assert not found[found["change_share"].abs() <= 0.1]["real"].any()
    site.close()


def test_pages_that_came_or_went_are_neither_demand_nor_rank() -> None:
    rng = np.random.default_rng(14)
    days = pd.date_range("2025-07-01", "2026-10-31")
    lives = {
        "/a/steady/": 0,
        "/a/other/": 0,
        "/a/more/": 0,
        "/a/new/": 400,
        "/a/gone/": -420,
        "/a/shut/": -420,
        "/a/from/": -430,
        "/a/to/": 430,
    }
    rows = []
    for page, turn in lives.items():
        alive = np.arange(len(days)) >= turn if turn >= 0 else np.arange(len(days)) < -turn
        query = "swap words" if page in ("/a/from/", "/a/to/") else f"words {page}"
        rows.append(pd.DataFrame({"date": days[alive], "page": page, "query": query, "clicks": rng.poisson(12, alive.sum())}))
    search = pd.concat(rows).assign(impressions=lambda f: f["clicks"] * 8 + 20, position=3.0)
    crawl = pd.DataFrame({"page": list(lives), "status": [200, 200, 200, 200, 404, 200, 301, 200], "title": "A page"})
    crawl["noindex"] = crawl["page"].eq("/a/shut/")
    crawl["redirect"] = np.where(crawl["page"].eq("/a/from/"), HOME + "a/to/", "")
    site = nibbet.Site(
        home=HOME, search=search.assign(page=HOME + search["page"].str[1:]), crawl=crawl.assign(page=HOME + crawl["page"].str[1:])
    )
    found = site.compare(by="page")
    found.index = found["key"].str.removeprefix(HOME.rstrip("/"))
    assert found["why"].drop(["/a/steady/", "/a/other/", "/a/more/"]).to_dict() == {
        "/a/new/": "new", "/a/gone/": "gone", "/a/shut/": "blocked", "/a/from/": "moved", "/a/to/": "moved"
    }  # fmt: skip
    went = found.loc[["/a/new/", "/a/gone/", "/a/shut/", "/a/from/", "/a/to/"]]
    assert (went["access"] / went["change"] > 0.9).all()
    assert went[["rank", "pull", "untold"]].drop("/a/to/").abs().max().max() < 1e-9
    assert found.loc["/a/to/", "access"] == pytest.approx(-found.loc["/a/from/", "change"]), "what it took over; the rest is split"
    assert found.loc["/a/to/", PARTS].sum() == pytest.approx(found.loc["/a/to/", "change"])
    section = site.compare(by="section").query("measure == 'clicks'").iloc[0]
    assert section["access"] == pytest.approx(found["access"].sum())
    site.close()


@pytest.mark.parametrize("by", ["redirect", "host"])
def test_a_page_that_moved_is_compared_with_its_old_address(by: str, capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """Half a year ago every page got a new address; at its new one, /n/2/ sank; /o/9/ and /o/10/ were sent to the start page."""
    rng = np.random.default_rng(21)
    days = pd.date_range("2025-07-01", "2026-10-31")
    old = days < "2026-05-01"
    rows, crawl = [], [{"page": HOME, "status": 200, "redirect": ""}]
    for number in range(1, 41):
        after = HOME + f"n/{number}/"
        before = HOME + f"o?id={number}" if by == "redirect" else f"https://old.example/n/{number}/"
        lost, sunk = number in (9, 10), number == 2
        for query, shown in ((f"topic {number}", 160), (f"topic {number} price", 60)):
            for page, here, place in ((before, old, 2.0), (after, ~old & (not lost), 9.0 if sunk else 2.0)):
                seen = rng.poisson(shown * (0.85 if place > 8 else 1), here.sum())
                clicks = rng.binomial(seen, 0.02 if place > 8 else 0.16)
                rows.append(
                    pd.DataFrame(
                        {"date": days[here], "page": page, "query": query, "clicks": clicks, "impressions": seen, "position": place}
                    )
                )
        crawl += [{"page": before, "status": 301, "redirect": HOME if lost else after}] if by == "redirect" else []
        crawl += [{"page": after, "status": 404 if lost else 200, "redirect": ""}]
    rows.append(
        pd.DataFrame(
            {"date": days, "page": HOME, "query": "tarnbrook", "clicks": rng.poisson(30, len(days)), "impressions": 60, "position": 1.0}
        )
    )
    pd.concat(rows).to_csv(tmp_path / "search.csv", index=False)
    pd.DataFrame(crawl).assign(title="A page", published="2024-02-01").to_csv(tmp_path / "crawl.csv", index=False)
    (tmp_path / "nibbet.toml").write_text(
        f'[site]\nhome = "{HOME}"\nold_hosts = ["old.example"]\n[[source]]\nkind = "search"\nfiles = "search.csv"\n'
        '[[source]]\nkind = "crawl"\nfiles = "crawl.csv"\n'
    )
    with nibbet.open_site(tmp_path) as site:
        found, pages = site.compare(by="page").set_index("key"), site.pages().set_index("page")
        whole = site.compare(by="site").query("measure == 'clicks'").iloc[0]
        losses = site.losses()
    sunk, other = found.loc[HOME + "n/2/"], found.loc[HOME + "n/3/"]
    old = [HOME + f"o?id={number}" if by == "redirect" else f"https://old.example/n/{number}/" for number in (9, 10)]
    assert (sunk["why"], other["why"], found.loc[old[0], "why"]) == ("moved", "moved", "redirected")
    assert found.loc[HOME, "why"] == "", "the start page answers nothing of what was sent there"
    assert sunk["rank"] == pytest.approx(sunk["change"] - sunk["access"], rel=0.1)
    assert found[PARTS].sum(axis=1).to_numpy() == pytest.approx(found["change"].to_numpy()), "the parts add up, page by page"
    assert whole["access"] == pytest.approx(found.loc[old, "change"].sum(), rel=0.05)
    assert pages.loc[HOME + "n/2/", ["verdict", "cause"]].tolist() == ["refresh", "decay"]
    assert re.search(
        r"\(position 2\.0 to 9\.0\).*Clicks fell from [\d,]+, all at its old address, to \d+, and", pages.loc[HOME + "n/2/", "because"]
    )
    assert pages.loc[HOME + "n/3/", "because"].endswith("a year earlier, all at its old address; no rule asks for a change.")
    assert (pages["cause"] == "decay").sum() == 1
    assert losses.set_index("page")["why"].to_dict() == {HOME + "n/2/": "rank", **dict.fromkeys(old, "redirected")}
    assert main(["compare", str(tmp_path), "-q"]) == 0
    said = capsys.readouterr().out
    assert "Pages that moved, compared with their old addresses (38, 1 of them real)" in said
    assert "nan" not in said
    assert main(["compare", str(tmp_path), "--by", "moved page", "--top", "1", "-q"]) == 0
    assert "/n/2/" in capsys.readouterr().out


@pytest.mark.parametrize(("step", "days", "told"), [("M", 28, "2026-09-01..2026-09-30"), ("W-SAT", 30, "2026-08-30..2026-09-26")])
def test_no_window_cuts_a_month_or_a_week(tmp_path: Path, step: str, days: int, told: str) -> None:
    dates = pd.date_range("2025-04-06", "2026-10-31")
    rows = pd.DataFrame({"day": dates, "page": HOME + "a/", "clicks": 40 + dates.day, "impressions": 900}).query("day < '2026-10-01'")
    period = rows["day"].dt.to_period(step)
    table = rows.assign(day=period.dt.start_time.dt.date)
    sums = table.groupby(["day", "page"], as_index=False)[["clicks", "impressions"]].sum()
    if step != "M":
        sums = sums.iloc[:-1].rename(columns={"day": "week"})
    (tmp_path / "search.csv").write_text(sums.to_csv(index=False))
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}"\n[[source]]\nkind = "search"\nfiles = "search.csv"\n')
    with nibbet.open_site(tmp_path) as site:
        windows = site.compared_windows(days, "before")
        change = site.compare(days, "before", by="site").iloc[0]
    assert str(windows.recent) == told
    inside = rows["day"].between(*told.split(".."))
    assert change["recent"] == rows.loc[inside, "clicks"].sum()
