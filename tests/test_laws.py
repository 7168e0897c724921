"""Laws of the small computations that all figures rest on, for whatever numbers come."""

from __future__ import annotations

import io
import json

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from nibbet.core.change import change
from nibbet.core.compare import own_season
from nibbet.core.pull import BAD_PULL, false_discovery, judged_pull, left_when_mended, shrunk_pull, weighted_position
from nibbet.core.tables import PARTS, rows_at, spelt
from nibbet.core.windows import Window, weekday_scale
from nibbet.render.files import as_csv
from nibbet.render.terminal import as_json

counts = st.lists(st.integers(0, 50_000), min_size=1, max_size=30)
shares = st.lists(st.floats(0, 1), min_size=1, max_size=60)


@given(shares, st.integers(0, 20))
def test_q_values_are_those_of_benjamini_and_hochberg(p_values: list[float], unknown: int) -> None:
    p = np.array([*p_values, *[np.nan] * unknown])
    q = false_discovery(p)
    assert np.isnan(q[len(p_values) :]).all(), "what is not known stays so"
    np.testing.assert_allclose(q[: len(p_values)], stats.false_discovery_control(p_values), rtol=1e-12)
    shuffled = np.random.default_rng(unknown).permutation(len(p))
    np.testing.assert_allclose(false_discovery(p[shuffled]), q[shuffled])


@given(st.lists(st.tuples(st.integers(0, 10_000), st.one_of(st.just(0.0), st.floats(0.001, 10_000))), min_size=1, max_size=40))
def test_pulls_are_drawn_to_one_and_never_past_it(rows: list[tuple[int, float]]) -> None:
    clicks, expected = (np.array(column, dtype=float) for column in zip(*rows, strict=True))
    pull = shrunk_pull(clicks, expected)
    asked = expected > 0
    assert np.isnan(pull[~asked]).all(), "where nothing can be expected there is no pull"
    raw, pull = clicks[asked] / expected[asked], pull[asked]
    assert (pull >= np.minimum(raw, 1) - 1e-9).all()
    assert (pull <= np.maximum(raw, 1) + 1e-9).all()
    np.testing.assert_allclose(shrunk_pull(expected[asked], expected[asked]), 1.0, atol=1e-9)


@given(st.lists(st.tuples(st.integers(0, 400), st.floats(0.5, 400)), min_size=2, max_size=40))
def test_intervals_of_pulls_hold_their_middle_and_lost_clicks_follow_them(rows: list[tuple[int, float]]) -> None:
    clicks, expected = (np.array(column, dtype=float) for column in zip(*rows, strict=True))
    judged = judged_pull(clicks, expected)
    known = judged.dropna(subset=["pull_low", "pull_high"])
    assert (known["pull_low"] <= known["pull_high"]).all()
    assert (known["lost_low"] <= known["lost_high"] + 1e-9).all()
    flagged = judged[judged["flag"] == "low"]
    assert (clicks[flagged.index] < expected[flagged.index] * 1.5).all(), "none is flagged low that is chosen far more than expected"


@given(counts, counts)
def test_a_position_is_weighted_by_impressions(positions: list[int], impressions: list[int]) -> None:
    size = min(len(positions), len(impressions))
    place, shown = np.array(positions[:size], float) + 1, np.array(impressions[:size], float)
    told = weighted_position(pd.Series([(place * shown).sum()]), pd.Series([shown.sum()]))
    if shown.sum() == 0:
        assert told.isna().all(), "without impressions there is no position"
    else:
        assert told.iloc[0] == pytest.approx(np.average(place, weights=shown))


@settings(max_examples=60)
@given(
    st.lists(st.tuples(st.integers(0, 3000), st.integers(0, 3000)), min_size=1, max_size=25),
    st.floats(0.2, 4.0),
    st.floats(0.0, 0.5),
)
def test_a_change_lies_in_its_interval_and_its_sum_is_that_of_the_counts(rows: list[tuple[int, int]], scale: float, noise: float) -> None:
    recent, reference = (np.array(column, dtype=float) for column in zip(*rows, strict=True))
    known = np.ones(len(rows), dtype=bool)
    result = change(recent, reference, scale=scale, beyond=0.1, noise=np.full(len(rows), noise), season=np.ones(len(rows)), known=known)
    np.testing.assert_allclose(result["change"], recent - reference * scale)
    assert (result["change_low"] <= result["change"] + 1e-6).all()
    assert (result["change_high"] >= result["change"] - 1e-6).all()
    same = change(recent, recent, scale=1.0, beyond=0.1, noise=np.full(len(rows), noise), season=np.ones(len(rows)), known=known)
    assert not same["change_real"].any(), "what did not change is not called changed"


