"""Impressions that are counted differently from some day on: no verdict, cause or curve rests on what is not comparable."""

from __future__ import annotations

from datetime import date
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.recount import sudden_change
from nibbet.render.glance import glance

HOME, DAYS, SINCE = "https://seedhouse.example", pd.date_range("2025-07-01", "2026-10-31"), pd.Timestamp("2026-05-12")
SUNK = [f"/soil/{n}" for n in range(4)]


def ctr(position: np.ndarray) -> np.ndarray:
    return 0.3 * position**-1.1


def search(since: pd.Timestamp | None, *, deep: float = 0.8, sinks: bool = True, seed: int = 1) -> pd.DataFrame:
    """60 pages of two queries; until `since`, most also have impressions far down, which nobody clicks."""
    rng = np.random.default_rng(seed)
    pages = [f"/{section}/{n}" for section in ("soil", "sowing", "pests") for n in range(20)]
    place, volume = np.exp(rng.normal(1.0, 0.5, 120)).clip(1), np.exp(rng.normal(2.3, 0.7, 120))
    page, query = np.repeat(pages, 2), [f"{name[1:]} {word}" for name in pages for word in ("when", "how")]
    fallen = np.isin(page, SUNK)
    parts = []
    for day in DAYS:
        position = place * np.where(fallen & sinks & (day >= pd.Timestamp("2026-04-01")), 3.0, 1.0) * np.exp(rng.normal(0, 0.08, 120))
        position = position.clip(1)
        shown = rng.poisson(volume)
        clicks = rng.binomial(shown, ctr(position))
        far = rng.poisson(shown * deep) if since is not None and day < since else np.zeros(120, dtype=int)
        mean = (position * shown + rng.uniform(30, 80, 120) * far) / np.maximum(shown + far, 1)
        rows = {"date": day, "page": page, "query": query, "clicks": clicks, "impressions": shown + far, "position": mean}
        parts.append(pd.DataFrame(rows))
    table = pd.concat(parts)
    return table[table["impressions"] > 0]


def verdicts(table: pd.DataFrame) -> tuple[pd.DataFrame, pd.DataFrame, dict[str, str]]:
    pages = table["page"].unique()
    crawl = pd.DataFrame({"page": pages, "status": 200, "title": pages, "h1": pages})
    dates = pd.DataFrame({"page": pages, "published": "2023-01-01"})
    with nibbet.Site(home=HOME, search=table, crawl=crawl, editorial=dates) as site:
        changes = site.compare(by="site").set_index("measure")
        return site.pages(), changes, {note["code"]: note["text"] for note in site.account["notes"]}


@pytest.fixture(scope="module")
def recounted() -> tuple[pd.DataFrame, pd.DataFrame, dict[str, str]]:
    return verdicts(search(SINCE))


def test_no_title_is_poor_and_no_rank_won_by_another_count(recounted: tuple[pd.DataFrame, pd.DataFrame, dict[str, str]]) -> None:
    pages, changes, notes = recounted
    assert not pages["cause"].eq("snippet").any(), "every title is as good as any"
    clicks = changes.loc["clicks"]
    assert clicks[["demand", "rank", "pull"]].abs().max() == 0
    assert clicks["untold"] == pytest.approx(clicks["change"])
    assert notes["recounted"].startswith("Since 2026-05-12 impressions are counted differently: on most pages at once they became 4")


def test_pages_that_fell_are_named_by_their_clicks(recounted: tuple[pd.DataFrame, pd.DataFrame, dict[str, str]]) -> None:
    pages = recounted[0].set_index("page")
    fallen = pages.index[pages["cause"].eq("decay")].str.removeprefix(HOME)
    assert set(fallen) <= set(SUNK)
    assert len(fallen) >= 3
    because = pages.loc[HOME + fallen[0], "because"]
    assert "further than on most pages" in because
    assert because.endswith("Impressions are counted differently since 2026-05-12, so rank and demand cannot be told apart.")


def test_no_query_fades_because_it_is_counted_differently() -> None:
    with nibbet.Site(home=HOME, search=search(pd.Timestamp("2026-09-15"), sinks=False)) as site:
        assert set(site.rising()["by"]) <= {"clicks"}
        assert len(site.rising()) <= 2


def test_a_window_that_holds_the_day_begins_after_it() -> None:
    pages, _, notes = verdicts(search(pd.Timestamp("2026-09-15"), sinks=False))
    assert not pages["cause"].eq("snippet").any()
    assert "The recent window is 2026-09-20..2026-10-31 (42 days)" in notes["windows_moved"]
    assert notes["windows_moved"].endswith("impressions of earlier days are counted differently.")


def test_the_settings_may_say_otherwise(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    search(SINCE).to_csv(tmp_path / "search.csv", index=False)
    settings = f'[site]\nhome = "{HOME}"\n[[source]]\nkind = "search"\nfiles = "search.csv"\n'
    (tmp_path / "nibbet.toml").write_text(settings)
    assert main(["compare", str(tmp_path), "-q", "--by", "site"]) == 0
    assert "Impressions are counted differently since 2026-05-12: of changes since before it" in capsys.readouterr().out
    with nibbet.open_site(tmp_path) as site:
        changes = {one["name"]: one["change"] for one in glance(site)["figures"]}
    assert changes["impressions"] == changes["CTR"] == "counted differently before 2026-05-12"
    assert "from" in changes["clicks"]
    (tmp_path / "nibbet.toml").write_text(settings + "[windows]\ncounted_since = 2025-07-01\n")
    assert main(["compare", str(tmp_path), "-q", "--by", "site"]) == 0
    out = capsys.readouterr().out
    assert "counted differently" not in out
    assert "by rank" in out


@pytest.mark.slow
def test_neither_growth_nor_a_fall_nor_a_burst_is_another_count() -> None:
    rng, number = np.random.default_rng(4), np.arange(len(DAYS))
    for level in (np.ones(len(DAYS)), np.where(DAYS >= SINCE, 0.5, 1.0), 1 + number / 200, np.where(abs(number - 300) < 5, 6.0, 1.0)):
        shown = rng.poisson(4000 * level)
        table = pd.DataFrame({"date": DAYS, "impressions": shown, "clicks": rng.binomial(shown, 0.05)})
        assert sudden_change(table) is None
    shown = rng.poisson(np.where(DAYS >= SINCE, 2000, 4000))
    alone = pd.DataFrame({"date": DAYS, "impressions": shown, "clicks": rng.poisson(200, len(DAYS))})
    assert sudden_change(alone) == date(2026, 5, 12)
    _, _, notes = verdicts(search(None, sinks=False))
    assert "recounted" not in notes
