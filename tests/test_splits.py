"""Devices, countries, surfaces and channels side by side: sums balance, planted differences are found, pages do not speak for devices."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from scipy import stats

import nibbet
from nibbet.cli.main import main
from nibbet.config import make_config
from nibbet.core.splits import COMPARED, splits_of

HOME = "https://tarnbrook.example/"


def cells_of(rng: np.random.Generator, pages: int, effect: float) -> pd.DataFrame:
    """Made-up pages by device: pages differ in all rates, devices in what they are used for; desktop is chosen and read `effect` as often."""
    size, pull = rng.lognormal(3.5, 1.0, pages), rng.lognormal(0, 0.4, pages)
    engaged, converted = rng.beta(8, 6, pages), rng.gamma(1.0, 0.02, pages)
    parts = []
    for value, share in (("mobile", 0.6), ("desktop", 0.32), ("tablet", 0.08)):
        factor = effect if value == "desktop" else 1.0
        expected = size * share * rng.uniform(0.5, 1.5, pages)
        clicks = rng.poisson(expected * factor * pull * rng.lognormal(-0.01, 0.15, pages))
        sessions = rng.poisson(expected * 1.3)
        cells = {
            "dimension": "device", "value": value, "page": np.arange(pages), "clicks": clicks, "impressions": np.ceil(expected * 12),
            "position_sum": np.ceil(expected * 12) * 3, "placed": np.ceil(expected * 12), "clicks_reference": clicks, "clicks_plain": clicks,
            "expected_clicks": expected, "sessions": sessions, "sessions_reference": sessions,
            "engaged_sessions": rng.binomial(sessions, np.clip(engaged * factor, 0, 1)), "engagement_seconds": sessions * 50,
            "conversions": rng.poisson(sessions * converted * factor), "revenue": 0,
        }  # fmt: skip
        parts.append(pd.DataFrame(cells))
    rows = pd.concat(parts, ignore_index=True)
    return rows.astype({name: "float64" for name in rows if name not in ("dimension", "value", "page")})


@pytest.mark.slow
def test_intervals_hold_the_truth_and_nothing_planted_is_seldom_flagged() -> None:
    rng, tries = np.random.default_rng(5), 40
    held, false, found = dict.fromkeys(COMPARED, 0), 0, 0
    for _ in range(tries):
        alike = splits_of(cells_of(rng, 80, 1.0)).set_index("value")
        false += sum(bool((alike[f"{name}_flag"] != "").any()) for name in COMPARED)
        other = splits_of(cells_of(rng, 80, 0.7)).set_index("value").loc["desktop"]
        found += other["pull_flag"] == "low"
        for name in COMPARED:
            held[name] += bool(np.isnan(other[f"{name}_beside"]) or other[f"{name}_low"] <= 0.7 <= other[f"{name}_high"])
    assert all(count / tries >= 0.85 for count in held.values()), held
    assert false / tries / len(COMPARED) <= 0.05
    assert found / tries > 0.9


@pytest.mark.slow
def test_the_error_is_what_leaving_out_each_page_shows() -> None:
    rng = np.random.default_rng(8)
    rows = cells_of(rng, 60, 1.0)
    desktop = rows["value"] == "desktop"  # on some pages it is chosen far more often than on others
    rows.loc[desktop, "clicks"] = (rows.loc[desktop, "clicks"] * rng.lognormal(0, 0.8, 60)).round() * 20
    rows.loc[~desktop, "clicks"] *= 20
    rows["clicks_plain"] = rows["clicks"]
    whole = splits_of(rows).set_index("value").loc["desktop"]
    without = [splits_of(rows[rows["page"] != page]).set_index("value").loc["desktop", "pull_beside"] for page in range(60)]
    jackknife = np.sqrt(59 / 60 * ((np.log(without) - np.log(without).mean()) ** 2).sum())
    share = (rows.loc[desktop, "expected_clicks"] ** 2).sum() / rows.loc[desktop, "expected_clicks"].sum() ** 2
    error = np.log(whole["pull_high"] / whole["pull_low"]) / 2 / stats.t.ppf(0.975, 1 / share - 1)
    assert 0.75 <= error / jackknife <= 1.33


def test_pages_do_not_speak_for_a_device() -> None:
    rng = np.random.default_rng(3)
    rows = cells_of(rng, 120, 1.0)
    good = rows["page"] < 60  # half of the pages are read twice as often, and these are used on mobiles above all
    rows.loc[good & (rows["value"] == "desktop"), ["sessions", "engaged_sessions"]] *= 0.2
    rows.loc[~good, "engaged_sessions"] *= 0.5
    table = splits_of(rows.assign(engaged_sessions=rows["engaged_sessions"].round(), sessions=rows["sessions"].round())).set_index("value")
    assert table.loc["mobile", "engagement_rate"] > 1.1 * table.loc["desktop", "engagement_rate"], "as plain rates say"
    assert table.loc["desktop", "engagement_beside"] == pytest.approx(1.0, abs=0.08)
    assert table.loc["desktop", "engagement_flag"] == ""


def test_splits_of_the_demo_hold_what_the_rows_hold(ran: Path) -> None:
    with nibbet.open_site(ran) as site:
        table, window = site.splits(), site.windows.recent
        assert set(table["dimension"]) == {"device", "channel", "source", "country", "surface"}
        device = table[table["dimension"] == "device"].set_index("value")
        pages = site.pages()
        assert device["clicks"].sum() == pages["clicks"].sum(), "every click has a device"
        assert device["impressions"].sum() == pages["impressions"].sum()
        surface = table[table["dimension"] == "surface"].set_index("value")
        assert surface.loc["web", "clicks"] == pages["clicks"].sum(), "image search stands beside it"
        assert surface.loc["Image", "ctr"] < 0.02
        np.testing.assert_allclose(device["ctr"], device["clicks"] / device["impressions"])
        channel = table[table["dimension"] == "channel"]
        rows = site.sql(
            "SELECT channel, sum(sessions) AS sessions, sum(engaged_sessions) AS engaged FROM landings WHERE date BETWEEN $first AND $last AND page IS NOT NULL "
            "GROUP BY channel", first=str(window.start), last=str(window.end),
        ).set_index("channel")  # fmt: skip
        ours = channel.set_index("value")
        assert ours["sessions"].to_dict() == rows["sessions"].astype(float).reindex(ours.index).to_dict()
        np.testing.assert_allclose(ours["engagement_rate"], (rows["engaged"] / rows["sessions"]).reindex(ours.index).astype(float))
        one = pages["page"].iloc[0]
        alone = site.splits(one).query("dimension == 'device'")
        assert alone["clicks"].sum() == pages["clicks"].iloc[0]
        with pytest.raises(nibbet.NotFoundError):
            site.splits("/nowhere/")


def test_sources_of_visits_are_told_and_the_new_one_is_real(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with nibbet.open_site(ran) as site:
        table, window, pages = site.visit_sources(), site.windows.recent, site.pages()
        changes = site.compare(by="source").set_index("key")
        best = table[table["channel"] == "Verweis"].groupby("page")["sessions"].sum().idxmax()
        dossier, one = site.page(best)["visits"], site.visit_sources(best)
    raw = pd.read_csv(ran / "visits" / "landing-pages.csv", sep=";", skiprows=3, decimal=",", encoding="utf-8-sig")
    day = pd.to_datetime(raw["Datum"], format="%d.%m.%Y", errors="coerce")
    used = raw[day.between(str(window.start), str(window.end)) & ~raw["Einstiegsseite"].str.startswith("(", na=True)]
    true = used.groupby(["Kanal", "Quelle"])[["Sitzungen", "Abschlüsse"]].sum()
    ours = table.groupby(["channel", "source"])[["sessions", "conversions"]].sum()
    np.testing.assert_array_equal(ours.to_numpy(), true.reindex(ours.index).to_numpy())
    visited = pages[pages["sessions"] > 0].set_index("page")["sessions"].to_dict()
    assert table[table["sessions"] > 0].groupby("page")["sessions"].sum().to_dict() == visited
    assert changes[changes["real"]].index.tolist() == ["outdoor-news.example"], "the one that began to send visits"
    pd.testing.assert_frame_equal(dossier, one.drop(columns="page"))
    assert main(["page", best, "--site", str(ran), "-q"]) == 0
    assert f"Visits ({dossier['sessions'].sum():,.0f}), by source" in capsys.readouterr().out
    assert main(["split", "--site", str(ran), "-q", "--by", "source", "--top", "2"]) == 0
    assert "and 8 more" in capsys.readouterr().out


def test_splits_on_the_command_line(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["split", "--site", str(ran), "-q"]) == 0
    told = capsys.readouterr().out
    assert told.index("channel") < told.index("device")
    assert main(["split", "--site", str(ran), "-q", "--by", "device", "--format", "json"]) == 0
    assert {row["value"] for row in json.loads(capsys.readouterr().out)} == {"mobile", "desktop", "tablet"}
    assert main(["split", "--site", str(ran), "-q", "--by", "country"]) == 0
    assert "GB" in capsys.readouterr().out


def test_a_sender_is_one_however_it_is_written(tmp_path: Path) -> None:
    days = pd.date_range("2026-08-03", "2026-10-31")
    written = ["www.Paddlers.example / referral", "paddlers.example / referral", "(direct) / (none)", "Anyfinder / organic"]
    rows = pd.DataFrame({"Tag": days.repeat(4), "Einstiegsseite": "/a", "Quelle / Medium": written * len(days), "Sitzungen": 3})
    rows.to_csv(tmp_path / "visits.csv", index=False)
    pd.DataFrame({"Tag": days, "Seite": "/a", "Suchanfrage": "a", "Klicks": 3, "Einblendungen": 30}).to_csv(
        tmp_path / "search.csv", index=False
    )
    sources = "".join(
        f'[[source]]\nkind = "{kind}"\nfiles = "{file}"\n' for kind, file in (("search", "search.csv"), ("landings", "visits.csv"))
    )
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}"\n{sources}')
    with nibbet.open_site(tmp_path) as site:
        table = site.visit_sources()
        rows = table.set_index("source")["sessions"]
        assert set(table["channel"]) == {"", "organic", "referral"}, "the medium stands for the channel where that is not told"
    assert rows.to_dict() == {"paddlers.example": 6 * len(days), "": 3 * len(days), "anyfinder": 3 * len(days)}


@pytest.mark.slow
def test_sources_that_nothing_befell_are_seldom_called_real(tmp_path: Path) -> None:
    rng = np.random.default_rng(8)
    days = pd.date_range("2025-08-01", "2026-10-31", freq="7D")
    names = [f"site-{n}.example" for n in range(40)]
    level = rng.lognormal(3, 1, len(names)) * np.exp(rng.normal(0, 0.3, (2, len(names)))).cumprod(axis=0)  # each has a year of its own
    late = (days >= "2026-03-01").astype(int)
    sessions = pd.DataFrame(rng.poisson(level[late]), index=days, columns=names)
    sessions.loc[late == 1, "site-7.example"] *= 12
    landings = (
        sessions.rename_axis("date")
        .reset_index()
        .melt("date", var_name="source", value_name="sessions")
        .assign(page=f"{HOME}a/", medium="referral")
    )
    search = pd.DataFrame({"date": days, "page": f"{HOME}a/", "query": "a", "clicks": 30, "impressions": 300, "position": 3.0})
    with nibbet.Site(home=HOME, search=search, landings=landings) as site:
        changes = site.compare(by="source").set_index("key")
        table = site.visit_sources()
    assert changes.index[changes["real"]].tolist() == ["site-7.example"]
    window = sessions.loc["2026-08-03":"2026-10-31"].sum()
    assert changes["recent"].to_dict() == window.reindex(changes.index).astype(float).to_dict()
    assert table.set_index("source")["sessions"].to_dict() == window.reindex(table["source"]).astype(float).to_dict()


SURFACES = {"web": (3, 60), "image": (1, 400)}


def of_surfaces(**named: dict[str, str]) -> dict[str, pd.DataFrame]:
    """Three pages found by web and by image search, by day; named: the columns that each surface's rows carry besides."""
    days = pd.DataFrame({"date": pd.date_range("2026-05-01", "2026-10-31").strftime("%Y-%m-%d")})
    pages = pd.DataFrame({"page": [f"https://tarnbrook.example/{name}/" for name in ("owl", "heron", "otter")]})
    rows = pages.merge(days, how="cross")
    return {name: rows.assign(clicks=c, impressions=i, position=4.0, **named[name]) for name, (c, i) in SURFACES.items()}


