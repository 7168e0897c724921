"""What visitors do: events per page beside pages alike, calibrated on made-up sites, and read in whatever dress."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.events import EVENTS, event_rates

HOME = "https://stonemill.example"


def made_up(rng: np.random.Generator, spread: float) -> tuple[pd.DataFrame, pd.DataFrame, pd.Series]:
    """Rows and pages of a site on which pages differ by themselves, five of 150 by a factor; and the true rates."""
    size = 150
    pages = pd.DataFrame(
        {"group": rng.choice(["/a/", "/b/", "/c/"], size), "sessions": rng.lognormal(5.5, 1, size).round(), "sessions_reference": 0.0}
    )
    usual = pages["group"].map({"/a/": 0.03, "/b/": 0.4, "/c/": 1.6})
    true = usual * rng.lognormal(-(spread**2) / 2, spread, size)
    true.iloc[:5] *= np.array([6, 6, 6, 1 / 6, 1 / 6])
    pages.loc[:4, "sessions"] = 3000.0
    rows = pd.DataFrame({"page": pages.index, "event": "scrolled", "count": rng.poisson(true * pages["sessions"]), "count_reference": 0})
    return rows[rows["count"] > 0], pages, true


@pytest.mark.slow
def test_intervals_hold_and_hardly_any_page_is_named_without_cause() -> None:
    rng, held, named, found, honest = np.random.default_rng(11), [], 0, 0, 0
    for turn in range(60):
        rows, pages, true = made_up(rng, (0.15, 0.3, 0.6)[turn % 3])
        table = event_rates(rows, pages).set_index("page").sort_index()
        assert len(table) == len(pages), "pages without the event count 0"
        plain = table.loc[5:]
        held.append(((plain["rate_low"] <= true.loc[5:]) & (true.loc[5:] <= plain["rate_high"])).mean())
        named += (plain["flag"] != "").sum()
        honest += len(plain)
        found += (table.loc[:4, "flag"] == ["high"] * 3 + ["low"] * 2).sum()
    assert 0.76 <= np.mean(held) <= 0.84, "intervals of 80%"
    assert named <= 0.01 * honest
    assert found >= 0.65 * 5 * 60, "what strays by a factor of six stands out"


GERMAN = {"date": "Tag", "page": "Seite", "event": "Ereignisname", "count": "Anzahl der Ereignisse"}


@pytest.mark.parametrize(
    "names", [{}, GERMAN, {"page": "Url", "event": "Event name", "count": "Event count"}], ids=["plain", "German", "no days"]
)
def test_events_are_read_and_shown(names: dict[str, str], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    rng = np.random.default_rng(2)
    pages, days = [f"/guides/{n}/" for n in range(30)], pd.date_range("2025-08-01", "2026-10-31")
    rows = pd.DataFrame([(d, p) for d in days for p in pages], columns=["date", "page"])
    search = rows.assign(page=HOME + rows["page"], clicks=3, impressions=60, position=3.0)
    visits = rows.assign(channel="organic search", sessions=20, engaged_sessions=rng.binomial(20, 0.6, len(rows)))
    rate = np.where(rows["page"] == pages[3], 0.5, 0.1)
    events = rows.assign(event="sign-up", count=rng.poisson(rate * 20))
    events = pd.concat(
        [
            events[events["count"] > 0],
            rows.head(3).assign(event="play", count=[1, 1, 2]),
            pd.DataFrame([(days[-9], "/guides/never/", "play", 5)], columns=events.columns),
        ]
    )
    recent = events[events["date"].between("2026-08-03", "2026-10-31")]
    kept = events if "date" in names or not names else recent.drop(columns="date")
    file = tmp_path / ("what.csv" if "date" in kept else "what 2026-08-03 to 2026-10-31.csv")
    kept.rename(columns=names).to_csv(file, index=False)
    for name, table in (("search", search), ("visits", visits)):
        table.to_csv(tmp_path / f"{name}.csv", index=False)
    if "date" not in kept:
        unknown = file.rename(tmp_path / "what.csv")
        (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}/"\n' + "".join(f'[[source]]\nkind = "{k}"\nfiles = "{f}.csv"\n' for k, f in (("search", "search"), ("events", "what"))))  # fmt: skip
        assert main(["load", str(tmp_path), "-q"]) == 2
        assert "which days they cover" in capsys.readouterr().err
        unknown.rename(file)
        (tmp_path / "nibbet.toml").unlink()
    assert main(["init", str(tmp_path)]) == 0
    assert 'kind = "events"' in (tmp_path / "nibbet.toml").read_text()
    with nibbet.open_site(tmp_path) as site:
        table, account = site.event_rates(), site.account
        assert list(table) == EVENTS
        assert len(site.event_rates("/guides/3/")) == 1
        assert site.event_rates("/guides/never/")[["count", "rate"]].fillna(-1).to_numpy().tolist() == [[5, -1]], "no visit tells of it"
        assert site.sql("SELECT sum(count) FROM events").iloc[0, 0] == kept["count"].sum()
    mine = table[table["event"] == "sign-up"].set_index("page")
    true = recent[recent["event"] == "sign-up"].groupby("page")["count"].sum()
    assert mine["count"].rename(index=lambda page: page.removeprefix(HOME)).reindex(true.index).tolist() == true.tolist()
    assert mine.index[mine["flag"] == "high"].tolist() == [f"{HOME}/guides/3/"]
    assert (mine["sessions"] == 1800).all()
    source = next(one for one in account["sources"] if one["kind"] == "events")
    assert source["rows_used"] + sum(gone["rows"] for gone in source["set_aside"]) == source["rows_read"] == len(kept)
    capsys.readouterr()
    assert main(["engagement", str(tmp_path), "-q"]) == 0
    told = capsys.readouterr().out
    assert "sign-up" in told
    assert '"sign-up" per 100 sessions (' in told
    assert main(["page", "/guides/3/", "--site", str(tmp_path), "-q"]) == 0
    assert "Events per 100 sessions" in capsys.readouterr().out
