"""The commands as a user meets them: results on standard output, one clear message for what cannot be used."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import os
import pty
import re
import subprocess
import sys
from pathlib import Path

import pandas as pd
import pytest

from nibbet.cli.main import main
from nibbet.render.terminal import show
from nibbet.tables import TABLES

OUT = sorted(
    [
        *(f"{name}.csv" for name, one in TABLES.items() if one.file),
        *("account.json", "datapackage.json", "pages.parquet", "queries.parquet", "report.html", "workbook.xlsx"),
        *("redirects-apache.conf", "redirects-nginx.conf"),
        *(
            f"figures/{name}.png"
            for name in ("curve", "groups", "links", "movers", "positions", "seasons", "topic_map", "topics", "trend", "verdicts")
        ),
    ]
)
PAGE_COLUMNS = (
    "page,section,clicks,impressions,ctr,position,queries,withheld_share,pull,sessions,sessions_organic,engaged_sessions,engagement_rate,seconds_per_session,"
    "conversions,revenue,status,indexable,title,words,inlinks,backlinks,published,modified,in_search,in_landings,in_crawl,clicks_long,impressions_long,sessions_long,"
    "conversions_long,revenue_long,clicks_reference,change,change_share,change_low,change_high,change_real,verdict,cause,target,gain,gain_low,gain_high,worth,confidence,because,also"
)


def test_run_writes_its_files_and_keeps_those_of_others(ran: Path) -> None:
    out = ran / "out"
    (out / "my notes.txt").write_text("mine")
    before = {name: (out / name).read_bytes() for name in OUT}
    assert main(["run", str(ran), "-q"]) == 0
    found = sorted(str(path.relative_to(out)) for path in out.rglob("*") if path.is_file())
    briefs = [name for name in found if name.startswith("briefs/")]
    assert len(briefs) >= 3
    assert found == sorted([*OUT, *briefs, "my notes.txt"])
    assert {name: (out / name).read_bytes() for name in OUT} == before, "the same input gives the same bytes"
    (out / "my notes.txt").unlink()
    with (out / "pages.csv").open() as file:
        assert file.readline().startswith(PAGE_COLUMNS)


@pytest.mark.slow
def test_summary_fits_a_screen(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["run", str(ran), "-q"]) == 0
    said = capsys.readouterr().out
    assert len(said.splitlines()) < 30
    for word in ("Verdicts:", "Best actions", "report.html", "forum.tarnbrook.example", "not complete yet"):
        assert word in said


def test_decide_prints_verdicts_in_every_form(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["decide", str(ran), "--format", "csv", "--verdict", "prune", "-q"]) == 0
    rows = list(csv.DictReader(io.StringIO(capsys.readouterr().out)))
    assert rows
    assert {row["verdict"] for row in rows} == {"prune"}
    assert all("clicks" in row["because"] or "click" in row["because"] for row in rows)
    assert main(["decide", str(ran), "--format", "json", "--where", "gain > 50", "--top", "3", "-q"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert len(found) == 3
    assert all(row["gain"] > 50 for row in found)
    assert main(["decide", str(ran), "--where", "clicks < 0", "-q"]) == 0
    assert "Loosen --where" in capsys.readouterr().out


def test_page_and_query_tell_everything_about_one(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with (ran / "out" / "queries.csv").open() as file:
        row = next(row for row in csv.DictReader(file) if row["role"] == "owner" and row["brand"] == "false")
    path = row["page"].removeprefix("https://tarnbrook.example")
    assert main(["page", path, "--site", str(ran), "-q"]) == 0
    said = capsys.readouterr().out
    assert row["query"] in said
    assert "confidence" in said
    fault = pd.read_csv(ran / "out" / "repairs.csv").dropna(subset="target").iloc[0]
    assert main(["page", fault["page"], "--site", str(ran), "-q"]) == 0
    said = " ".join(capsys.readouterr().out.split())
    assert f"Repair ({fault['repair']}): {fault['because']}" in said, "what a page needs stands with its verdict"
    assert f"Target: {fault['target']}" in said
    assert main(["page", path.rstrip("/"), "--site", str(ran), "--format", "json", "-q"]) == 0
    assert json.loads(capsys.readouterr().out)["page"]["page"] == row["page"]
    assert main(["query", row["query"].upper(), "--site", str(ran), "--format", "csv", "-q"]) == 0
    assert f"{row['page']},owner" in capsys.readouterr().out


def test_load_prints_the_account(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["load", str(ran), "--format", "json", "-q"]) == 0
    account = json.loads(capsys.readouterr().out)
    assert {note["code"] for note in account["notes"]} >= {"partial_days", "other_host", "withheld", "spellings"}
    assert account["matched"]["clicks"]["in_landings"] > 0.99
    assert main(["load", str(ran), "-q"]) == 0
    assert "total row" in capsys.readouterr().out


@pytest.mark.slow
def test_without_settings_run_looks_at_the_files_and_others_say_so(workspace: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (workspace / "nibbet.toml").unlink()
    assert main(["load", str(workspace), "-q"]) == 2
    assert "nibbet init" in capsys.readouterr().err
    assert main(["run", str(workspace), "-q"]) == 0
    said = capsys.readouterr().out
    assert "Wrote " in said
    assert "Verdicts: " in said
    assert 'brand = ["tarnbrook"]' in (workspace / "nibbet.toml").read_text(), "queries hold the host's name"


def test_init_writes_settings_that_run(workspace: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (workspace / "nibbet.toml").unlink()
    (workspace / "notes.txt").write_text("nothing to see")
    assert main(["init", str(workspace)]) == 0
    said = capsys.readouterr().out
    text = (workspace / "nibbet.toml").read_text()
    assert 'home = "https://tarnbrook.example/"' in text
    for line in (
        r"search +page by day, country, device +in the rows +search/pages-\S+ and 5 more like it",
        r"landings +page by day, country, channel, source +in the rows +visits/landing-pages.csv",
        r"crawl +inventory.*xlsx",
        r"left out: notes.txt: no kind of table was recognised",
    ):
        assert re.search(line, said), said
    assert '# impressions = "Einblendungen"' in text
    assert main(["load", str(workspace), "-q"]) == 0
    assert main(["init", str(workspace)]) == 2
    assert "--force" in capsys.readouterr().err


def _edit(path: Path, old: str, new: str) -> None:
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new))


def _without_shown(folder: Path) -> None:
    for path in (folder / "search").glob("pages-*.csv.gz"):
        pd.read_csv(path).drop(columns="Shown").to_csv(path, index=False)


@pytest.mark.parametrize(
    ("damage", "said"),
    [
        (
            lambda f: _edit(f / "nibbet.toml", 'kind = "crawl"', 'kind = "crawl"\nfilse = "x"'),
            ["line 21", "unknown key", "filse", "Did you mean files"],
        ),
        (lambda f: _edit(f / "nibbet.toml", "[site]\n", "[site\n"), ["nibbet.toml", "line 2"]),
        (lambda f: _edit(f / "nibbet.toml", 'home = "https://tarnbrook.example/"', 'home = "tarnbrook"'), ["line 3", "whole address"]),
        (lambda f: _edit(f / "nibbet.toml", 'kind = "crawl"', 'kind = "crowl"'), ["kind", "crawl"]),
        (lambda f: (f / "editorial.csv").unlink(), ["editorial.csv", "no file"]),
        (_without_shown, ["search/pages-", "impressions", "export it again with that column"]),
        (lambda f: (f / "editorial.csv").write_bytes(b""), ["editorial.csv", "empty"]),
        (lambda f: (f / "inventory.xlsx").write_bytes(b"PK\x03\x04 not a workbook"), ["inventory.xlsx", "workbook"]),
        (lambda f: (f / "search" / "pages-2026q3.csv.gz").write_bytes(b"\x1f\x8b broken"), ["pages-2026q3.csv.gz", "again"]),
    ],
)
def test_unusable_input_gets_one_message_and_nothing_is_written(
    workspace: Path, capsys: pytest.CaptureFixture[str], damage: object, said: list[str]
) -> None:
    damage(workspace)  # type: ignore[operator]
    assert main(["run", str(workspace), "-q"]) == 2
    shown = capsys.readouterr()
    assert shown.out == ""
    assert "Traceback" not in shown.err
    for word in said:
        assert word in shown.err
    assert not (workspace / "out").exists()


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["run", "--nonsense"], "--nonsense"),
        (["decide", "--as-of", "soon"], "2026-10-31"),
        (["decide", "--format", "xml"], "xml"),
        (["bogus"], "bogus"),
        (["page", "/never/met/"], "No source knows the page /never/met/. List them with: nibbet sql"),
        (["query", "never asked by anyone"], "No search row"),
        (["decide", "--where", "1=1; DROP TABLE rows"], "--where"),
        (["decide", "--where", "clicks > (select count(*) from read_csv('/etc/passwd'))"], "--where"),
        (["demo", "."], "holds other files"),
    ],
)
def test_wrong_usage_exits_with_two(
    ran: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], words: list[str], said: str
) -> None:
    monkeypatch.chdir(ran.parent if words[0] == "demo" else ran)
    assert main([*words]) == 2
    shown = capsys.readouterr()
    assert said in shown.err
    assert "Traceback" not in shown.err


@pytest.mark.slow
def test_a_failed_run_keeps_the_old_result(ran: Path, workspace: Path) -> None:
    assert main(["run", str(workspace), "-q"]) == 0
    before = (workspace / "out" / "pages.csv").read_bytes()
    (workspace / "editorial.csv").unlink()
    assert main(["run", str(workspace), "-q"]) == 2
    assert (workspace / "out" / "pages.csv").read_bytes() == before
    assert not [path for path in (workspace / "out").iterdir() if path.name.startswith(".")]


def test_help_and_import_stay_light() -> None:
    code = "import sys, nibbet, nibbet.cli.main as m; m.main(['--help']); heavy = {'ibis', 'duckdb', 'matplotlib', 'jinja2', 'pandas', 'numpy'} & set(sys.modules); sys.exit(str(heavy) if heavy else 0)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    listed = done.stdout.partition("Begin:")[2]
    assert listed.index("  init") < listed.index("  run") < listed.index("  decide"), "commands stand in the order of the work"


def test_what_is_known_is_told_without_an_engine(ran: Path) -> None:
    code = f"import sys, nibbet.cli.main as m; m.main(['decide', {str(ran)!r}, '-q']); sys.exit(str({{'ibis', 'duckdb', 'scipy', 'matplotlib'}} & set(sys.modules)))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.stderr.strip() == "set()"
    assert "verdict" in done.stdout


@pytest.mark.slow
def test_why_shows_every_rule_and_protection_changes_the_verdict(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["decide", str(ran), "--verdict", "prune", "--top", "1", "--format", "json", "-q"]) == 0
    page = json.loads(capsys.readouterr().out)[0]["page"]
    assert main(["decide", str(ran), "--why", page, "--format", "csv", "-q"]) == 0
    rows = list(csv.DictReader(io.StringIO(capsys.readouterr().out)))
    assert {row["rule"].split(",")[0] for row in rows} == {"watch", "prune", "consolidate", "refresh", "expand"}
    asked = [row for row in rows if row["rule"] == "prune, dead" and row["passed"]]
    assert len(asked) >= 10
    assert all(row["passed"] == "true" and row["threshold"] for row in asked), "a rule speaks when all its figures passed"
    assert main(["decide", str(ran), "--why", page, "--protect", "/*", "-q"]) == 0
    said = capsys.readouterr().out
    assert "One figure away from prune, dead: protected is 1, required is no." in said
    assert said.splitlines()[1].split()[0] != "prune"
    assert main(["decide", str(ran), "--verdict", "prune", "--protect", "/*", "-q"]) == 0
    assert "No page has such a verdict." in capsys.readouterr().out
    assert main(["decide", str(ran), "--why", "/never/met/", "-q"]) == 2


def test_narrow_terminals_put_sentences_below_their_rows(monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> None:
    sentence = "A reason that is long enough to need more than one line of a terminal that is as narrow as this one."
    frame = pd.DataFrame(
        {"page": ["https://tarnbrook.example/" + "long/" * 12], "verdict": ["refresh"], "gain": [12.0], "because": [sentence]}
    )
    monkeypatch.setenv("COLUMNS", "60")
    monkeypatch.setenv("NO_COLOR", "1")
    monkeypatch.setattr(sys.stdout, "isatty", lambda: True, raising=False)
    show(frame, "table")
    said = capsys.readouterr().out
    assert not re.search(r"\x1b\[3\d", said), "no colour"
    lines = re.sub(r"\x1b\[\d*m", "", said).splitlines()
    assert max(map(len, lines)) <= 60
    assert "refresh" in lines[1]
    assert "…" in lines[1], "a long address has its middle left out"
    assert " ".join(" ".join(lines[2:]).split()) == sentence


@pytest.mark.slow
def test_a_terminal_is_shown_a_bar_that_goes_away(workspace: Path) -> None:
    shown, terminal = pty.openpty()
    command = [sys.executable, "-m", "nibbet", "load", str(workspace)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=terminal, env={**os.environ, "TERM": "xterm"}) as process:
        os.close(terminal)
        told = b""
        with contextlib.suppress(OSError):  # the terminal is gone when the program is
            while part := os.read(shown, 4096):
                told += part
        assert process.stdout is not None
        assert process.stdout.read().startswith(b"kind")
    os.close(shown)
    assert process.returncode == 0
    assert "\u2501" in told.decode()
    assert b"reading search" in told
    assert told.rstrip().endswith(b"\x1b[2K")
