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
    rows = pd.DataFrame(json.loads(capsys.readouterr().out))
    return rows if len(rows) else pd.DataFrame(columns=["q_value", "page", "spelling"], dtype="object")


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


def test_saved_questions_and_lists_are_what_pandas_says(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    by_name = {question: command for _, question, command, _ in answers()}
    pages, queries = read(ran, "pages"), read(ran, "queries")
    named = queries[queries["query"].notna()]

    def ask(question: str) -> pd.DataFrame:
        return told(ran, capsys, by_name[question])

    rows = ask("What is shown high and seldom chosen?")
    seldom = named[~named["brand"] & ~named["thin"] & (named["impressions"] >= 100) & (named["clicks"] < 0.7 * named["expected_clicks"])]
    missed = (seldom["expected_clicks"] - seldom["clicks"]).nlargest(4)
    assert rows["clicks_missed"].tolist() == pytest.approx(missed.tolist(), rel=1e-4)
    rows = ask("Which pages stand on the second page of results?")
    second = named[(named["role"] == "owner") & ~named["brand"] & named["position"].between(10.5, 20.5)]
    assert rows["impressions"].tolist() == second["impressions"].nlargest(4).tolist()
    rows = ask("How many queries does a page draw, and how many does it answer?").set_index("page")
    seen = named[named["impressions"] > 0]
    assert rows["queries"].to_dict() == seen.groupby("page").size().reindex(rows.index).to_dict()
    assert rows["answered"].to_dict() == seen[seen["answer"] >= 0.5].groupby("page").size().reindex(rows.index, fill_value=0).to_dict()
    rows = ask("Where do visits come without clicks from search?")
    assert rows["sessions"].tolist() == pages[(pages["clicks"] == 0) & (pages["sessions"] > 0)]["sessions"].nlargest(4).tolist()
    rows = ask("Which topics are we shown least for, for what they are searched?")
    topics = read(ran, "topics")
    wanted = topics[topics["volume_kind"] == "searches a month"].nlargest(4, "volume")
    assert rows["volume"].tolist() == wanted["volume"].tolist()
    rows = ask("What do topics earn, beside how much they are searched?")
    assert rows["conversions"].tolist() == pytest.approx(topics["conversions"].nlargest(5).tolist(), rel=1e-4)
    peers = read(ran, "peers")
    low = peers[(peers["flag"] == "low") & (peers["measure"] == "engagement")]
    assert ask("Which pages disappoint their visitors?")["q_value"].tolist() == pytest.approx(
        low["q_value"].nsmallest(4).tolist(), rel=1e-4
    )
    high = peers[peers["flag"] == "high"]["q_value"].nsmallest(4)
    assert ask("Which pages do better than their section?")["q_value"].tolist() == pytest.approx(high.tolist(), rel=1e-4, abs=1e-6)
    repairs = read(ran, "repairs")
    assert ask("Which pages does nothing link to?")["page"].tolist() == repairs[repairs["repair"] == "orphan"]["page"].head(4).tolist()
    failing = repairs[repairs["repair"].isin(["error", "restore", "redirected", "chain"])]
    assert ask("Which failing addresses still have links or visits?")["page"].tolist() == failing["page"].head(4).tolist()
    strengths = read(ran, "strengths")
    titles = strengths[strengths["level"] == "title"]["strength"].nlargest(4)
    assert ask("Which forms of titles do better?")["strength"].tolist() == pytest.approx(titles.tolist(), rel=1e-4)
    lengths = strengths[strengths["level"] == "length"].set_index("key")["pages"].to_dict()
    assert ask("Do long pages do better?").set_index("key")["pages"].to_dict() == lengths
    spellings = read(ran, "addresses")
    rows = ask("Which spellings stand for a page?")
    mine = spellings[spellings["page"].fillna("").str.endswith("/rivers/gillangarth/")]
    assert set(rows["spelling"]) <= set(mine["spelling"])
    assert len(rows) == min(4, len(mine))


def test_groups_visits_and_favourites_are_what_pandas_says(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    pages, queries = read(ran, "pages"), read(ran, "queries")
    named = queries[queries["query"].notna()]
    for words, fits in (("hire", named["query"].str.contains(r"\bhire\b")), ("re:^(how|which|where|what|is) ", named["query"].str.match("(?:how|which|where|what|is) "))):  # fmt: skip
        capsys.readouterr()
        assert main(["query", "--like", words, "--site", str(ran), "-q", "--format", "json"]) == 0
        group = pd.DataFrame(json.loads(capsys.readouterr().out)).set_index("query")
        sums = named[fits].groupby("query")[["clicks", "impressions"]].sum()
        assert set(group.index) == set(sums.index)
        assert (group[["clicks", "impressions"]] == sums.reindex(group.index)).all().all()
    popular = told(ran, capsys, "nibbet popular --where \"level = 'site' AND measure = 'views'\"")
    alive = pages[pages["status"].fillna(200) < 300]
    assert popular["value"].tolist() == alive["sessions"].nlargest(20).tolist()
    assert popular["share"].tolist() == pytest.approx((alive["sessions"].nlargest(20) / alive["sessions"].sum()).tolist(), rel=1e-3)
    channels = told(ran, capsys, "nibbet split --by channel")
    assert channels["sessions"].sum() == pages["sessions"].sum()
    markets = told(ran, capsys, "nibbet markets")
    spoken = markets[markets["language"].notna()]
    assert spoken["clicks"].sum() <= named["clicks"].sum()
    speed = told(ran, capsys, "nibbet speed")
    assert set(speed.loc[speed["rating"] == "poor", "page"]) == set(speed.loc[(speed["loading"] > 4) | (speed["responding"] > 500) | (speed["shifting"] > 0.25), "page"])  # fmt: skip
