"""What links say: kinds of anchors, those that are all the same, and words that no link says."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.anchors import KINDS, anchor_mix
from nibbet.core.words import Lexicon


def rows(rng: np.random.Generator, pages: int) -> pd.DataFrame:
    """Links from others to pages: on each several texts, "read on" everywhere, the brand, addresses and pictures."""
    parts = []
    for page in range(pages):
        texts = {"read on": 4, "Stonemill": 3, f"https://stonemill.example/{page}/": 2, None: 1} | {
            f"stove {page} {n}": int(rng.integers(1, 6)) for n in range(4)
        }
        parts += [("outside", page, text, links) for text, links in texts.items()]
    return pd.DataFrame(parts, columns=["side", "page", "anchor", "links"]).assign(menus=0)


NAMES = pd.DataFrame({"title": [f"Stove {n}: how to light it | Stonemill" for n in range(60)], "h1": None})


@pytest.mark.parametrize("seed", range(3))
def test_kinds_add_up_and_a_page_whose_links_all_say_the_same_stands_out(seed: int) -> None:
    given = rows(np.random.default_rng(seed), 60)
    more = pd.DataFrame([("outside", 3, "cheap stove", 90, 0), ("outside", 5, "STOVE 5", 90, 0), *[("inside", n, "read on", 3, 0) for n in (6, 7, 8)], ("inside", 7, "stoves", 0, 50), ("inside", 8, "light it", 1, 0)], columns=["side", "page", "anchor", "links", "menus"])  # fmt: skip
    given = pd.concat([given, more], ignore_index=True)
    asked = pd.DataFrame({"page": [3, 4, 4], "query": ["cheap stoves", "folding stove 4", "stove"], "impressions": [50, 90, 10]})
    table = anchor_mix(given, NAMES, asked, ["stonemill"], Lexicon())
    inside = table[table["side"] == "inside"].set_index("page")
    assert inside["flag"].to_dict() == {6: "silent", 7: "", 8: ""}, "a menu, or one link, says what the other two are about"
    assert inside.loc[6, "because"] == "None of 3 links in the text of other pages describes it."
    assert inside.loc[7, ["links", "menus"]].tolist() == [3, 50]
    table = table[table["side"] == "outside"].set_index("page")
    assert np.allclose(table[["brand_share", *(kind for kind in KINDS if kind != "brand")]].sum(axis=1), 1.0)
    assert table["links"].sum() + inside["links"].sum() == given["links"].sum()
    assert table.loc[5, "own_name"] > 0.7, "that links say its name is no fault"
    assert table.index[table["flag"] == "high"].tolist() == [3]
    assert table.loc[3, "top"] == "cheap stove"
    assert 'have the anchor "cheap stove"; ' in table.loc[3, "because"]
    assert (table.loc[3, "missing"], table.loc[4, "missing"]) == ("", "folding"), "words that no link says"
    plain = table.drop(index=3)
    assert (plain["general"] > 0).all()
    assert (plain["brand_share"] * plain["links"]).round().eq(3).all()
    assert anchor_mix(given.head(0), NAMES, asked, [], Lexicon()).empty


@pytest.mark.parametrize("names", [{}, {"from_url": "Page référente", "page": "Page cible", "anchor": "Ancre"}], ids=["plain", "French"])
def test_they_are_read_told_and_repaired(names: dict[str, str], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    rng, home = np.random.default_rng(9), "https://stonemill.example"
    given = pd.concat([rows(rng, 40), pd.DataFrame({"side": "outside", "page": [3], "anchor": ["cheap stove"], "links": [90]})])
    given = given.loc[given.index.repeat(given["links"])].reset_index(drop=True)
    urls = [f"https://fan{n % 50}.example/{n}" for n in range(len(given))]
    links = pd.DataFrame({"from_url": urls, "page": home + "/" + given["page"].astype(str) + "/", "anchor": given["anchor"]})
    links.rename(columns=names).to_csv(tmp_path / "from-others.csv", index=False)
    days = pd.date_range("2026-06-01", "2026-10-31")
    search = pd.DataFrame([(d, f"{home}/{n}/", f"stove {n}") for d in days for n in range(40)], columns=["date", "page", "query"])
    search.assign(clicks=1, impressions=25, position=4.0).to_csv(tmp_path / "search.csv", index=False)
    sources = "".join(f'[[source]]\nkind = "{k}"\nfiles = "{f}"\n' for k, f in (("search", "search.csv"), ("backlinks", "from-others.csv")))
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{home}/"\nbrand = "stonemill"\n{sources}')
    with nibbet.open_site(tmp_path) as site:
        table, repairs = site.anchors(), site.repairs()
    assert table["links"].sum() == len(links)
    assert table.loc[table["flag"] == "high", "page"].tolist() == [f"{home}/3/"]
    assert repairs.loc[repairs["repair"] == "anchors", "page"].tolist() == [f"{home}/3/"]
    assert main(["links", "--anchors", str(tmp_path), "-q", "--top", "1"]) == 0
    assert "cheap stove" in capsys.readouterr().out
