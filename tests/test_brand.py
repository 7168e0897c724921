"""A query names the brand in whole words, and in the spellings that searchers use; everywhere alike."""

from __future__ import annotations

from pathlib import Path

import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import nibbet
from nibbet.core.brand import brand_columns, is_brand, names_brand, surely_in, without_brand
from nibbet.core.topics import set_aside
from nibbet.core.words import Lexicon
from nibbet.engine import Engine

LETTERS = st.text("abcdefghijklmnopqrstuvwxyz", min_size=6, max_size=14)


@pytest.mark.parametrize(
    ("names", "named", "others"),
    [
        (["on"], ["on", "on boats", "boats by on", "on-boats"], ["london", "boats o n", "onto", "upon"]),
        (["Tarnbrook"], ["tarn brook", "tarn-brook", "tarnbrok", "tranbrook", "tarnbrook's map", "www.tarnbrook.example"], ["warnbrook", "tarnbrookland", "brook"]),
        (["tarn brook"], ["tarnbrook", "tarn brok tours", "tarn  brook"], ["brook tarn", "tarn", "brook"]),
        (["Café Ulme"], ["cafe ulme", "café-ulme menu", "cafe ulme"], ["ulme", "cafe alt"]),
        (["q&x"], ["q & x", "qx", "a and q & x"], ["qxz", "qqx"]),
        (["paddle24"], ["paddle24", "padle24"], ["paddle25", "paddle2", "paddle"]),
        (["=planet"], ["planet", "my planet"], ["plant", "planets"]),
        (["日本屋"], ["東京日本屋"], ["日本"]),
        (["c++"], ["c++ tours"], ["c tours"]),
        (["", " = "], [], ["", "anything"]),
    ],
)  # fmt: skip
def test_names_are_met_as_whole_words(names: list[str], named: list[str], others: list[str]) -> None:
    texts = pd.Series([*named, *others], dtype="str")
    expected = [True] * len(named) + [False] * len(others)
    assert names_brand(texts, names).tolist() == expected
    assert (set_aside(texts, names, []) == "brand").tolist() == expected
    engine = Engine()
    rows = engine.frame(pd.DataFrame({"query": texts}))
    assert engine.fetch(rows.select(met=is_brand(rows["query"], names)))["met"].tolist() == expected
    engine.close()


@settings(max_examples=30)
@given(LETTERS, st.integers(1, 13), st.sampled_from(["out", "other", "more", "swap"]), st.sampled_from(["", " ", "-"]), st.integers(1, 12))
def test_one_slip_still_names_it(name: str, place: int, slip: str, gap: str, cut: int) -> None:
    place, cut = min(place, len(name) - 1), min(cut, len(name) - 1)
    left, rest = name[:place], name[place + 1 :]
    slipped = {
        "out": left + rest,
        "other": f"{left}x{rest}",
        "more": f"{left}{name[place]}q{rest}",
        "swap": f"{name[: place - 1]}{name[place]}{name[place - 1]}{rest}",
    }[slip]
    texts = pd.Series([f"buy {slipped} now", f"{name[:cut]}{gap}{name[cut:]}", f"{name}qq", f"qq{name}"])
    assert names_brand(texts, [name]).tolist() == [True, True, False, False]
    pieces = surely_in([name]) or [""]
    assert any(piece in slipped for piece in pieces), "what is looked for first leaves out nothing"
    assert without_brand(texts.iloc[:1], [name]).tolist() == ["buy now"]


def test_what_is_searched_beside_the_brand() -> None:
    texts = pd.Series(["tarnbrook canoe hire", "hire tarn brook tarnbrook", "oxbow lake"])
    assert without_brand(texts, ["tarnbrook"]).tolist() == ["canoe hire", "hire", "oxbow lake"]
    lexicon = Lexicon()
    lexicon.matrix(pd.Series(["tarnbrok canoe brook tarnbrook"]))
    columns = brand_columns(lexicon, ["tarn brook"])
    assert {lexicon.words[column] for column in columns} == {"tarnbrok", "tarnbrook", "tarn", "brook"}


def test_a_short_name_takes_no_other_query(tmp_path: Path) -> None:
    rows = pd.DataFrame({"date": pd.date_range("2026-08-01", "2026-10-31")}).merge(
        pd.DataFrame({"query": ["london trip", "on boats"]}), "cross"
    )
    rows = rows.assign(page="/boats/", clicks=3, impressions=60, position=4.0)
    queries = nibbet.Site("https://on.example/", search=rows, settings={"site": {"brand": ["on"]}}).query_totals()
    assert queries.set_index("query")["brand"].to_dict() == {"london trip": False, "on boats": True}
