"""Markets: who asks from where in which language, and what a translation would be worth, on a made-up site in two dresses."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main

HOME = "https://stonemill.example"
SUBJECTS = "weir stile ford bothy cairn shale heath copse tarn fell beck ghyll moss scree ridge combe spinney meadow lock sluice".split()
ABROAD = {"deu": "wie hoch ist der eintritt für {} am wochenende", "fra": "quels sont les horaires pour visiter {} en été"}
SPANISH = {"date": "Fecha", "page": "Página", "query": "Consulta", "country": "País", "clicks": "Clics", "impressions": "Impresiones", "position": "Posición media",
           "sessions": "Sesiones", "engaged sessions": "Sesiones con interacción", "conversions": "Conversiones"}  # fmt: skip


def site(folder: Path, names: dict[str, str]) -> tuple[pd.DataFrame, pd.DataFrame]:
    """Twenty pages asked in English, in German from one country and in French from another; returns the rows of the recent window."""
    rng, days, parts = np.random.default_rng(3), pd.date_range("2026-08-03", "2026-10-31", freq="2D"), []
    for word in SUBJECTS:
        for country, text, place, shown in (("gbr", "{} opening times guide", 2.2, 40), ("deu", "{} opening times guide", 2.4, 9), *((land, text, 8.0, 30 if land == "deu" else 8) for land, text in ABROAD.items())):  # fmt: skip
            impressions = rng.poisson(shown, len(days))
            clicks = rng.binomial(impressions, 0.2 if place < 5 else 0.01)
            parts.append(pd.DataFrame({"date": days, "page": f"{HOME}/{word}/", "query": text.format(word), "country": country, "clicks": clicks, "impressions": impressions, "position": place}))  # fmt: skip
    search = pd.concat(parts, ignore_index=True)
    visits = search.groupby(["date", "page", "country"], as_index=False)["clicks"].sum().rename(columns={"clicks": "sessions"})
    visits["engaged sessions"] = (visits["sessions"] * 0.6).round()
    visits["conversions"] = np.where(visits["country"] == "deu", rng.binomial(visits["sessions"].astype(int), 0.1), rng.binomial(visits["sessions"].astype(int), 0.01))  # fmt: skip
    for name, table in {"search": search, "landings": visits}.items():
        table.rename(columns=names).to_csv(folder / f"{name}.csv", index=False)
    crawl = pd.DataFrame(
        {"page": [f"{HOME}/{word}/" for word in SUBJECTS], "status": 200, "title": [f"{word} opening times guide" for word in SUBJECTS]}
    )
    crawl.to_csv(folder / "crawl.csv", index=False)
    sources = "".join(f'[[source]]\nkind = "{name}"\nfiles = "{name}.csv"\n' for name in ("search", "landings", "crawl"))
    (folder / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}/"\n[value]\nconversion = 20\n{sources}')
    return search, visits


@pytest.mark.parametrize("names", [{}, SPANISH], ids=["plain", "Spanish"])
def test_languages_are_counted_by_country_and_weighed_by_what_it_buys(names: dict[str, str], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:  # fmt: skip
    search, visits = site(tmp_path, names)
    with nibbet.open_site(tmp_path) as one:
        table = one.markets()
        recent = one.windows.recent
        totals = one.splits().query("dimension == 'country'").set_index("value")
    search, visits = (rows[rows["date"].between(pd.Timestamp(recent.start), pd.Timestamp(recent.end))] for rows in (search, visits))
    spoken = table.dropna(subset=["language"]).set_index("language")
    assert dict(zip(spoken.index, spoken["country"], strict=True)) == {"de": "deu", "fr": "fra"}
    for language, country in (("de", "deu"), ("fr", "fra")):
        rows = search[(search["country"] == country) & (search["position"] == 8.0)]
        assert spoken.loc[language, ["queries", "impressions", "clicks"]].tolist() == [20, rows["impressions"].sum(), rows["clicks"].sum()]
    assert table["language"].iloc[0] == "de", "most worth first"
    assert (spoken["gain_low"] < spoken["gain"]).all()
    assert (spoken["gain"] < spoken["gain_high"]).all()
    by_visit = spoken["worth"] / spoken["gain"]
    sold = visits.groupby("country")[["sessions", "conversions"]].sum()
    rate = 20 * sold["conversions"].sum() / sold["sessions"].sum()
    assert by_visit["de"] == pytest.approx(
        (20 * sold.loc["deu", "conversions"] + 200 * rate) / (sold.loc["deu", "sessions"] + 200), rel=0.02
    )
    rest = table[table["language"].isna()].set_index("country")
    whole = rest[["impressions", "clicks"]].add(
        table.dropna(subset=["language"]).groupby("country")[["impressions", "clicks"]].sum(), fill_value=0
    )
    assert (whole == totals[["impressions", "clicks"]].reindex(whole.index)).all().all(), "nothing is lost"
    assert (rest["sessions"] == sold["sessions"].reindex(rest.index)).all()
    assert rest["because"].str.contains("convert").all()
    assert not spoken["because"].str.contains("convert").any(), "visits are known by country, not by language"
    assert main(["markets", str(tmp_path), "-q"]) == 0
    assert "in German from deu" in capsys.readouterr().out
