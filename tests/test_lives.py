"""What becomes of pages and topics: planted on a made-up site, in two dresses."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main

HOME = "https://stonemill.example"
DAYS = pd.date_range("2025-05-01", "2026-10-31")
TURN = np.arange(len(DAYS))
SHAPES: dict[str, Callable[[np.random.Generator], np.ndarray]] = {
    "evergreen": lambda r: np.full(len(DAYS), 9.0),
    "seasonal": lambda r: 9 * np.exp(1.3 * np.cos(2 * np.pi * (DAYS.day_of_year.to_numpy() - r.integers(150, 190)) / 365.25)),
    "fading": lambda r: np.where(r.integers(330, 420) < TURN, 2.0, 12.0),
    "growing": lambda r: np.where(r.integers(330, 420) < TURN, 14.0, 3.0),
    "event over": lambda r: np.where(np.abs(TURN - r.integers(60, 110)) < 12, 40.0, 0.15),
    "one peak": lambda r: np.where(np.abs(TURN - r.integers(200, 300)) < 12, 40.0, 0.15),
}
EACH = 8
FRENCH = {
    "date": "Jour",
    "page": "Adresse",
    "query": "Requête",
    "clicks": "Clics",
    "impressions": "Affichages",
    "position": "Position moyenne",
}
SUBJECTS = "weir stile ford bothy cairn shale heath copse tarn fell beck ghyll moss scree ridge combe spinney meadow lock sluice kiln forge anvil bellows chisel mallet plane auger".split()


@pytest.mark.parametrize("names", [{}, FRENCH], ids=["plain", "French"])
def test_planted_lives_are_told_of_pages_and_topics(names: dict[str, str], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    rng, parts, planted = np.random.default_rng(len(names)), [], {}
    plan = [life for life in SHAPES for _ in range(EACH)] + ["evergreen"] * 24  # where most pages change, none can be told from the rest
    for number, life in enumerate(plan):
        word = f"{SUBJECTS[number % len(SUBJECTS)]}{number}"
        page = f"{HOME}/guides/{word}/"
        planted[page] = life
        clicks = rng.poisson(SHAPES[life](rng) * rng.uniform(0.7, 1.5))
        parts.append(
            pd.DataFrame(
                {"date": DAYS, "page": page, "query": f"{word} guide", "clicks": clicks, "impressions": clicks * 9 + 3, "position": 2.5}
            )
        )
    pd.concat(parts).rename(columns=names).to_csv(tmp_path / "search.csv", index=False)
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}/"\n[[source]]\nkind = "search"\nfiles = "search.csv"\n')
    with nibbet.open_site(tmp_path) as site:
        table = site.lives()
    pages = table[table["level"] == "page"].set_index("key")
    assert set(pages.index) == set(planted)
    right = pages["life"].reindex(list(planted)) == list(planted.values())
    assert right.mean() >= 0.9, pd.crosstab(pd.Series(planted), pages["life"]).to_string()
    topics = table[table["level"] == "topic"]
    of = topics.set_index(HOME + "/guides/" + topics["key"].str.split().str[0] + "/")["life"]
    assert (of.reindex(list(planted)) == list(planted.values())).mean() >= 0.85
    seasonal = pages[pages["life"] == "seasonal"]
    assert seasonal["peak"].dt.month.isin([5, 6, 7]).all()
    assert (seasonal["ready_by"] < seasonal["begins"]).all()
    assert pages["clicks"].sum() == topics["clicks"].sum()
    assert main(["calendar", str(tmp_path), "-q"]) == 0
    told = capsys.readouterr().out
    assert "To be ready for" in told
    assert "event over: " in told
    assert "an event, or a season of which the data hold one." in told
