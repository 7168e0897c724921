"""How new pages start is told beside earlier new pages of the same age, counted again by hand."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import nibbet
from nibbet.cli.main import main
from nibbet.core.starts import LEAST_EARLIER, starts


@settings(max_examples=60)
@given(st.integers(0, 10_000), st.integers(2, 40), st.integers(1, 30))
def test_starts_are_those_counted_by_hand(seed: int, pages: int, weeks: int) -> None:
    rng = np.random.default_rng(seed)
    began, young = rng.integers(0, weeks + 1, pages), rng.random(pages) < 0.4
    clicks = rng.poisson(4, (pages, weeks)) * (np.arange(weeks) >= began[:, None])
    table = starts(clicks.astype(np.int64), began.astype(np.int64), young)
    assert len(table) == young.sum()
    for row, page in zip(table.to_dict("records"), np.flatnonzero(young), strict=True):
        age = weeks - began[page]
        assert (row["age_weeks"], row["start_clicks"]) == (age, clicks[page].sum())
        able = [other for other in np.flatnonzero(~young) if weeks - began[other] >= age]
        assert row["earlier"] == len(able)
        if age == 0 or len(able) < LEAST_EARLIER:
            assert np.isnan(row["start_usual"]), "too few tell nothing"
            continue
        first = np.array([clicks[other, began[other] : began[other] + age].sum() for other in able])
        assert row["start_usual"] == pytest.approx(np.median(first))
        assert row["start_low"] <= row["start_usual"] <= row["start_high"]
        assert row["start_rank"] == pytest.approx(((first < row["start_clicks"]).mean() + (first <= row["start_clicks"]).mean()) / 2)


def test_a_strong_and_a_weak_start_stand_out_and_old_pages_are_no_new_ones() -> None:
    rng, days = np.random.default_rng(4), pd.date_range("2026-01-01", "2026-10-31")
    parts = []
    for number in range(40):
        born = 0 if number < 5 else 60 + 4 * (number - 5) if number < 37 else 270
        rate = 3.0 if number < 37 else (0.2, 3.0, 40.0)[number - 37]
        own = days[born:]
        shown = rng.poisson(rate * 8, len(own))
        rows = {
            "date": own,
            "page": f"/p{number}/",
            "query": f"river walk {number}",
            "clicks": rng.binomial(shown, 0.12),
            "impressions": shown,
            "position": 3.0,
        }
        parts.append(pd.DataFrame(rows)[shown > 0])
    with nibbet.Site("https://tarnbrook.example/", search=pd.concat(parts)) as site:
        table = site.new_pages(60).set_index("page")
        assert site.new_pages(1).empty
    assert set(table.index) == {f"https://tarnbrook.example/p{n}/" for n in (37, 38, 39)}
    ranks = table["start_rank"].tolist()
    weak, usual, strong = (table.loc[f"https://tarnbrook.example/p{n}/", "start_rank"] for n in (37, 38, 39))
    assert weak < 0.1 < usual < 0.9 < strong, ranks
    assert table.loc["https://tarnbrook.example/p39/", "first_query"] == "river walk 39"
    assert (table["earlier"] == 32).all(), "pages older than the data started before anyone looked"


def test_new_pages_on_the_command_line(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["new", str(ran), "-q", "--days", "400", "--format", "json"]) == 0
    rows = pd.DataFrame(json.loads(capsys.readouterr().out))
    pages = pd.read_csv(ran / "out" / "pages.csv").set_index("page")
    assert len(rows) > 3
    assert pages.loc[rows["page"], "moved_from"].isna().all(), "a page that moved is not new"
    assert (pages.loc[rows["page"], "clicks"].to_numpy() == rows["clicks"].to_numpy()).all()
    dated = rows[rows["published"].notna()]
    assert (pd.to_datetime(dated["first_seen"]) >= pd.to_datetime(dated["published"])).mean() > 0.9, (
        "search shows a page after it was published"
    )
    assert main(["new", str(ran), "-q", "--days", "1"]) == 0
    assert "no page in the last 1 days" in capsys.readouterr().out
