"""The store: what is kept serves again, what changed is read again, and nothing that can happen to a process tears a file."""

from __future__ import annotations

import json
import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import time
import zipfile
from pathlib import Path

import filelock
import pytest

import nibbet
from nibbet.cli.main import main

NIBBET = [sys.executable, "-m", "nibbet"]


@pytest.fixture
def workspace(short: Path, tmp_path: Path) -> Path:
    """A copy of the smallest demo workspace: what is tested here does not depend on its size."""
    return Path(shutil.copytree(short, tmp_path / "site"))


def bytes_of(folder: Path) -> dict[str, bytes]:
    files = sorted(path for path in folder.rglob("*") if path.suffix in (".csv", ".json", ".html", ".parquet", ".png"))
    return {str(path.relative_to(folder)): path.read_bytes() for path in files}


def rows_kept(folder: Path) -> dict[str, int]:
    kept = [*(folder / ".nibbet").glob("rows-*"), *(folder / ".nibbet").glob("dated-*")]
    return {path.name: path.stat().st_ino for path in kept}


@pytest.mark.slow
def test_a_second_command_reads_nothing_and_says_the_same(
    workspace: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    assert main(["run", str(workspace), "-q"]) == 0
    first = bytes_of(workspace / "out")
    capsys.readouterr()
    assert main(["run", str(workspace), "-v", "--out", str(workspace / "again")]) == 0
    assert "reading" not in capsys.readouterr().err
    assert bytes_of(workspace / "again") == first
    with monkeypatch.context() as inside:
        inside.chdir(workspace)
        assert main(["load", "-v"]) == 0
        assert "reading" not in capsys.readouterr().err, "from wherever it is asked"
    assert main(["load", str(workspace), "--fresh", "-v"]) == 0
    assert "reading search" in capsys.readouterr().err, "fresh forgets"
    assert main(["run", str(workspace), "-q", "--out", str(workspace / "fresh")]) == 0
    assert bytes_of(workspace / "fresh") == first


@pytest.mark.slow
def test_what_the_join_found_is_not_found_again(
    workspace: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    assert main(["run", str(workspace), "-q"]) == 0
    whole = bytes_of(workspace / "out")
    capsys.readouterr()
    for path in (workspace / ".nibbet").iterdir():  # as after a load alone
        if path.name.split("-")[0] in ("table", "account"):
            path.unlink()

    def never(*_: object) -> None:
        raise AssertionError("worked out again")

    for name in (
        "sources.files._opened",
        *(f"join.{name}" for name in ("matching.fold", "matching._without_automata", "joined._account", "joined._as_of")),
    ):
        monkeypatch.setattr(f"nibbet.{name}", never)
    assert main(["run", str(workspace), "-q"]) == 0, capsys.readouterr().err
    assert bytes_of(workspace / "out") == whole


@pytest.mark.slow
def test_a_packed_file_is_unpacked_again_only_for_its_rows(tmp_path: Path) -> None:
    rows = [f"2026-08-{day:02},/rivers/p{n}/,canoe {n},{n % 4},{20 + n},4.5\r\n" for day in range(1, 29) for n in range(30)]
    with zipfile.ZipFile(tmp_path / "search.zip", "w") as archive:
        for part in range(2):
            archive.writestr(f"part-{part}.csv", "\ufeffdate,page,query,clicks,impressions,position\r\n" + "".join(rows[part::2]))
    (tmp_path / "nibbet.toml").write_text(
        '[site]\nhome = "https://tarnbrook.example/"\n[[source]]\nkind = "search"\nfiles = "search.zip"\n'
    )
    first = nibbet.open_site(tmp_path).pages()
    assert first["impressions_long"].sum() == sum(20 + n for n in range(30)) * 28
    for path in (tmp_path / ".nibbet").iterdir():
        if path.suffix == ".parquet":  # what is known of the archive's files is kept, their rows are not
            path.unlink()
    assert nibbet.open_site(tmp_path).pages().equals(first)


@pytest.mark.parametrize(
    ("row", "total"),
    [
        ("2026-{month:02}-{day:02},/rivers/p{n}/,canoe {n},4.5,{clicks},{shown}", ""),
        ("2026-{month:02}-{day:02},/rivers/p{n}/,canoe {n},4.5,{clicks},{shown}", "Total,,,,999,9999"),
        ("{day:02}.{month:02}.2026;/rivers/p{n}/;canoe {n};4,5;{clicks};{shown}", ""),
        ("{day:02}/{month:02}/2026;/rivers/p{n}/;canoe {n};4,5;{clicks};{shown}", "Summe;;;;999;9999"),
    ],
)
@pytest.mark.slow
def test_a_new_file_is_read_alone(row: str, total: str, workspace: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("nibbet.sources.sheets.PORTION_BYTES", 1)
    toml = workspace / "nibbet.toml"
    months = workspace / "months"
    months.mkdir()
    for month in range(1, 7):
        header = "date,page,query,position,clicks,impressions".replace(",", ";" if ";" in row else ",")
        rows = [row.format(month=month, day=day, n=n, clicks=n % 4, shown=20 + n) for day in range(28, 0, -1) for n in range(30)]
        (months / f"2026-0{month}.csv").write_text("\n".join([header, *rows, total]) + "\n")
    toml.write_text('[site]\nhome = "https://tarnbrook.example/"\n[[source]]\nkind = "search"\nfiles = "months/*.csv"\n')
    last = months / "2026-06.csv"
    last.rename(workspace / "later.csv")
    assert main(["load", str(workspace), "-q"]) == 0
    before = rows_kept(workspace)
    assert len(before) == 5
    (workspace / "later.csv").rename(last)
    assert main(["load", str(workspace), "-q"]) == 0
    after = rows_kept(workspace)
    assert len(after) == 6
    assert before.items() <= after.items(), "what was read before is not read again"
    site = nibbet.open_site(workspace)
    for one in site.account["sources"]:
        assert one["measures"]["impressions"]["ledger"] == sum(20 + n for n in range(30)) * 28
        assert [gone["reason"] for gone in one["set_aside"]] == ["total row"] * bool(total)
    with_store = site.pages()
    shutil.rmtree(workspace / ".nibbet")
    assert with_store.equals(nibbet.open_site(workspace).pages())


def test_a_touched_file_is_not_read_again_but_a_changed_one_is(workspace: Path, capsys: pytest.CaptureFixture[str]) -> None:
    def clicks() -> int:
        assert main(["load", str(workspace), "-q", "--format", "json"]) == 0
        account = json.loads(capsys.readouterr().out)
        return sum(one["measures"]["clicks"]["ledger"] for one in account["sources"] if one["kind"] == "search")

    file = workspace / "plain.csv"
    file.write_text("date,page,clicks,impressions,position\n" + "".join(f"2026-10-{d:02},/a/,5,50,2.0\n" for d in range(1, 31)))
    (workspace / "nibbet.toml").write_text(
        '[site]\nhome = "https://tarnbrook.example/"\n[[source]]\nkind = "search"\nfiles = "plain.csv"\n'
    )
    assert clicks() == 150
    before, times = rows_kept(workspace), file.stat()
    os.utime(file)
    assert clicks() == 150
    assert rows_kept(workspace) == before
    file.write_text(file.read_text().replace(",5,50,", ",6,50,"))
    os.utime(file, ns=(times.st_atime_ns, times.st_mtime_ns))  # as large and as old as before: only its content differs
    assert clicks() == 180


@pytest.mark.slow
def test_killed_at_any_moment_it_starts_again_and_ends_the_same(workspace: Path) -> None:
    assert main(["run", str(workspace), "-q"]) == 0
    whole = bytes_of(workspace / "out")
    shutil.rmtree(workspace / ".nibbet")
    chance = random.Random(11)
    for _ in range(3):
        process = subprocess.Popen([*NIBBET, "run", str(workspace), "-q"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(chance.uniform(0.8, 4.0))
        process.send_signal(signal.SIGKILL)
        process.wait()
        assert bytes_of(workspace / "out") == whole, "the old result survives"
    assert subprocess.run([*NIBBET, "run", str(workspace), "-q"], stdout=subprocess.DEVNULL, check=False).returncode == 0
    assert bytes_of(workspace / "out") == whole
    assert not [*(workspace / ".nibbet").glob("partial-*")], "what was left half-written is cleared away"


@pytest.mark.slow
def test_an_interrupt_is_told_as_one_wherever_it_strikes(workspace: Path) -> None:
    for wait in (0.1, 0.8, 1.5):
        process = subprocess.Popen([*NIBBET, "run", str(workspace), "-v"], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        assert process.stderr is not None
        process.stderr.readline()  # it is at work
        time.sleep(wait)
        process.send_signal(signal.SIGINT)
        said = process.communicate(timeout=10)[1]
        assert process.returncode == 130, said
        assert said.splitlines()[-1] == "nibbet: interrupted; what was written before is whole."
        shutil.rmtree(workspace / ".nibbet", ignore_errors=True)


@pytest.mark.slow
def test_two_at_once_wait_for_each_other_by_name(workspace: Path) -> None:
    (workspace / ".nibbet").mkdir()
    (workspace / ".nibbet" / "holder").write_text("process 4711")
    with filelock.FileLock(workspace / ".nibbet" / "lock"):
        waiting = subprocess.Popen([*NIBBET, "load", str(workspace), "-v"], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        assert waiting.stderr is not None
        assert any("waiting for process 4711" in line for line in waiting.stderr), "it says so, however long it takes to begin"
        assert waiting.poll() is None
    waiting.communicate(timeout=300)
    assert waiting.returncode == 0
    both = [
        subprocess.Popen([*NIBBET, "run", str(workspace), "-q", "--out", str(workspace / f"out{n}")], stdout=subprocess.DEVNULL)
        for n in (1, 2)
    ]
    assert [process.wait(timeout=180) for process in both] == [0, 0]
    assert bytes_of(workspace / "out1") == bytes_of(workspace / "out2")


@pytest.mark.slow
def test_a_full_disk_is_said_and_leaves_the_old_result(workspace: Path) -> None:
    assert main(["run", str(workspace), "-q"]) == 0
    whole = bytes_of(workspace / "out")
    (workspace / "nibbet.toml").write_text((workspace / "nibbet.toml").read_text() + "\n[windows]\nrecent = 28\n")

    def little_room() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (30_000, 30_000))

    failed = subprocess.run([*NIBBET, "run", str(workspace), "-q"], preexec_fn=little_room, capture_output=True, text=True, check=False)
    assert failed.returncode == 2, failed.stderr
    assert "Traceback" not in failed.stderr
    assert bytes_of(workspace / "out") == whole
    assert not [*(workspace / ".nibbet").glob("partial-*")]


@pytest.mark.slow
def test_the_seed_of_hashes_and_the_order_of_files_change_nothing(ran: Path, tmp_path: Path) -> None:
    target = tmp_path / "site"
    shutil.copytree(ran, target, ignore=shutil.ignore_patterns("out", ".nibbet"))
    toml = (target / "nibbet.toml").read_text()
    head, *sources = toml.split("[[source]]")
    tail = sources[-1].partition("\n[")
    sources[-1] = tail[0] + "\n"
    (target / "nibbet.toml").write_text("[[source]]".join([head, *reversed(sources)]) + ("\n[" + tail[2] if tail[1] else ""))
    done = subprocess.run(
        [*NIBBET, "run", str(target), "-q"], env={**os.environ, "PYTHONHASHSEED": "77"}, stdout=subprocess.DEVNULL, check=False
    )
    assert done.returncode == 0
    for name in ("pages.csv", "queries.csv", "evidence.csv", "redirects.csv", "changes.csv", "trends.csv", "peers.csv", "repairs.csv"):
        assert (target / "out" / name).read_bytes() == (ran / "out" / name).read_bytes(), name
