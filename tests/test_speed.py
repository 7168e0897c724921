"""How fast pages are, which are slow or insecure, and what slowness costs: on made-up sites, in other dresses."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.speed import cost_of_slowness

HOME = "https://stonemill.example"
OTHERS = {
    "page": "Url",
    "loading": "LCP (ms)",
    "responding": "INP",
    "shifting": "CLS",
    "form_factor": "Device",
    "samples": "Samples",
    "month": "Month",
}
FRENCH = {"page": "Adresse", "loading": "Largest contentful paint", "responding": "Interaction to next paint", "shifting": "Cumulative layout shift", "form_factor": "Appareil", "samples": "Mesures", "month": "Mois"}  # fmt: skip


@pytest.mark.parametrize(
    ("names", "loading", "responding"), [(OTHERS, 1000, 1), (FRENCH, 1, 0.001)], ids=["milliseconds", "French, seconds"]
)
def test_pages_are_rated_and_repaired(
    names: dict[str, str], loading: float, responding: float, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    pages = [f"{HOME}/guides/{n}/" for n in range(9)]
    days = pd.date_range("2026-06-01", "2026-10-31")
    pd.DataFrame([(d, p) for d in days for p in pages], columns=["date", "page"]).assign(clicks=2, impressions=30, position=3.0).to_csv(
        tmp_path / "search.csv", index=False
    )
    rows = pd.DataFrame(
        {"page": pages[:6], "month": "2026-10", "form_factor": "phone", "loading": 2.0, "responding": 150, "shifting": 0.05, "samples": 900}
    )
    rows.loc[1, "loading"], rows.loc[2, "responding"], rows.loc[3, "shifting"] = 5.2, 300, 0.4
    old = rows.iloc[[0]].assign(month="2026-09", loading=9.0)
    rows = pd.concat([rows, old, rows.iloc[[1]].assign(form_factor="desktop", loading=1.0)])
    rows.assign(loading=rows["loading"] * loading, responding=rows["responding"] * responding).rename(columns=names).to_csv(
        tmp_path / "speed.csv", index=False
    )
    grouped = pd.DataFrame(
        {
            "group": ["/guides/*"],
            "form_factor": ["phone"],
            "loading": [2.4],
            "responding": [0.1 if responding < 1 else 100],
            "shifting": [0.01],
            "samples": [9],
        }
    )
    grouped.to_csv(tmp_path / "groups.csv", index=False)
    crawl = pd.DataFrame(
        {
            "page": [*pages[:7], pages[7].replace("https", "http"), pages[8].replace("https", "http")],
            "status": [200] * 8 + [301],
            "title": "t",
        }
    )
    crawl.assign(redirect_to=[None] * 8 + [pages[8]]).to_csv(tmp_path / "crawl.csv", index=False)
    sources = "".join(
        f'[[source]]\nkind = "{k}"\nfiles = "{f}"\n'
        for k, f in (("search", "search.csv"), ("vitals", ["speed.csv", "groups.csv"]), ("crawl", "crawl.csv"))
    ).replace("\"['speed.csv', 'groups.csv']\"", '["speed.csv", "groups.csv"]')
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}/"\n{sources}')
    with nibbet.open_site(tmp_path) as site:
        speed, repairs = site.speed(), site.repairs()
    assert main(["speed", str(tmp_path), "-q"]) == 0
    assert "poor 2, middling 1, good 7" in capsys.readouterr().out
    found = speed[speed["form_factor"] == "phone"].set_index("page")["rating"].rename(index=lambda page: page.removeprefix(HOME))
    assert found.reindex([f"/guides/{n}/" for n in range(9)]).tolist() == [
        "good",
        "poor",
        "middling",
        "poor",
        "good",
        "good",
        "good",
        "good",
        "good",
    ]
    slow = repairs[repairs["repair"] == "slow"].set_index("page")["because"]
    assert sorted(slow.index) == [pages[1], pages[3]]
    assert slow[pages[1]] == "A quarter of visits on phone have more than 5.2 s for the largest content (good: 2.5)."
    assert repairs.loc[repairs["repair"] == "insecure", "page"].tolist() == [pages[7]]


@pytest.mark.slow
def test_the_cost_is_found_where_there_is_one_and_seldom_else() -> None:
    rng, proven, held = np.random.default_rng(8), {0.8: 0, 1.0: 0}, 0
    for turn in range(120):
        effect = (0.8, 1.0)[turn % 2]
        size = 200
        pages = pd.DataFrame({"section": rng.choice(["/a/", "/b/"], size), "sessions": rng.lognormal(4.5, 0.8, size).round() + 5})
        poor = rng.random(size) < np.where(pages["section"] == "/a/", 0.5, 0.15)  # slow pages are of the section that engages less
        rate = np.where(pages["section"] == "/a/", 0.4, 0.65) * np.where(poor, effect, 1) * rng.lognormal(0, 0.1, size)
        pages["engaged_sessions"] = rng.binomial(pages["sessions"].astype(int), np.clip(rate, 0, 0.98))
        pages["conversions"] = 0.0
        speed = pd.DataFrame({"page": pages.index, "rating": np.where(poor, "poor", "good")})
        told = cost_of_slowness(speed, pages).iloc[0]
        proven[effect] += bool(told["proven"])
        held += told["low"] <= effect <= told["high"]
    assert proven[0.8] >= 55
    assert proven[1.0] <= 6, "at most one in ten of those that cost nothing"
    assert held >= 0.9 * 120
