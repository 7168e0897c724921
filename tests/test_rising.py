"""What is new, rises or fades is told beyond chance, and what only wavers is not."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main


def wavering(seed: int, planted: bool) -> pd.DataFrame:
    """Half a year of 150 queries that stray by a tenth from month to month; where planted, three are new, three rise, three fade."""
    rng = np.random.default_rng(seed)
    days = pd.date_range("2026-05-01", "2026-10-31")
    late = days >= days[-28]
    parts = []
    for number in range(150):
        level = np.full(len(days), rng.uniform(3, 40)) * rng.lognormal(0, 0.1)
        if planted and number < 9:
            level = 25 * np.where(late, (1.0, 3.0, 0.25)[number // 3], (0.0, 1.0, 1.0)[number // 3])
        shown = rng.poisson(level)
        clicks = rng.binomial(shown, 0.1)
        rows = {
            "date": days,
            "page": f"/a{number // 3}/",
            "query": f"word{number} boat",
            "clicks": clicks,
            "impressions": shown,
            "position": 4.0,
        }
        parts.append(pd.DataFrame(rows)[shown > 0])
    return pd.concat(parts, ignore_index=True)


def rising_of(rows: pd.DataFrame, by: str = "query") -> pd.DataFrame:
    with nibbet.Site("https://tarnbrook.example/", search=rows) as site:
        return site.rising(28, by=by)


def test_planted_queries_are_named_by_what_befell_them() -> None:
    table = rising_of(wavering(1, True))
    named = table.set_index("key")["kind"]
    wanted = {f"word{n} boat": ("new", "rising", "fading")[n // 3] for n in range(9)}
    assert {key: named.get(key) for key in wanted} == wanted
    assert len(table) <= 11, "what only wavers is left out"
    assert table["kind"].tolist() == sorted(table["kind"], key=["new", "rising", "fading"].index), "new ones first"
    new = table[table["kind"] == "new"]
    assert (new["impressions_reference"] == 0).all()
    assert (new["page"] == "https://tarnbrook.example/a0/").all(), "with the page that is shown for it"
    rows = table[table["kind"] != "new"]
    assert ((rows["shown_low"] <= rows["impressions_change"]) & (rows["impressions_change"] <= rows["shown_high"])).all()


@pytest.mark.parametrize("seed", [2, 3, 4])
@pytest.mark.slow
def test_of_what_only_wavers_hardly_any_is_named(seed: int) -> None:
    assert len(rising_of(wavering(seed, False))) <= 3


@pytest.mark.parametrize("grain", ["month", "undated"])
def test_rows_without_days_do_not_tell_what_rises_or_began(grain: str) -> None:
    rows = wavering(5, True)
    rows = rows.assign(month=rows["date"].dt.strftime("%Y-%m")).drop(columns="date")
    rows = rows.groupby(["month", "page", "query"], as_index=False).agg({"clicks": "sum", "impressions": "sum", "position": "mean"})
    settings = {}
    if grain == "undated":
        rows = rows[rows["month"] == "2026-10"].drop(columns="month")
        settings = {"source": [{"kind": "search", "files": "rows.csv", "period": ["2026-10-01", "2026-10-31"]}]}
    with tempfile.TemporaryDirectory() as folder:
        rows.to_csv(Path(folder) / "rows.csv", index=False)
        sources = settings.get("source", [{"kind": "search", "files": "rows.csv"}])
        toml = '[site]\nhome = "https://tarnbrook.example/"\n[[source]]\n' + "\n".join(
            f"{k} = {json.dumps(v)}" for k, v in sources[0].items()
        )
        (Path(folder) / "nibbet.toml").write_text(toml)
        with nibbet.open_site(folder) as site:
            with pytest.raises(nibbet.NotFoundError, match="by day or week"):
                site.rising()
            with pytest.raises(nibbet.NotFoundError, match="by day or week"):
                site.new_pages()
            assert site.table("new_pages").empty, "the file of a run says nothing instead"
            assert site.splits().empty, "nothing is told by device or channel"


def test_rising_on_the_command_line(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["rising", str(ran), "-q", "--days", "90", "--by", "topic", "--top", "3"]) == 0
    told = capsys.readouterr().out
    assert told.index("New: not shown before") < told.index("Rising") < told.index("Fading")
    assert main(["rising", str(ran), "-q", "--format", "json"]) == 0
    rows = pd.DataFrame(json.loads(capsys.readouterr().out))
    with nibbet.open_site(ran) as site:
        changes = site.compare(28, "before", by="query").set_index("key")
        pages, windows = site.pages().set_index("page"), site.compared_windows(28, "before")
    both = changes.loc[rows["key"]]
    np.testing.assert_allclose(rows["recent"], both["recent"])
    np.testing.assert_allclose(rows["impressions_change"], both["impressions_change"])
    born = pages.loc[rows.loc[rows["kind"] == "new", "page"], "published"].dropna()
    assert (pd.to_datetime(born) > pd.Timestamp(windows.reference.start) - pd.Timedelta(days=400)).all()
    assert main(["rising", str(ran), "-q", "--days", "4000"]) == 2
