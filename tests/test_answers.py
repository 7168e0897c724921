"""The answers of docs/answers.md: plain pandas on the files of a run says the same."""

from __future__ import annotations

import importlib.util
import json
import re
import shlex
from pathlib import Path

import pandas as pd
import pytest

from nibbet.cli.main import main

ROOT = Path(__file__).parents[1]


def answers() -> list[tuple[str, str, str, str]]:
    spec = importlib.util.spec_from_file_location("make_answers", ROOT / "docs" / "make_answers.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module.ANSWERS


def read(ran: Path, name: str) -> pd.DataFrame:
    return pd.read_csv(ran / "out" / f"{name}.csv", keep_default_na=False, na_values=[""])


def told(ran: Path, capsys: pytest.CaptureFixture[str], command: str) -> pd.DataFrame:
    """The rows that a command of the page prints, as JSON."""
    name, *rest = shlex.split(command)[1:]
    place = [str(ran)] if name in ("decide", "compare", "rising", "topics") else ["--site", str(ran)]
    capsys.readouterr()
    assert main([name, *place, *rest, "-q", "--format", "json"]) == 0, command
    return pd.DataFrame(json.loads(capsys.readouterr().out))


def test_the_page_holds_every_question_and_its_command() -> None:
    text = (ROOT / "docs" / "answers.md").read_text("utf-8")
    assert re.findall(r"^### (.*)$", text, re.M) == [question for _, question, _, _ in answers()], "run: python docs/make_answers.py"
    assert re.findall(r"```sh\n(.*)\n```", text) == [command for _, _, command, _ in answers()]


def test_lists_to_act_on_are_those_of_the_files(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    pages = read(ran, "pages")
    acted = pages[pages["verdict"].notna()]
    first = told(ran, capsys, "nibbet decide --top 4")
    assert first["gain"].tolist() == pytest.approx(acted["gain"].nlargest(4).tolist(), rel=1e-5)
    for verdict in ("prune", "consolidate", "expand"):
        rows = told(ran, capsys, f"nibbet decide --verdict {verdict}")
        assert set(rows["page"]) == set(pages.loc[pages["verdict"] == verdict, "page"])
    for proposal in ("new page", "extend", "translate"):
        topics = read(ran, "topics")
        assert len(told(ran, capsys, f"nibbet topics --where \"proposal = '{proposal}'\"")) == (topics["proposal"] == proposal).sum()


def test_changes_are_those_of_the_ledger(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    pages = read(ran, "pages")
    site = told(ran, capsys, "nibbet compare --by site").set_index("measure").loc["clicks"]
    assert site["recent"] == pages["clicks"].sum()
    sections = told(ran, capsys, "nibbet compare --by section").query("measure == 'clicks'").set_index("key")
    sums = pages.groupby("section")["clicks"].sum()
    assert sections["recent"].to_dict() == sums.reindex(sections.index).to_dict()
    parts = sections[["demand", "rank", "pull", "access", "untold"]].sum(axis=1)
    pd.testing.assert_series_equal(parts, sections["change"], check_names=False, rtol=1e-6, atol=1e-6)
    brand = told(ran, capsys, "nibbet compare --by brand").query("level == 'brand'").set_index("key")
    queries = read(ran, "queries")
    named = queries[queries["query"].notna()]
    assert brand.loc["brand", "recent"] == named.loc[named["brand"], "clicks"].sum()
    assert brand["recent"].sum() == named["clicks"].sum()


def test_questions_in_sql_are_what_pandas_says(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    by_name = {question: command for _, question, command, _ in answers()}
    pages, repairs, strengths = read(ran, "pages"), read(ran, "repairs"), read(ran, "strengths")
    rows = told(ran, capsys, by_name["Which pages sell?"])
    assert rows["conversions_long"].tolist() == sorted(pages["conversions_long"].dropna(), reverse=True)[:4]
    rows = told(ran, capsys, by_name["How much is withheld, and where?"])
    shown = pages[pages["impressions"] > 500]["withheld_share"]
    assert rows["withheld_share"].tolist() == pytest.approx(shown.nlargest(4).tolist(), rel=1e-5)
    rows = told(ran, capsys, by_name["What is broken between pages and their traffic?"]).set_index("repair")
    assert rows["pages"].to_dict() == repairs["repair"].value_counts().to_dict()
    assert rows["visits"].to_dict() == pytest.approx(repairs.groupby("repair")["weight"].sum().to_dict())
    rows = told(ran, capsys, by_name["Which sections earn most per search?"])
    best = strengths[strengths["level"] == "section"].nlargest(4, "strength")
    assert rows["strength"].tolist() == pytest.approx(best["strength"].tolist(), rel=1e-5)
    rows = told(ran, capsys, by_name["Where do we stand just below the clicks?"])
    openings = read(ran, "openings")
    climbs = openings[openings["kind"] == "climb"].nlargest(4, "gain")
    assert rows["gain"].tolist() == pytest.approx(climbs["gain"].tolist(), rel=1e-5)
    rows = told(ran, capsys, by_name["Which pages decline for good, and since when?"])
    trends = read(ran, "trends")
    fell = trends[trends["real"] & (trends["depth"] > 0)].assign(lost=lambda t: t["before"] - t["after"]).nlargest(4, "lost")
    assert rows["page"].tolist() == fell["page"].tolist()
    rows = told(ran, capsys, by_name["Where should addresses that go lead?"])
    assert rows["from"].tolist() == read(ran, "redirects")["from"].head(4).tolist()
