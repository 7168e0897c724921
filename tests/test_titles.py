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
from nibbet.core.titles import TRAITS, page_traits, query_traits, shown_width, title_advice, trait_effects
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
    return pd.DataFrame(
        {"title": pd.Series(titles, dtype="str"), "description": None, "section": "/a/", "path": "/a/x", "language": None, **columns}
    )


def test_traits_are_those_that_a_person_sees() -> None:
    told = page_traits(pages_of(list(TITLES)), ["Tarnbrook"], 2026).drop(columns=["description missing"])
    for (_, row), wanted in zip(told.iterrows(), TITLES.values(), strict=True):
        names = {name.removeprefix("title ") for name in told if row[name]}
        assert names == {part.strip() for part in wanted.split(",") if part}
    twins = page_traits(pages_of(["Paddles and how to choose them", "Paddles and how to choose them", "Helmets"]), [], 2026)
    assert twins["title doubled"].tolist() == [True, True, False]
    both = pages_of(["Hotels in Tarn", "Hotels in Tarn", "Hotels in Tarn"], path=["/de/tarn/", "/en/tarn/", "/en/tarn-2/"])
    assert page_traits(both, [], 2026)["title doubled"].tolist() == [False, True, True], "each language has its own titles"
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


def test_advice_takes_the_proven_trait_first_and_promises_nothing_else() -> None:
    rng = np.random.default_rng(4)
    count = 240
    pages = pd.DataFrame({"page": [f"/p{n}/" for n in range(count)], "title": "A title", "section": rng.choice(["/a/", "/b/"], count)})
    traits = pd.DataFrame(
        {name: rng.random(count) < share for name, share in (("title doubled", 0.3), ("title cut off", 0.3), ("number", 0.3))}
    )
    expected = rng.lognormal(4.5, 0.8, count)
    rate = np.where(traits["title cut off"], 0.6, 1.0) * np.where(traits["number"], 1.4, 1.0)
    rows = pd.DataFrame(
        {"page": pages.index, "clicks": rng.poisson(expected * rate), "expected_clicks": expected, "impressions": 1000, "position": 4.0}
    )
    effects = trait_effects(rows, traits, pages["section"])
    assert effects["real"].to_dict() == {"title doubled": False, "title cut off": True, "number": True}
    assert effects.loc["title cut off", "effect"] == pytest.approx(0.6, abs=0.05)
    assert effects.loc["number", "effect"] == pytest.approx(1.4, abs=0.12)
    advice = title_advice(pages, rows, traits, effects, 1 / 3).set_index("page")
    has = traits.set_axis(pages["page"])
    assert set(advice.index) == set(has.index[has["title doubled"] | has["title cut off"]]), "a number that helps is no fault"
    assert (advice["change_first"] == np.where(has.loc[advice.index, "title cut off"], "title cut off", "title doubled")).all()
    proven = advice[advice["proven"]]
    wanted = proven["clicks"] / 3 * (1 / effects.loc["title cut off", "effect"] - 1)
    np.testing.assert_allclose(proven["gain"], wanted)
    assert advice.loc[~advice["proven"], "gain"].isna().all()
    assert advice["gain"].dropna().is_monotonic_decreasing
    both = has.index[has["title doubled"] & has["title cut off"]][0]
    assert advice.loc[both, "traits"] == "title doubled; title cut off"
    assert "not proven on this site" in advice.loc[~advice["proven"], "because"].iloc[0]


def test_two_traits_on_the_same_pages_are_not_told_apart() -> None:
    rng = np.random.default_rng(6)
    twin = rng.random(200) < 0.2
    traits = pd.DataFrame({"title short": twin, "description missing": twin})
    expected = rng.lognormal(4, 0.8, 200)
    rows = pd.DataFrame(
        {"page": range(200), "clicks": rng.poisson(expected * np.where(twin, 0.5, 1)), "expected_clicks": expected, "position": 3.0}
    )
    effects = trait_effects(rows, traits, pd.Series("/a/", index=rows.index))
    assert not effects["real"].any()
    assert (effects["effect_low"] < 0.5).all()
    assert (effects["effect_high"] > 1).all()


def test_a_list_of_titles_in_another_language_is_enough() -> None:
    rng = np.random.default_rng(9)
    days, names = pd.date_range("2026-08-03", "2026-10-31"), [f"/angeln/gewasser-{n}" for n in range(60)]
    bad = rng.random(60) < 0.25
    titles = np.where(bad, "Seite", [f"Gewässer {chr(65 + n % 26)}{n}: Karte, Pegel und Zufahrt im Überblick" for n in range(60)])
    shown = pd.DataFrame({"Seite": names, "Suchanfrage": [f"gewässer {chr(65 + n % 26)}{n} karte".lower() for n in range(60)]}).merge(
        pd.DataFrame({"Tag": days}), how="cross"
    )
    rate = np.where(shown["Seite"].map(dict(zip(names, bad, strict=True))), 0.06, 0.12)
    shown = shown.assign(Einblendungen=80, Klicks=rng.binomial(80, rate), Position=4.0)
    with nibbet.Site(home="https://tarnbrook.example/", search=shown, crawl=pd.DataFrame({"Adresse": names, "Titel": titles})) as site:
        effects, advice = site.title_effects().set_index("trait"), site.titles()
    assert "description missing" not in effects.index, "nothing tells descriptions"
    named = effects[effects["effect"].notna()]
    assert (named.loc[named.index.isin(["title short", "title doubled", "words absent"]), "effect_low"] < 0.6).all(), (
        "they stand on the same pages"
    )
    assert set(advice["page"].str.rpartition("/")[2]) == {f"gewasser-{n}" for n in np.flatnonzero(bad)}
