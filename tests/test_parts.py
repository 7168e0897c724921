"""A measure in several columns: by device, by channel, beside its total, or by windows that only a person knows."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.init import write_settings
from nibbet.errors import SourceError
from nibbet.sources.parts import parts_apart
from nibbet.sources.sheets import table_of_rows

HOME = "https://tarnbrook.example/"
DAYS = pd.date_range("2026-06-01", "2026-10-31").strftime("%Y-%m-%d")
KEYS = pd.DataFrame([(day, HOME + page) for day in DAYS for page in ("canoe/", "raft/", "kayak/")], columns=["Date", "Page"])
ONE, TWO = np.arange(len(KEYS)) % 5, np.arange(len(KEYS)) % 3
SEARCH = KEYS.assign(Clicks=ONE + TWO, Impressions=40, Position=3.0)


def opened(folder: Path, **tables: pd.DataFrame) -> nibbet.Site:
    for name, table in tables.items():
        table.to_csv(folder / f"{name}.csv", index=False)
    write_settings(folder, HOME, force=True)
    return nibbet.open_site(folder)


@pytest.mark.parametrize(
    ("heads", "device"), [(("Clicks (mobile)", "Clicks (desktop)"), True), (("Brand clicks", "Non-brand clicks"), False)]
)
def test_columns_for_each_part_of_the_clicks_are_all_read(heads: tuple[str, str], device: bool, tmp_path: Path) -> None:
    shown = {head.replace("Clicks", "Impressions"): 20 for head in heads} if device else {"Impressions": 40}
    table = KEYS.assign(**{heads[0]: ONE, heads[1]: TWO}, **shown, Position=3.0)
    with opened(tmp_path, search=table) as site:
        ledger, rows = (
            site.ledger(),
            site.sql("SELECT device, sum(clicks) AS clicks FROM search GROUP BY device").set_index("device")["clicks"],
        )
        read = [source["measures"]["clicks"]["read"] for source in site.account["sources"]]
    assert read == [ONE.sum(), TWO.sum()]
    assert rows.to_dict() == {"mobile": ONE.sum(), "desktop": TWO.sum()} if device else rows.sum() == SEARCH["Clicks"].sum()
    late = SEARCH["Date"] >= "2026-08-03"
    assert ledger["clicks"].sum() == SEARCH.loc[late, "Clicks"].sum()
    assert ledger["impressions"].sum() == 40 * late.sum(), "what has no parts counts once"


def test_channels_beside_their_total_are_told_apart_and_another_total_is_taken(tmp_path: Path) -> None:
    visits = KEYS.assign(**{"Direct sessions": TWO, "Organic Search sessions": ONE, "Total sessions": ONE + TWO})
    with opened(tmp_path, search=SEARCH, visits=visits) as site:
        ledger = site.ledger()
        assert ledger["sessions_organic"].sum() == ONE[KEYS["Date"] >= "2026-08-03"].sum()
        assert ledger["sessions"].sum() == (ONE + TWO)[KEYS["Date"] >= "2026-08-03"].sum()
    more = visits.assign(**{"Total sessions": ONE + TWO + 3})  # channels without a column
    with opened(tmp_path, search=SEARCH, visits=more) as site:
        assert site.ledger()["sessions"].sum() == (ONE + TWO + 3)[KEYS["Date"] >= "2026-08-03"].sum()


def test_columns_that_may_each_be_the_clicks_are_asked_about(tmp_path: Path) -> None:
    table = KEYS.groupby("Page", as_index=False)[[]].sum().assign(
        **{"clicks 2026": [7, 8, 9], "impressions 2026": 90, "clicks 2025": [4, 5, 6], "impressions 2025": 80}
    )  # fmt: skip
    with opened(tmp_path, search=table) as site, pytest.raises(SourceError, match=r"'clicks 2026', 'clicks 2025' may each be its clicks"):
        _ = site.windows
    settings = tmp_path / "nibbet.toml"
    before, _, after = settings.read_text("utf-8").partition('files = "search.csv"\n')
    periods = "period = [[2026-08-01, 2026-10-31], [2025-08-01, 2025-10-31]]\n"
    settings.write_text(before + 'files = "search.csv"\n' + periods + after, "utf-8")
    with nibbet.open_site(tmp_path) as site:
        assert site.ledger()[["clicks", "clicks_reference"]].sum().tolist() == [24, 15]


@pytest.mark.parametrize(
    "header",
    [
        ["Page", "Clicks", "Clicks from ads", "Impressions"],
        ["Page", "Clicks", "Engaged", "Impressions"],
        ["Page", "Total clicks", "CTR", "Impressions"],
    ],
)
def test_one_column_of_clicks_is_enough(header: list[str]) -> None:
    sheet = table_of_rows("t", header, [["/a/", "1", "2", "9"]] * 4, "")
    assert parts_apart(sheet, "search") == [sheet]


def test_the_clicks_of_search_are_not_those_of_a_device_or_of_another_time() -> None:
    header = ["Page", "Mobile clicks", "Organic clicks", "Clicks prev", "Clicks change", "Impressions"]
    sheet = table_of_rows("t", header, [["/a/", "1", "2", "3", "-1", "9"]] * 4, "")
    (whole,) = parts_apart(sheet, "search")
    assert whole.hidden == {1, 3, 4}
    assert parts_apart(sheet, "search", {"clicks": "Mobile clicks"}) == [sheet], "who names one has chosen"


def test_a_total_of_other_parts_counts_once_and_measures_with_parts_of_their_own_stay() -> None:
    header = ["Page", "Clicks", "Mobile clicks", "Impressions (mobile)", "Impressions (desktop)"]
    one, two = parts_apart(table_of_rows("t", header, [["/a/", "9", "2", "30", "60"]] * 4, ""), "search")
    assert (one.hidden, two.hidden) == ({2, 4}, {1, 2, 3})
    assert dict(two.shared)["clicks"] == "0", "the clicks of both devices are known together alone"
    header = ["Page", "Direct sessions", "Organic sessions", "Purchase conversions", "Other conversions"]
    one, two = parts_apart(table_of_rows("t", header, [["/a/", "9", "2", "1", "3"]] * 4, ""), "landings")
    assert (one.hidden, two.hidden) == ({2}, {1, 3, 4})
