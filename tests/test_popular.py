"""Popular content: by views, stay and earnings, what it has in common, and ideas beside it, on a made-up site in two dresses."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.popular import common_traits, is_popular

HOME = "https://stonemill.example"
SUBJECTS = "weir stile ford bothy cairn shale heath copse tarn fell beck ghyll moss scree ridge combe spinney meadow lock sluice kiln forge anvil bellows".split()
GERMAN = {"date": "Datum", "page": "Adresse", "query": "Suchanfrage", "clicks": "Klicks", "impressions": "Einblendungen", "sessions": "Sitzungen",
          "engagement seconds": "Verweildauer gesamt", "conversions": "Abschlüsse", "title": "Titel", "status": "Statuscode"}  # fmt: skip
DAYS = pd.date_range("2026-06-01", "2026-10-31", freq="3D")


def site(folder: Path, names: dict[str, str], seed: int) -> pd.DataFrame:
    """A site of 48 pages of which those with a number in the title are visited four times as often; returns the visits by page."""
    rng = np.random.default_rng(seed)
    pages = pd.DataFrame(
        {
            "page": [
                f"{HOME}/{part}/{word}/"
                for part, end in (("walks", ""), ("crafts", "work"))
                for word in [f"{one}{end}" for one in SUBJECTS]
            ]
        }
    )
    number = rng.permutation(48) < 12
    number[pages["page"] == f"{HOME}/walks/weir/"] = True
    pages["title"] = [f"{count}The {page.split('/')[-2]} {page.split('/')[3]}" for page, count in zip(pages["page"], np.where(number, "7 ways to ", ""), strict=True)]  # fmt: skip
    pages["status"] = 200
    rate = np.where(number, 8.0, 2.0) * rng.uniform(0.8, 1.25, 48)
    rows = pages[["page"]].merge(pd.DataFrame({"date": DAYS}), how="cross")
    clicks = rng.poisson(np.repeat(rate, len(DAYS)))
    word = rows["page"].str.split("/").str[4]
    search = rows.assign(query=word + " guide", clicks=clicks, impressions=clicks * 8 + 2, position=3.0)
    asked = pd.DataFrame(
        {"date": DAYS, "page": f"{HOME}/walks/weir/", "query": "weir fishing permit", "clicks": 0, "impressions": 90, "position": 11.0}
    )
    landings = rows.assign(sessions=clicks + 1)
    landings["engagement seconds"] = landings["sessions"] * np.repeat(rng.uniform(30, 50, 48), len(DAYS))
    landings["conversions"] = np.where(rows["page"] == f"{HOME}/crafts/kilnwork/", 2, 0)
    for name, table in {"search": pd.concat([search, asked]), "landings": landings, "crawl": pages}.items():
        table.rename(columns=names).to_csv(folder / f"{name}.csv", index=False)
    sources = "".join(f'[[source]]\nkind = "{name}"\nfiles = "{name}.csv"\n' for name in ("search", "landings", "crawl"))
    (folder / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}/"\n{sources}')
    recent = landings[landings["date"] >= "2026-08-03"]
    return recent.groupby("page")[["sessions", "engagement seconds", "conversions"]].sum()


@pytest.mark.parametrize("names", [{}, GERMAN], ids=["plain", "German"])
def test_what_is_liked_is_found_with_what_it_has_in_common(
    names: dict[str, str], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    truth = site(tmp_path, names, len(names))
    with nibbet.open_site(tmp_path) as one:
        table, common, ideas = one.popular(), one.popular_traits().set_index(["measure", "trait"]), one.popular_ideas()
    first = table[(table["level"] == "site") & (table["measure"] == "views")]
    assert first["value"].tolist() == truth["sessions"].nlargest(20).tolist()
    assert first["share"].iloc[0] == pytest.approx(first["value"].iloc[0] / truth["sessions"].sum())
    walks = table[(table["level"] == "section") & (table["key"] == "/walks/") & (table["measure"] == "views")]
    assert walks["page"].tolist() == truth.filter(like="/walks/", axis=0)["sessions"].nlargest(5).index.tolist()
    kept = table[(table["measure"] == "kept") & (table["level"] == "site")]
    seconds = (truth["engagement seconds"] / truth["sessions"]).reindex(kept["page"])
    assert seconds.is_monotonic_decreasing or seconds.corr(kept.set_index("page")["value"], method="spearman") > 0.9
    earning = table[(table["measure"] == "earning") & (table["level"] == "site")]
    assert earning["page"].tolist() == [f"{HOME}/crafts/kilnwork/"]
    planted = common.loc[("views", "number")]
    assert planted["real"]
    assert planted["times_low"] > 2
    assert not common.drop(index=("views", "number"))["real"].loc["kept"].any()
    assert (ideas["label"].iloc[0], ideas["page"].iloc[0]) == ("weir fishing permit", f"{HOME}/walks/weir/")
    assert main(["popular", str(tmp_path), "-q", "--top", "3"]) == 0
    told = capsys.readouterr().out
    assert "Most viewed: sessions" in told
    assert "number: " in told


@pytest.mark.slow
def test_traits_that_mean_nothing_are_seldom_called_and_planted_ones_are_as_large_as_told() -> None:
    called, inside = 0, 0
    for seed in range(150):
        rng = np.random.default_rng(seed)
        section = pd.Series(rng.choice(["a", "b", "c", "d"], 300, p=[0.5, 0.3, 0.15, 0.05]))
        level = section.map({"a": 1.0, "b": 9.0, "c": 0.2, "d": 2.0})
        chance = section.map({"a": 0.2, "b": 0.7, "c": 0.4, "d": 0.5})  # a trait of popular sections, which makes no page popular
        traits = pd.DataFrame({str(n): rng.random(300) < chance for n in range(12)}).astype(object)
        popular = is_popular(pd.DataFrame({"views": level * rng.lognormal(0, 1, 300)}), section)
        called += int(common_traits(popular, traits, section)["real"].any())
        likely = np.where(traits["0"].astype(bool), 0.36, 0.12)
        marked = pd.DataFrame({"views": pd.Series(rng.random(300) < likely).astype(object)})
        found = common_traits(marked, traits, section).set_index("trait").loc["0"]
        inside += int(found["times_low"] <= 3 <= found["times_high"])
    assert called / 150 <= 0.06
    assert 0.91 <= inside / 150 <= 0.99
