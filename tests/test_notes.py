"""What the account says about the data: each note on data that deserve it, and none on data that do not."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.config import make_config

HOME = "https://tarnbrook.example/"
DAYS = pd.date_range("2026-06-01", "2026-10-31")


def search(**changes: object) -> pd.DataFrame:
    rng = np.random.default_rng(3)
    table = pd.DataFrame([(day, path) for day in DAYS for path in ("/a/", "/b/")], columns=["date", "page"])
    table["impressions"] = rng.poisson(200, len(table))
    table["clicks"] = rng.binomial(table["impressions"], 0.1)
    return table.assign(position=3.0, **changes)


def landings(of: pd.DataFrame, **changes: object) -> pd.DataFrame:
    return pd.DataFrame({"date": of["date"], "page": of["page"], "channel": "organic search", "sessions": of["clicks"]}).assign(**changes)


def notes(**sources: pd.DataFrame) -> dict[str, str]:
    site = nibbet.Site(home=HOME, **sources)
    said = {note["code"]: note["text"] for note in site.account["notes"]}
    site.close()
    return said


def test_clean_sources_say_nothing() -> None:
    table = search()
    assert not notes(search=table, landings=landings(table))


def test_sessions_far_from_clicks() -> None:
    table = search()
    said = notes(search=table, landings=landings(table, sessions=table["clicks"] * 3))
    assert said["sessions_per_click"].startswith("3.00 sessions from search per click")


@pytest.mark.parametrize(("ratio", "usual"), [(0.4, False), (0.6, True), (1.25, True), (1.5, False)])
def test_sessions_near_clicks_are_no_news(ratio: float, usual: bool) -> None:
    table = search()
    table["clicks"] *= 20
    assert (
        "sessions_per_click" not in notes(search=table, landings=landings(table, sessions=(table["clicks"] * ratio).round().astype(int)))
    ) == usual


def test_sessions_of_weeks_are_compared_with_clicks_of_weeks() -> None:
    table = search()
    weeks = table.assign(date=table["date"].dt.to_period("W-SUN").dt.start_time).groupby(["date", "page"], as_index=False)["clicks"].sum()
    assert "sessions_per_click" not in notes(search=table, landings=landings(weeks))
    assert notes(search=table, landings=landings(weeks, sessions=weeks["clicks"] * 3))["sessions_per_click"].startswith("3.0")


def test_a_page_without_its_tag() -> None:
    table = search()
    visits = landings(table)
    said = notes(search=table, landings=visits[visits["page"] != "/b/"])
    recent = table[(table["date"] > "2026-08-02") & (table["page"] == "/b/")]["clicks"].sum()
    assert said["untagged"].startswith(f"1 pages have clicks but hardly a session, the largest /b/ ({recent:,} clicks)")


@pytest.mark.parametrize("lag", [-1, 1])
def test_days_counted_in_another_time_zone(lag: int) -> None:
    rng = np.random.default_rng(5)
    level = pd.Series(rng.lognormal(0, 0.4, len(DAYS)), index=DAYS)
    table = search()
    table["clicks"] = rng.poisson(table["date"].map(level) * 50)
    table["impressions"] = table["clicks"] * 10
    moved = landings(table)
    moved["date"] += pd.Timedelta(days=lag)
    assert f"shifted by {-lag:+d} day" in notes(search=table, landings=moved)["time_zone"]


def test_windows_that_do_not_meet() -> None:
    table = search()
    visits = landings(table)
    assert "landings 2026-09-01 to 2026-10-31" in notes(search=table, landings=visits[visits["date"] >= "2026-09-01"])["windows"]


def test_channels_unknown_or_mixed() -> None:
    table = search()
    visits = landings(table)
    assert "no channel" in notes(search=table, landings=visits.drop(columns="channel"))["channels"]
    mixed = pd.concat([visits, visits.assign(channel="newsletter", sessions=1)])
    assert (
        f"{len(visits):,} of {visits['sessions'].sum() + len(visits):,} sessions come from other channels"
        in notes(search=table, landings=mixed)["channels"]
    )


def test_missing_days_and_pages_the_crawl_lacks() -> None:
    table = search()
    gap = table[(table["date"] < "2026-07-01") | (table["date"] > "2026-07-10")]
    said = notes(search=gap, crawl=pd.DataFrame({"page": ["/a/", "/c/"], "status": 200, "title": "T"}))
    assert said["gaps"].startswith("10 days have no search rows, the first 2026-07-01")
    assert said["not_in_crawl"].startswith("1 pages with clicks are missing from the crawl, the largest /b/")


def test_unmatched_pages_are_named_both_ways() -> None:
    table = search()
    visits = landings(table)
    lone = visits[visits["page"] == "/a/"].assign(page="/only-visited/", channel="direct", sessions=2)
    site = nibbet.Site(home=HOME, search=table, landings=pd.concat([visits[visits["page"] == "/a/"], lone]))
    found = site.account["unmatched"]
    assert found["clicks_without_landings"] == [{"page": HOME + "b/", "clicks": int(table[table["page"] == "/b/"]["clicks"].sum())}]
    assert found["sessions_without_search"] == [{"page": HOME + "only-visited/", "sessions": 2 * len(DAYS)}]
    site.close()


def test_a_sampled_export_is_said(tmp_path: Path) -> None:
    (tmp_path / "search.csv").write_text("# based on a sample of 40% of sessions\n" + search().to_csv(index=False))
    site = nibbet.Site(config=make_config({"site": {"home": HOME}, "source": [{"kind": "search", "files": "search.csv"}]}), root=tmp_path)
    assert {note["code"] for note in site.account["notes"]} >= {"preamble", "sampled"}
    site.close()


def test_files_for_robots_that_say_what_cannot_be(tmp_path: Path) -> None:
    pages = [f"/{n}/" for n in range(30)]
    table = pd.DataFrame([(day, path) for day in DAYS[-40:] for path in pages], columns=["date", "page"])
    table.assign(clicks=1, impressions=20, position=3.0).to_csv(tmp_path / "search.csv", index=False)
    (tmp_path / "robots.txt").write_text(
        "User-agent: *\nCrawl-delay: 2\nDisallow: /3/\nAllow: /3/\nNoindex: /4/\nDisallow /5/\nUser-agent: findbot\nDisallow: /6/\n"
    )
    told = {}
    for name, day in (("one", lambda n: "2026-11-01"), ("true", lambda n: f"2026-{n % 9 + 1:02d}-05")):
        entries = "".join(f"<url><loc>{HOME}{n}/</loc><lastmod>{day(n)}</lastmod></url>" for n in range(30))
        (tmp_path / "sitemap.xml").write_text(f'<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">{entries}</urlset>')
        sources = "".join(f'[[source]]\nkind = "{k}"\nfiles = "{f}"\n' for k, f in (("search", "search.csv"), ("robots", "robots.txt"), ("sitemap", "sitemap.xml")))  # fmt: skip
        (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}"\n{sources}')
        with nibbet.open_site(tmp_path) as one:
            told[name] = {note["code"]: note["text"] for note in one.account["notes"]}
    assert told["true"]["robots_lines"].startswith(
        'robots.txt has 2 lines that are no rules and do nothing (RFC 9309), first "Noindex: /4/"'
    )
    assert '"/3/" to all robots: it is allowed' in told["true"]["robots_contradict"]
    assert "30 of 30 entries the same day of change, 2026-11-01" in told["one"]["sitemap_days"]
    assert "sitemap_days" not in told["true"]
