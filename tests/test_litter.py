"""What one run leaves does not mislead the next: no half-written folders, no old briefs, no page under another's name."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.passing import Passing
from nibbet.render.files import _take_away_old, write_files
from nibbet.render.safe import page_name

HOME = "https://tarnbrook.example/"


def test_what_a_killed_process_left_is_taken_away(tmp_path: Path) -> None:
    code = f"from pathlib import Path\nfrom nibbet.passing import Passing\nimport time\nkept = Passing(Path({str(tmp_path)!r}))\nprint(kept.path, flush=True)\ntime.sleep(99)"
    with subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        left = Path(process.stdout.readline().strip())
        (left / "half.csv").write_text("page\n")
        own = Passing(tmp_path)
        assert left.exists(), "its process lives"
        process.send_signal(signal.SIGKILL)
    (tmp_path / "nibbet-notes").mkdir()
    (tmp_path / "nibbet-notes" / "mine.txt").write_text("a person's")
    os.utime(tmp_path / "nibbet-notes", (0, 0))
    Passing(tmp_path).close()
    assert not left.exists()
    assert own.path.exists()
    assert (tmp_path / "nibbet-notes" / "mine.txt").exists(), "what was not ours stays"
    own.close()
    assert sorted(path.name for path in tmp_path.iterdir()) == ["nibbet-notes"]


def test_a_run_that_is_killed_while_it_writes_leaves_the_old_files_alone(tmp_path: Path) -> None:
    out = tmp_path / "site" / "out"
    out.mkdir(parents=True)
    (out / "pages.csv").write_text("old")
    code = f"""
import time
from pathlib import Path
from nibbet.render.files import write_files
def slow(path):
    path.write_text("new"); print("writing", flush=True); time.sleep(99)
write_files(Path({str(out)!r}), {{"pages.csv": slow}}, in_parent=True)
"""
    with subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        process.stdout.readline()
        process.kill()
    assert [path.name for path in out.iterdir()] == ["pages.csv"]
    assert (out / "pages.csv").read_text() == "old"
    assert len(list(out.parent.glob(".nibbet-writes-*"))) == 1
    write_files(out, {"pages.csv": lambda path: bool(path.write_text("whole"))}, in_parent=True)  # type: ignore[dict-item]
    assert (out / "pages.csv").read_text() == "whole"
    assert [path.name for path in out.parent.iterdir()] == ["out"]


def test_old_briefs_go_and_what_people_wrote_stays(tmp_path: Path) -> None:
    briefs = tmp_path / "briefs"
    names = {name: f"# {name}\n" for name in ("old-000000.md", "edited-000000.md", "kept-000000.md")}

    def run(*wanted: str) -> None:
        writers = {f"briefs/{name}": lambda path, name=name: path.write_text(names[name]) for name in wanted}
        paths = write_files(tmp_path, writers)  # type: ignore[arg-type]
        _take_away_old(briefs, {path.name: path for path in paths})

    run(*names)
    (briefs / "mine.md").write_text("a person's\n")
    (briefs / "edited-000000.md").write_text("# edited\nbetter words\n")
    run("kept-000000.md")
    assert sorted(path.name for path in briefs.glob("*.md")) == ["edited-000000.md", "kept-000000.md", "mine.md"]
    run()
    assert sorted(path.name for path in briefs.glob("*.md")) == ["edited-000000.md", "mine.md"]


@pytest.mark.slow
def test_dossiers_of_old_hosts_are_their_own(tmp_path: Path) -> None:
    days = pd.date_range("2026-08-01", "2026-10-31")
    new = pd.DataFrame(
        {"date": days, "page": "https://www.tarnbrook.example/a/", "query": "new canoe", "clicks": 3, "impressions": 60, "position": 3.0}
    )
    old = new.assign(page="https://old.example/a/", query="old canoe")
    pd.concat([new, old]).to_csv(tmp_path / "search.csv", index=False)
    (tmp_path / "nibbet.toml").write_text(
        f'[site]\nhome = "{HOME}"\nold_hosts = ["old.example"]\n[[source]]\nkind = "search"\nfiles = "search.csv"\n'
    )
    assert main(["run", str(tmp_path), "-q"]) == 0
    told = re.search(r'id="dossiers">(.+?)</script>', (tmp_path / "out" / "report.html").read_text(), re.DOTALL)
    assert told is not None
    dossiers = json.loads(told[1])
    assert {name: one["address"] for name, one in dossiers.items()} == {"/a/": HOME + "a/", "old.example/a/": "https://old.example/a/"}
    assert dossiers["old.example/a/"]["queries"][0][0] == "old canoe"
    assert page_name("https://TARNBROOK.example/a/", HOME) == "/a/"


def test_a_closed_site_leaves_nothing_and_its_tables_stay(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    rows = {
        "date": pd.date_range("2026-08-01", "2026-10-31"),
        "page": "/a/",
        "query": "canoe",
        "clicks": 3,
        "impressions": 60,
        "position": 3.0,
    }
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    with nibbet.Site(HOME, search=pd.DataFrame(rows)) as site:
        pages, days = site.pages(), site.sql("SELECT sum(clicks) AS clicks FROM days")
    assert not list(tmp_path.iterdir())
    assert (pages["clicks"].sum(), days["clicks"].sum()) == (3 * 90, 3 * len(rows["date"]))
    assert site.pages().equals(pages), "what is asked again is computed again"
    site.close()
    site.close()
    assert not list(tmp_path.iterdir())
