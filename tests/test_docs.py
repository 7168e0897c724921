"""What is written agrees with what the program does: commands, options, settings, calls, files."""

from __future__ import annotations

import importlib.util
import re
import shlex
from pathlib import Path

import pytest
import typer

import nibbet
from nibbet import figures
from nibbet.cli.app import WORK
from nibbet.cli.main import app
from nibbet.core.meanings import COLUMN_MEANINGS

ROOT = Path(__file__).parents[1]
WRITTEN = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]


def reference() -> object:
    found = importlib.util.spec_from_file_location("make_reference", ROOT / "docs" / "make_reference.py")
    module = importlib.util.module_from_spec(found)
    found.loader.exec_module(module)
    return module


@pytest.mark.parametrize("chapter", ["settings", "commands", "tables"])
def test_chapters_told_by_the_program_are_current(chapter: str) -> None:
    text = getattr(reference(), chapter)()
    assert (ROOT / "docs" / f"{chapter}.md").read_text("utf-8") == text, "run: python docs/make_reference.py"


def test_every_setting_says_what_it_means() -> None:
    rows = re.findall(r"^\| `(\w+)` \| .*? \| (.*) \|$", reference().settings(), re.M)
    assert len(rows) > 50
    assert [name for name, meaning in rows if not meaning.strip()] == []


def test_help_lists_every_command_in_the_order_of_the_work() -> None:
    commands = typer.main.get_command(app).commands
    assert sorted(name for names in WORK.values() for name in names) == sorted(commands)


@pytest.mark.parametrize("path", WRITTEN, ids=lambda path: path.name)
def test_commands_that_are_shown_exist(path: Path) -> None:
    commands = typer.main.get_command(app).commands
    for block in re.findall(r"```sh\n(.*?)```", path.read_text("utf-8"), re.S):
        for line in re.findall(r"^nibbet .*$", block, re.M):
            words = shlex.split(line, comments=True)[1:]
            if words[0].startswith("-"):
                continue
            assert words[0] in commands, line
            known = {name for one in commands[words[0]].params for name in (*one.opts, *one.secondary_opts)}
            assert {word.split("=")[0] for word in words if re.match(r"--\w", word)} <= known, line


@pytest.mark.parametrize("path", WRITTEN, ids=lambda path: path.name)
def test_calls_that_are_shown_exist(path: Path) -> None:
    text = path.read_text("utf-8")
    for name in set(re.findall(r"(?<![\w.])site\.(\w+)\b", text)):
        assert hasattr(nibbet.Site, name), name
    for name in set(re.findall(r"\bfigures\.(\w+)\(", text)):
        assert hasattr(figures, name), name
    for name in set(re.findall(r"\]\((?!https?:|#|mailto:)([^)#\s]+)", text)):
        assert (path.parent / name).exists(), name


def test_every_table_tells_what_its_columns_mean(ran: Path) -> None:
    site = nibbet.open_site(ran)
    tables = site.sql_tables()
    site.close()
    dumb = tables[(tables["column"] != "") & ~tables["column"].isin(COLUMN_MEANINGS)]
    assert dumb["column"].tolist() == []


def test_the_glossary_holds_every_own_word() -> None:
    from nibbet.core.tables import PARTS
    from nibbet.core.verdict import Verdict

    text = (ROOT / "docs" / "glossary.md").read_text("utf-8")
    words = re.findall(r"^\| ([\w -]+) \|", text, re.M)[1:]
    assert words == sorted(words), "in the order of the alphabet"
    verdicts = re.search(r"^\| verdict \| .*: (.*) \|$", text, re.M).group(1).split(", ")
    assert verdicts == [one.value for one in Verdict]
    roles, openings = ["owner", "rival", "stray", "passing"], ["climb", "snippet", "stray"]
    assert {*roles, *openings, "demand", "pull", "access", "untold"} <= set(words)
    assert set(PARTS) - {"rank"} <= set(words), "rank is the trade's"
