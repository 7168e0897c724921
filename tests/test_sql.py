"""Questions in SQL: true to the ledger, bound values, and nothing that could be changed or reached."""

from __future__ import annotations

import json
from pathlib import Path

import pandas as pd
import pytest
import python_calamine

import nibbet
from nibbet.cli.main import main


@pytest.fixture(scope="module")
def site(ran: Path) -> nibbet.Site:
    return nibbet.open_site(ran)


def one(site: nibbet.Site, statement: str, **values: object) -> object:
    return site.sql(statement, **values).iloc[0, 0]


def test_sums_of_rows_are_those_of_the_ledger(site: nibbet.Site) -> None:
    account = site.account
    ledger = sum(entry["measures"]["clicks"]["ledger"] for entry in account["sources"] if entry["kind"] == "search")
    assert one(site, "SELECT sum(clicks) FROM days") == ledger
    assert one(site, "SELECT sum(clicks) FROM sections") == ledger
    assert one(site, "SELECT sum(clicks) FROM search WHERE set_aside IS NULL") == ledger
    assert one(site, "SELECT sum(clicks) FROM weeks") == ledger
    recent = one(site, "SELECT sum(d.clicks) FROM days d, windows w WHERE w.\"window\" = 'recent' AND d.date BETWEEN w.first AND w.last")
    assert recent == site.pages()["clicks"].sum() == one(site, "SELECT sum(clicks) FROM devices")
    sessions = sum(entry["measures"]["sessions"]["read"] for entry in account["sources"] if entry["kind"] == "landings")
    assert one(site, "SELECT sum(sessions) FROM landings") == sessions, "rows set aside are there too, with their reason"
    assert one(site, "SELECT count(*) FROM pages") == len(site.pages())
    assert one(site, "SELECT count(*) FROM crawl JOIN pages USING (page)") > 100


@pytest.mark.parametrize(
    ("statement", "said"),
    [
        ("DELETE FROM pages", "Only SELECT"),
        ("SELECT 1; DROP TABLE pages", "one SELECT"),
        ("COPY pages TO 'stolen.csv'", "Only SELECT"),
        ("ATTACH 'other.db'", "Only SELECT"),
        ("SELECT * FROM read_csv('/etc/passwd')", "outside"),
        ("SELECT * FROM read_text('nibbet.toml')", "outside"),
        ("SELECT * FROM '/etc/passwd'", "no table /etc/passwd"),
        ("SELECT * FROM pagse", "Did you mean pages"),
        ("SELECT nothing FROM pages", "nothing"),
        ("SELECT * FROM pages WHERE clicks > $least", "--set least="),
        ("SELECT * FROM vitals", "no source of the kind vitals"),
        ("SELEC 1", "cannot be answered"),
    ],
)
def test_what_is_no_question_gets_one_sentence(
    ran: Path, statement: str, said: str, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(ran)
    settings = (ran / "nibbet.toml").read_text("utf-8")
    if "vitals" in statement:
        (ran / "nibbet.toml").write_text(settings.replace('[[source]]\nkind = "vitals"\nfiles = "vitals.csv"\n', ""), "utf-8")
    before = sorted(path.name for path in ran.iterdir())
    assert main(["sql", statement, "-q"]) == 2
    text = capsys.readouterr().err
    (ran / "nibbet.toml").write_text(settings, "utf-8")
    assert said in text
    assert "Traceback" not in text
    assert sorted(path.name for path in ran.iterdir()) == before


def test_values_are_bound_not_pasted(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    evil = "x' OR 1=1 --"
    question = "SELECT count(*) AS n FROM queries WHERE query = $text OR clicks > $least"
    assert main(["sql", question, "--set", f"text={evil}", "--set", "least=1e9", "--site", str(ran), "-q", "--format", "json"]) == 0
    assert json.loads(capsys.readouterr().out) == [{"n": 0}]
    named = "SELECT 'x' AS value, 'y' AS ctr, 'z' AS change_share, DATE '2026-01-02' AS share_clicks, 0.25 AS share_impressions"
    capsys.readouterr()
    assert main(["sql", named, "--site", str(ran), "-q"]) == 0
    assert capsys.readouterr().out.splitlines()[-1].split() == ["x", "y", "z", "2026-01-02", "25.0%"], "texts in columns named like figures"
    assert main(["sql", question, "--set", "text=a", "--site", str(ran), "-q"]) == 2
    assert main(["sql", "SELECT 1", "--set", "left=over", "--site", str(ran), "-q"]) == 2
    assert "no $left" in capsys.readouterr().err


@pytest.mark.slow
def test_saved_questions_run_by_name(workspace: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (workspace / "questions").mkdir()
    (workspace / "questions" / "mine.sql").write_text(
        "-- Pages of one section.\nSELECT count(*) AS n FROM pages WHERE section = $section\n"
    )
    assert main(["sql", "--site", str(workspace), "--format", "csv"]) == 0
    listed = capsys.readouterr().out
    assert "mine,Pages of one section.,workspace" in listed
    for line in listed.splitlines()[1:]:
        name = line.split(",")[0]
        value = ["--set", "section=/rivers/"] if name == "mine" else ["--set", "word=canoe"] if name == "word" else []
        assert main(["sql", name, *value, "--site", str(workspace), "-q", "--format", "json"]) == 0, name
        assert json.loads(capsys.readouterr().out), f"{name} finds something in the demo"
    assert main(["sql", "mien", "--site", str(workspace)]) == 2
    assert "Known: " in capsys.readouterr().err


@pytest.mark.parametrize("name", ["answer.csv", "answer.parquet", "answer.xlsx"])
def test_answers_go_to_files_that_run_nothing(ran: Path, tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    question = "SELECT '=cmd()' AS text, 7 AS n UNION ALL SELECT '+1', 8 ORDER BY n"
    assert main(["sql", question, "--out", str(path), "--site", str(ran), "-q"]) == 0
    if name.endswith("xlsx"):
        rows = python_calamine.load_workbook(str(path)).get_sheet_by_index(0).to_python()
        assert rows == [["text", "n"], ["'=cmd()", 7.0], ["'+1", 8.0]]
        return
    found = pd.read_csv(path) if name.endswith("csv") else pd.read_parquet(path)
    assert found["n"].tolist() == [7, 8]
    assert main(["sql", "SELECT 1", "--out", str(tmp_path / "answer.doc"), "--site", str(ran), "-q"]) == 2


def test_tables_and_columns_are_told_with_their_meaning(site: nibbet.Site) -> None:
    told = site.sql_tables()
    assert set(told["table"]) >= {"pages", "queries", "query_totals", "days", "search", "landings", "crawl", "windows"}
    assert told[told["meaning"] == ""].empty