@pytest.mark.parametrize("words", [("web", "image"), ("Websuche", "Bilder")])
def test_other_surfaces_stand_beside_pages_and_are_not_added(words: tuple[str, str]) -> None:
    parts = of_surfaces(web={"surface": words[0]}, image={"surface": words[1]})
    for asked, clicks in (([], 810), (list(words), 1080)):
        settings = make_config({"site": {"home": "https://tarnbrook.example/", "surfaces": asked}})
        with nibbet.Site(config=settings, search=pd.concat(parts.values())) as site:
            pages, splits, account = site.pages(), site.splits(), site.account
        assert pages["clicks"].sum() == clicks
        assert splits[splits["dimension"] == "surface"].set_index("value")["clicks"].to_dict() == {words[0]: 810, words[1]: 270}
        assert any(note["code"] == "other_surface" for note in account["notes"]) is not bool(asked)
        one = account["sources"][0]
        assert one["rows_read"] == one["rows_used"] + sum(part["rows"] for part in one["set_aside"])


@pytest.mark.slow
def test_where_no_row_is_of_web_search_all_count(tmp_path: Path) -> None:
    whole = (
        of_surfaces(web={}, image={})["image"]
        .groupby("page", as_index=False)
        .agg({"clicks": "sum", "impressions": "sum", "position": "mean"})
    )
    whole.to_csv(tmp_path / "image.csv", index=False)
    source = '[[source]]\nkind = "search"\nfiles = "image.csv"\nconstant = { surface = "image" }\nperiod = ["2026-05-01", "2026-10-31"]\n'
    (tmp_path / "nibbet.toml").write_text('[site]\nhome = "https://tarnbrook.example/"\n' + source)
    with nibbet.open_site(tmp_path) as site:
        assert site.pages()["clicks"].sum() == whole["clicks"].sum()
        assert str(site.windows.recent) == "2026-05-01..2026-10-31"


