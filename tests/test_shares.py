"""What queries earn: shared to the last conversion, and as sure as it is told."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.core.shares import earned_by


def site(rng: np.random.Generator, spread: float) -> tuple[pd.DataFrame, pd.DataFrame, pd.Series]:
    """Rows of 120 pages with four of 40 topics each, the pages, and the conversions that each topic truly made."""
    sessions, section = rng.lognormal(5, 1, 120).round() + 4, rng.integers(0, 3, 120)
    base = np.array([0.01, 0.03, 0.08])[section] * rng.lognormal(-(spread**2) / 2, spread, 120)
    clicks = np.array([rng.multinomial(int(n), rng.dirichlet(np.full(4, 0.5))) for n in sessions])
    made = rng.poisson(clicks * base[:, None] * rng.lognormal(-(spread**2) / 2, spread, (120, 4)))
    topics = np.array([rng.choice(40, 4, replace=False) for _ in range(120)])
    rows = pd.DataFrame({"page": np.repeat(np.arange(120), 4), "clicks": clicks.ravel(), "key": [f"t{n:02d}" for n in topics.ravel()]})
    pages = pd.DataFrame(
        {"clicks": sessions, "sessions": sessions * 0.9, "engaged": sessions * 0.5, "conversions": made.sum(axis=1), "revenue": 1.0}
    )
    return rows, pages.assign(section=section), pd.Series(made.ravel()).groupby(rows["key"]).sum()


@pytest.mark.parametrize("spread", [0.0, 0.3, 0.6, 1.0])
def test_intervals_hold_and_nothing_is_lost(spread: float) -> None:
    rng, held = np.random.default_rng(5), []
    for _ in range(40):
        rows, pages, true = site(rng, spread)
        table = earned_by(rows, rows["key"], pages)
        for name in ("sessions", "conversions", "revenue"):
            assert table[name].sum() == pytest.approx(pages[name].sum()), name
        assert table["engagement_rate"].dropna().between(0.55, 0.56).all()
        inside = (table["conversions_low"] - 0.5 <= true) & (true <= table["conversions_high"] + 0.5)  # counts are whole
        held.append(inside.reindex(table.index).mean())
    assert 0.76 <= np.mean(held) <= 0.86


def test_a_page_of_one_topic_leaves_nothing_to_chance_and_what_is_withheld_stays_with_none() -> None:
    rows = pd.DataFrame({"page": [0, 0, 1], "clicks": [30, 20, 10], "key": ["a", "b", "a"]})
    pages = pd.DataFrame(
        {
            "clicks": [100, 10],
            "sessions": [90.0, 8.0],
            "engaged": [45.0, 8.0],
            "conversions": [10.0, 3.0],
            "revenue": [np.nan] * 2,
            "section": ["/", "/"],
        }
    )
    table = earned_by(rows, rows["key"], pages)
    assert table["conversions"].to_dict() == {"a": 6.0, "b": 2.0}
    alone = earned_by(rows, rows["key"].where(rows["page"] == 1), pages)
    assert alone.loc["a", ["conversions_low", "conversions", "conversions_high"]].tolist() == [3.0, 3.0, 3.0]
    assert earned_by(rows, pd.Series([None] * 3), pages).empty


def test_topics_and_groups_of_the_demo_tell_what_they_earn(ran: Path) -> None:
    with nibbet.open_site(ran) as one:
        topics, groups, pages = one.topics(), one.query_groups(), one.pages()
        whole = one.sql(
            "SELECT sum(conversions) FROM landings WHERE set_aside IS NULL AND channel = 'Organische Suche' AND date BETWEEN '2026-08-03' AND '2026-10-31'"
        )
    assert 0 < topics["conversions"].sum() < whole.iloc[0, 0]
    assert (topics["conversions_low"] <= topics["conversions"] + 1e-9).all() or topics["conversions"].isna().any()
    assert topics["sessions"].sum() < pages["sessions_organic"].sum()
    hire = groups.set_index("group").loc["hire"]
    assert hire["conversions_low"] < hire["conversions"] < hire["conversions_high"]
    assert groups["conversions"].sum() >= topics["conversions"].sum() - 1e-6, (
        "queries in several groups, and those without a topic, count too"
    )
