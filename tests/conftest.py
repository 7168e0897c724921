"""Demo worlds are written once a session and shared; tests that change files take a copy."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from nibbet.cli.main import main
from nibbet.demo.exports import write


@pytest.fixture(scope="session")
def world(tmp_path_factory: pytest.TempPathFactory) -> Callable[..., Path]:
    """A function of (seed, pages, level) that gives the workspace of that demo world; written once."""
    root = tmp_path_factory.mktemp("worlds")

    def make(seed: int, pages: int = 120, level: str = "easy") -> Path:
        folder = root / f"{seed}-{pages}-{level}" / "site"
        if not folder.exists():
            folder.mkdir(parents=True)
            write(folder, pages=pages, seed=seed, level=level)
        return folder

    return make


@pytest.fixture(scope="session")
def ran(world: Callable[..., Path]) -> Path:
    """A small demo workspace on which `nibbet run` has been run."""
    folder = world(5, 120)
    assert main(["run", str(folder), "-q"]) == 0
    return folder


@pytest.fixture
def workspace(world: Callable[..., Path], tmp_path: Path) -> Path:
    """A copy of a small demo workspace, free to be damaged."""
    target = tmp_path / "site"
    shutil.copytree(world(5, 120), target, ignore=shutil.ignore_patterns("out", ".nibbet"))
    return target