@pytest.mark.parametrize("undated", [False, True])
def test_a_table_of_one_surface_never_takes_the_place_of_web_search(tmp_path: Path, undated: bool) -> None:
    parts = of_surfaces(web={"device": "mobile"}, image={})
    for name, rows in parts.items():
        whole = (
            rows.drop(columns="date")
            .groupby([c for c in rows if c in ("page", "device")], as_index=False)
            .agg({"clicks": "sum", "impressions": "sum", "position": "mean"})
        )
        (whole if undated else rows).to_csv(tmp_path / f"{name}.csv", index=False)
    period = 'period = ["2026-05-01", "2026-10-31"]\n' if undated else ""
    source = '[[source]]\nkind = "search"\nfiles = "{}.csv"\n' + period
    settings = (
        '[site]\nhome = "https://tarnbrook.example/"\n'
        + source.format("image")
        + 'constant = { surface = "image" }\n'
        + source.format("web")
    )
    (tmp_path / "nibbet.toml").write_text(settings)
    with nibbet.open_site(tmp_path) as site:
        account, pages = site.account, site.pages()
    reasons = {one["file"]: [part["reason"] for part in one["set_aside"]] for one in account["sources"]}
    assert reasons == {"image.csv": ["other surface: image"], "web.csv": []}
    assert pages["ctr"].round(6).tolist() == [0.05] * 3