@given(st.lists(st.integers(0, 900), min_size=28, max_size=120), st.integers(7, 14))
def test_windows_of_whole_weeks_are_scaled_by_their_length(clicks: list[int], weeks: int) -> None:
    days = pd.DataFrame({"date": pd.date_range("2026-01-05", periods=len(clicks)), "clicks": clicks, "impressions": clicks})
    first, last = days["date"].iloc[0].date(), days["date"].iloc[27].date()
    half = Window(first, days["date"].iloc[13].date())
    assert weekday_scale(days, Window(first, last), half) == pytest.approx(2.0), "four weeks hold twice what two hold"
    assert weekday_scale(days, half, half) == pytest.approx(1.0)
    assert weeks > 0


texts = st.text(st.characters(blacklist_categories=["Cs", "Cc"]), max_size=12)


@given(st.lists(st.tuples(texts, st.one_of(st.none(), st.floats(-1e9, 1e9)), st.booleans()), min_size=1, max_size=20))
def test_csv_and_json_hold_what_the_frame_holds(rows: list[tuple[str, float | None, bool]]) -> None:
    frame = pd.DataFrame(rows, columns=["text", "number", "flag"]).astype({"text": "str", "number": "float64", "flag": "bool"})
    again = pd.read_csv(io.StringIO(as_csv(frame)), dtype={"text": "str"}, keep_default_na=False, na_values={"number": [""]})
    assert len(again) == len(frame)
    for given_text, read in zip(frame["text"], again["text"], strict=True):
        assert read in (given_text, "'" + given_text), "at most an apostrophe keeps a spreadsheet from running it"
        assert not read.lstrip().startswith(("=", "+", "@")) or read.startswith("'")
    np.testing.assert_allclose(again["number"].astype(float), frame["number"], rtol=6e-6, atol=1e-20)
    assert again["flag"].astype(str).str.lower().tolist() == [str(flag).lower() for flag in frame["flag"]]
    read = json.loads(as_json(frame))
    assert [row["text"] for row in read] == frame["text"].tolist()
    assert [row["number"] is None for row in read] == frame["number"].isna().tolist()


@given(st.lists(texts, min_size=1, max_size=20), st.data())
def test_categories_and_chosen_rows_read_as_the_texts_they_are(words: list[str], data: st.DataObject) -> None:
    column = pd.Series(pd.Categorical(words))
    assert spelt(column).tolist() == words
    chosen = pd.Series(data.draw(st.lists(st.booleans(), min_size=len(words), max_size=len(words))))
    frame = pd.DataFrame({"word": words, "other": range(len(words))})
    pd.testing.assert_frame_equal(rows_at(frame, chosen, ["word"]), frame.loc[chosen, ["word"]])
    assert len(set(PARTS)) == len(PARTS)


@settings(max_examples=15)
@given(st.integers(0, 2**32 - 1), st.floats(0.4, 2.0), st.floats(0.5, 2.0), st.floats(0.8, 1.2))
def test_a_season_of_its_own_is_what_one_page_did_beside_all(seed: int, moved: float, season: float, scale: float) -> None:
    then = np.random.default_rng(seed).integers(2_000, 4_000, 40).astype(float)
    section = np.full(len(then) + 3, season)
    now = then * scale * season * moved

    def factors(*own: tuple[float, float]) -> np.ndarray:
        rows = [*zip(now, then, strict=True), *own]
        return own_season(pd.DataFrame(rows, columns=["recent", "reference"]), section[: len(rows)], scale)

    np.testing.assert_allclose(factors(), section[:40], rtol=0.02), "what moved the whole site was no season"
    busy, quiet, silent = ((clicks * scale * season * moved * 3, clicks) for clicks in (3_000.0, 10.0, 0.0))
    found = factors(busy, quiet, silent) / section
    assert 1 < found[41] < found[40] <= 3.05, "the fewer the clicks, the nearer to the section"
    assert found[42] == 1, "of a page without clicks nothing is known"


@given(st.integers(0, 5000), st.floats(1, 50_000), st.floats(0.05, 1.0))
def test_a_mended_title_gives_back_what_a_title_takes_and_no_more(clicks: int, usual: float, spread: float) -> None:
    part = left_when_mended(np.array([float(clicks)]), np.array([usual]), spread)[0]
    assert 0 < part <= 1
    assert (part == 1) == (clicks + 0.5 >= BAD_PULL * usual), "what a poor title can take, it gives back"
    assert part >= min((clicks + 0.5) / usual / BAD_PULL, 1) - 1e-9
