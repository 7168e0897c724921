"""The program is built as docs/architecture.md says: one way, each table once, each stage from earlier ones."""

from __future__ import annotations

import ast
import dataclasses
import importlib
import importlib.util
from pathlib import Path

import pytest

from nibbet import pipeline as stages
from nibbet.pipeline import Pipeline
from nibbet.tables import TABLES

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "nibbet"


def architecture() -> object:
    spec = importlib.util.spec_from_file_location("make_architecture", ROOT / "docs" / "make_architecture.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


@pytest.mark.parametrize(("folder", "package", "deepest"), [("", "nibbet", 11), ("pipeline", "nibbet.pipeline", 11)])
def test_imports_form_no_circle_and_the_drawing_holds_every_module(folder: str, package: str, deepest: int) -> None:
    made = architecture()
    imports = made.imports_of(SOURCE / folder, package)
    levels = made.levels(imports)
    assert max(levels.values()) <= deepest
    for name, other in made.needed(imports):
        assert levels[name] > levels[other]
    names = {path.stem for path in (SOURCE / folder).glob("*.py") if not path.stem.startswith("__")}
    assert names <= set(imports)


def test_no_file_is_longer_than_a_reader_can_hold() -> None:
    long = {str(path.relative_to(SOURCE)): len(path.read_text("utf-8").splitlines()) for path in SOURCE.rglob("*.py")}
    assert {name: lines for name, lines in long.items() if lines > 500} == {}


def test_a_stage_reads_what_its_constructor_names() -> None:
    for path in (SOURCE / "pipeline").glob("*.py"):
        if path.stem in ("__init__", "context"):
            continue
        module = importlib.import_module(f"nibbet.pipeline.{path.stem}")
        tree = ast.parse(path.read_text("utf-8"))
        for node in (one for one in tree.body if isinstance(one, ast.ClassDef)):
            kind = getattr(module, node.name)
            if not dataclasses.is_dataclass(kind) or node.name == "Calibration":
                continue
            fields = {field.name for field in dataclasses.fields(kind)}
            read = {
                one.attr
                for one in ast.walk(node)
                if isinstance(one, ast.Attribute) and isinstance(one.value, ast.Name) and one.value.id == "self"
            }
            assert fields <= read, f"{node.name} holds stages that it does not read: {fields - read}"
            assert not [
                one for one in ast.walk(node) if isinstance(one, ast.Call) and getattr(one.func, "id", "") in ("vars", "getattr", "setattr")
            ]


def test_the_pipeline_puts_every_stage_together_once(tmp_path: Path) -> None:
    from nibbet.config import make_config
    from nibbet.engine import Store

    whole = Pipeline(make_config({"site": {"home": "https://tarnbrook.example/"}}), tmp_path, {}, Store(None), "key", lambda _: None)
    held = {type(one).__name__ for one in vars(whole).values()}
    modules = {path.stem for path in (SOURCE / "pipeline").glob("*.py")} - {"__init__", "comparison"}
    assert modules <= set(vars(whole)), "each module of the folder is one stage"
    for stage in vars(whole).values():
        if not dataclasses.is_dataclass(stage) or type(stage).__name__ == "Context":
            continue
        for field in dataclasses.fields(stage):
            part = getattr(stage, field.name)
            if type(part).__name__ in held:
                assert part is getattr(whole, field.name), f"{type(stage).__name__} has a {field.name} of its own"
    assert stages.__doc__


def test_every_table_has_a_stage_that_makes_it() -> None:
    text = (SOURCE / "tables.py").read_text("utf-8")
    made = {name for name in TABLES if f'"{name}": Table(' in text}
    assert made == set(TABLES), "each is entered once, in one place"
    assert text.count(": Table(") == len(TABLES)


def test_no_name_is_a_bare_participle() -> None:
    """A name says what a thing is: a participle alone could be a flag, a frame or a message."""
    bare, bad = {"told", "asked", "found", "said", "met", "held"}, []
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            names = [getattr(node, "name", None), getattr(node, "arg", None), node.id if isinstance(node, ast.Name) else None]
            plain = {name.strip("_") for name in filter(None, names)}
            if not isinstance(node, ast.keyword) and (name := bare & plain):
                bad.append(f"{path.name}:{node.lineno} {name}")  # type: ignore[attr-defined]
    assert not bad
