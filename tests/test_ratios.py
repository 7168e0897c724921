"""Ratios of sums with pages drawn whole: laws of their intervals, and of the rates that stand beside the same pages elsewhere."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nibbet.core.ratios import ENOUGH_PAGES, ratio_interval
from nibbet.core.splits import SPLITS, splits_of

COUNTED = ["clicks", "impressions", "position_sum", "placed", "clicks_reference", "clicks_plain", "expected_clicks"]
VISITED = ["sessions", "sessions_reference", "engaged_sessions", "engagement_seconds", "conversions", "revenue"]
rows = st.lists(st.tuples(st.sampled_from("abc"), st.integers(0, 12), st.integers(0, 400), st.floats(0.5, 400)), min_size=1, max_size=60)


def pages_of(given_rows: list[tuple[str, int, int, float]]) -> pd.DataFrame:
    frame = pd.DataFrame(given_rows, columns=["group", "page", "counted", "expected"])
    return frame.groupby(["group", "page"])[["counted", "expected"]].sum().astype("float64")


@given(rows)
def test_a_ratio_lies_in_its_interval_and_is_that_of_the_sums(given_rows: list[tuple[str, int, int, float]]) -> None:
    pages = pages_of(given_rows)
    table = ratio_interval(pages)
    sums = pages.groupby("group").sum()
    np.testing.assert_allclose(table["ratio"], (sums["counted"] + 0.5) / sums["expected"])
    assert (table["low"] < table["ratio"]).all()
    assert (table["ratio"] < table["high"]).all()
    assert (table["error"] >= np.sqrt(1 / (sums["counted"] + 0.5)) - 1e-9).all(), "never surer than counting allows"
    wider = ratio_interval(pages, level=0.99)
    assert (wider["high"] >= table["high"]).all()


@given(rows, st.floats(0.1, 50), st.randoms())
@pytest.mark.slow
def test_neither_order_nor_the_unit_of_expectation_matters(
    given_rows: list[tuple[str, int, int, float]], factor: float, random: object
) -> None:
    pages = pages_of(given_rows)
    table = ratio_interval(pages)
    shuffled = pages.sample(frac=1, random_state=random.randrange(2**31))
    pd.testing.assert_frame_equal(ratio_interval(shuffled).reindex(table.index), table, rtol=1e-9)
    scaled = ratio_interval(pages.assign(expected=pages["expected"] * factor))
    np.testing.assert_allclose(scaled["ratio"] * factor, table["ratio"], rtol=1e-9)
    np.testing.assert_allclose(scaled["error"], table["error"], rtol=1e-6)


@pytest.mark.parametrize("pages", [2, ENOUGH_PAGES - 1, ENOUGH_PAGES, 80])
def test_more_pages_make_surer(pages: int) -> None:
    rng = np.random.default_rng(pages)

    def error(count: int) -> float:
        expected = rng.uniform(20, 60, count)
        counted = rng.poisson(expected * rng.lognormal(0, 0.3, count))
        index = pd.MultiIndex.from_arrays([["g"] * count, range(count)], names=["group", "page"])
        return float(ratio_interval(pd.DataFrame({"counted": counted, "expected": expected}, index=index).astype(float))["error"].iloc[0])

    one, four = np.mean([error(pages) for _ in range(40)]), np.mean([error(4 * pages) for _ in range(40)])
    assert one / four == pytest.approx(2.0, rel=0.35), "four times the pages, half the error"


def cells(values: dict[str, dict[int, tuple[int, int, int]]]) -> pd.DataFrame:
    """Cells of one dimension: value -> page -> (sessions, engaged, conversions)."""
    table = [
        {
            "dimension": "device",
            "value": value,
            "page": page,
            "sessions": n,
            "sessions_reference": n,
            "engaged_sessions": e,
            "conversions": c,
        }
        for value, pages in values.items()
        for page, (n, e, c) in pages.items()
    ]
    frame = pd.DataFrame(table).assign(engagement_seconds=lambda t: t["sessions"] * 10.0, revenue=0.0)
    return frame.assign(**dict.fromkeys(COUNTED, np.nan)).astype(dict.fromkeys([*COUNTED, *VISITED], "float64"))


def test_the_ratio_beside_is_that_of_mantel_and_haenszel() -> None:
    counts = {"phone": {0: (100, 60, 4), 1: (50, 10, 1), 2: (40, 0, 0)}, "desk": {0: (40, 20, 2), 1: (200, 60, 6)}}
    table = splits_of(cells(counts)).set_index("value")
    mine = 60 * 40 / 140 + 10 * 200 / 250
    others = 20 * 100 / 140 + 60 * 50 / 250
    assert table.loc["phone", "engagement_beside"] == pytest.approx(mine / others)
    assert table.loc["desk", "engagement_beside"] == pytest.approx(others / mine), "seen from the other side it is the inverse"
    assert table.loc["phone", "engagement_rate"] == pytest.approx(70 / 190), "the plain rate counts the page that the other lacks"
    assert table.loc["phone", "pages"] == 3
    assert table["pull"].isna().all(), "without searches there is no pull"
    assert set(SPLITS) == {*table.columns, "value"}


@settings(max_examples=50)
@given(
    st.dictionaries(st.integers(0, 8), st.tuples(st.integers(1, 300), st.integers(1, 300), st.floats(0, 1)), min_size=1), st.integers(0, 99)
)
@pytest.mark.slow
def test_values_that_are_alike_on_every_page_are_never_flagged(pages: dict[int, tuple[int, int, float]], seed: int) -> None:
    of = {
        name: {page: (sizes[at], round(sizes[at] * sizes[2]), round(sizes[at] * sizes[2] / 20)) for page, sizes in pages.items()}
        for at, name in enumerate(("phone", "desk"))
    }
    table = splits_of(cells(of))
    assert (table["engagement_flag"] == "").all()
    assert (table["conversion_flag"] == "").all()
    known = table.dropna(subset=["engagement_beside"])
    assert (known["engagement_low"] <= known["engagement_beside"]).all()
    assert (known["engagement_beside"] <= known["engagement_high"]).all()
    assert table["sessions"].sum() == sum(one + other for one, other, _ in pages.values()), f"nothing is lost ({seed})"
