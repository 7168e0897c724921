"""What titles do: traits are seen as a person sees them, planted effects are found, and advice says only what the site proves."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from scipy import special

import nibbet
from nibbet.cli.main import main
from nibbet.core.clusters import clustered_poisson
from nibbet.core.titles import TRAITS, page_traits, query_traits, shown_width
from nibbet.core.words import Lexicon

TITLES = {
    "Elver canoe route, levels and launch points | Tarnbrook": "",
    "Tarnbrook: hire prices": "short, brand first",
    "Canoe shop": "brand absent, short",
    "The complete and unabridged guide to paddling every single river of the north | Tarnbrook": "cut off",
    "10 best dry bags for 2024 | Tarnbrook": "past year, number",
    "Paddling calendar for 2026 and what it brings | Tarnbrook": "year",
    "What is a keel for on a touring canoe? | Tarnbrook": "question",
    None: "missing",
}


def pages_of(titles: list[str | None], **columns: object) -> pd.DataFrame:
    return pd.DataFrame({"title": pd.Series(titles, dtype="str"), "description": None, "section": "/a/", **columns})


def test_traits_are_those_that_a_person_sees() -> None:
    told = page_traits(pages_of(list(TITLES)), ["Tarnbrook"], 2026).drop(columns=["description missing"])
    for (_, row), wanted in zip(told.iterrows(), TITLES.values(), strict=True):
        names = {name.removeprefix("title ") for name in told if row[name]}
        assert names == {part.strip() for part in wanted.split(",") if part}
    twins = page_traits(pages_of(["Paddles and how to choose them", "Paddles and how to choose them", "Helmets"]), [], 2026)
    assert twins["title doubled"].tolist() == [True, True, False]
    form = [f"Canoe hire at {name}: prices and boats" for name in "Elver Tarn Fenwick Kelder Orrin Ister".split()]
    assert page_traits(pages_of([*form, "How we choose our boats"]), [], 2026)["pattern"].tolist() == [True] * 6 + [False]
    assert shown_width(pd.Series(["iiii", "mmmm", "キャンプ", None])).tolist() == pytest.approx([1.12, 3.4, 4.0, 0.0])


def test_words_of_the_query_are_absent_late_or_there() -> None:
    pages = pages_of(
        ["Sea kayak hire on the coast of the north", "All our offers in one place, at one price and on one day: kayak hire", "Page 39"]
    )
    rows = pd.DataFrame({"page": [0, 1, 2], "query": "kayak hire"})
    told = query_traits(rows, pages, Lexicon())
    assert told["words absent"].tolist() == [False, False, True]
    assert told["words late"].tolist() == [False, True, False]


@pytest.mark.parametrize("pages", [80, 300])
@pytest.mark.slow
def test_effects_hold_the_truth(pages: int) -> None:
    rng, held = np.random.default_rng(pages), []
    for _ in range(60):
        page = np.repeat(np.arange(pages), rng.poisson(5, pages) + 1)
        expected = rng.lognormal(1.0, 1.3, len(page))
        column = (rng.random((pages, 4)) < [0.1, 0.3, 0.5, 0.2])[page].astype(float)
        effect = np.array([0.0, 0.3, -0.3, 0.0])
        stray = rng.normal(0, 0.35, pages)[page] + rng.normal(0, 0.3, len(page))
        clicks = rng.poisson(expected * np.exp(column @ effect + stray)).astype(float)
        fit = clustered_poisson(clicks, expected, np.column_stack([np.ones(len(page)), column]), page)
        held.append(np.abs(fit.coefficients[1:] - effect) < special.ndtri(0.9) * fit.errors[1:])
    assert 0.74 < np.mean(held) < 0.87


def test_titles_of_the_demo_are_told_with_what_they_cost(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with nibbet.open_site(ran) as site:
        advice, effects, pages, pulls = site.titles(), site.title_effects().set_index("trait"), site.pages(), site.pulls()
    bare = effects.loc["description missing"]
    assert bare["real"]
    assert bare["effect_high"] < 1, "planted: bad titles without descriptions are chosen less"
    assert not effects.loc[["title cut off", "words late"], "real"].any(), "nothing is planted on these"
    plain = pulls[pulls["query"].isna()].set_index("page")["clicks"]
    assert advice["page"].is_unique
    assert (advice.set_index("page")["clicks"] <= plain.reindex(advice["page"]).fillna(np.inf)).all(), "without brand and strays"
    proven = advice[advice["proven"]]
    assert len(proven) >= 4
    assert (proven["gain_low"] <= proven["gain"]).all()
    assert (proven["gain"] <= proven["gain_high"]).all()
    assert proven["change_first"].map(effects["real"]).all()
    assert advice.loc[~advice["proven"], "gain"].isna().all()
    living = pages[pages["indexable"].ne(False) & pages["status"].eq(200)]
    assert set(advice["page"]) <= set(living["page"])
    assert set(effects.index) <= set(TRAITS)
    assert main(["titles", str(ran), "-q", "--top", "1"]) == 0
    told = capsys.readouterr().out
    assert advice["page"].iloc[0] in told
    assert f"+{advice['gain'].iloc[0]:,.0f} clicks a month" in told
    assert main(["titles", str(ran), "-q", "--format", "json", "--where", "proven"]) == 0
    assert len(json.loads(capsys.readouterr().out)) == len(proven)
