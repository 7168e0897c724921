"""How many small faults put into the core do the tests notice? Each mutant changes one comparison, sign, number, condition or logical word.

Usage: python -m pytest --cov=nibbet.core --cov-branch --cov-context=test --junitxml=tests.xml
       python benchmarks/mutants.py [--count 60] [--seed 1] [--seconds 150] [--workers 2] [MODULE ...]

The first line (with pytest-cov) tells which tests run which line, how long each takes, and the branch coverage of the core; the second tries each mutant on
the tests that run its line, the quickest first, for so many seconds, one of them at least. What all of them pass has survived. Survivors are listed with their line: some
change nothing that could be seen (an order among equals, a bound never reached), the others want a test. A line that no test runs has no mutants: that
is what the coverage is for.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import Queue
from xml.etree import ElementTree

from coverage import CoverageData

ROOT = Path.cwd()
CORE = ROOT / "src" / "nibbet" / "core"
#: modules that hold names and words alone
WORDS_ALONE = {"__init__", "meanings", "entries", "tables", "verdict"}
#: tests that are tried in one go, at first: a run of pytest takes seconds to begin; seconds that a test takes at least, and that the run takes which some share
AT_FIRST, LEAST, SHARED = 25, 0.05, 60.0
#: times the seconds known from which a test is taken to hang
HANGS = 8
SWAPS: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.GtE, ast.GtE: ast.Lt, ast.Gt: ast.LtE, ast.LtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.Add: ast.Sub, ast.Sub: ast.Add,
    ast.Mult: ast.Div, ast.Div: ast.Mult, ast.And: ast.Or, ast.Or: ast.And, ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd,
}  # fmt: skip


def places(tree: ast.Module) -> list[tuple[ast.AST, str]]:
    """What can be changed in a module: the node, and how."""
    result: list[tuple[ast.AST, str]] = []
    for function in (node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef)):
        for node in ast.walk(function):
            if isinstance(node, ast.Compare) and type(node.ops[0]) in SWAPS:
                result.append((node, "compare"))
            elif isinstance(node, ast.BinOp | ast.BoolOp) and type(node.op) in SWAPS:
                result.append((node, "operator"))
            elif isinstance(node, ast.Constant) and isinstance(node.value, int | float) and not isinstance(node.value, bool):
                result.append((node, "number"))
            elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Invert | ast.Not):
                result.append((node, "negation"))
    return result


def mutated(path: Path, chance: random.Random) -> tuple[str, str, int]:
    """(the module with one fault, what the fault is, its line)."""
    tree = ast.parse(path.read_text("utf-8"))
    node, how = chance.choice(places(tree))
    before = ast.unparse(node)
    if how == "compare":
        node.ops[0] = SWAPS[type(node.ops[0])]()  # type: ignore[attr-defined, abstract]
    elif how == "operator":
        node.op = SWAPS[type(node.op)]()  # type: ignore[attr-defined, abstract]
    elif how == "number":
        node.value = node.value + 1  # type: ignore[attr-defined]
    else:
        node.operand = ast.UnaryOp(node.op, node.operand)  # type: ignore[attr-defined]
    line: int = node.lineno  # type: ignore[attr-defined]
    return ast.unparse(tree), f"{path.name}:{line}  {before}  ->  {ast.unparse(node)}", line


class Tests:
    """Which tests run a line of the core, the quickest first."""

    def __init__(self) -> None:
        self._data = CoverageData(ROOT / ".coverage")
        self._data.read()
        cases = ElementTree.parse(ROOT / "tests.xml").iter("testcase")
        self._seconds = {f"{one.get('classname', '').replace('.', '/')}.py::{one.get('name')}": float(one.get("time", 0)) for one in cases}
        self._lines: dict[Path, dict[int, list[str]]] = {}

    def of(self, path: Path, line: int) -> list[tuple[str, float]]:
        """(test, seconds) of those that run a line."""
        if path not in self._lines:
            self._lines[path] = self._data.contexts_by_lineno(str(path))
        names = {one.partition("|")[0] for one in self._lines[path].get(line, [])} - {""}
        return sorted(((one, self._cost(one)) for one in names), key=lambda one: (one[1], one[0]))

    def _cost(self, name: str) -> float:
        shares = "ran: Path" in (ROOT / name.partition("::")[0]).read_text("utf-8")
        return max(self._seconds.get(name, 0.0), LEAST) + (SHARED if shares else 0.0)


def survives(place: Path, module: Path, text: str, tests: list[tuple[str, float]], seconds: int) -> bool:
    """Whether every test passes with this text in place of the module, as far as so many seconds reach."""
    target = place / module.relative_to(ROOT)
    whole = target.read_text("utf-8")
    target.write_text(text, "utf-8")
    surroundings = {**os.environ, "PYTHONPATH": str(place / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-o", "addopts=", "-p", "no:cacheprovider"]
    many, spent, tests = AT_FIRST, 0.0, list(tests)
    try:
        while tests and (not spent or spent + tests[0][1] <= seconds):
            portion = [tests.pop(0)]
            cost = portion[0][1]
            while tests and len(portion) < many and spent + cost + tests[0][1] <= seconds:
                cost += tests[0][1]
                portion.append(tests.pop(0))
            spent, many = spent + cost, 3 * many
            names = [name for name, _ in portion]
            try:
                limit = 60 + HANGS * cost
                done = subprocess.run([*command, *names], cwd=place, env=surroundings, capture_output=True, timeout=limit, check=False)
            except subprocess.TimeoutExpired:
                return False  # it hangs: that is noticed
            if done.returncode:
                return False
    finally:
        target.write_text(whole, "utf-8")
    return True


def main() -> None:
    """Try mutants, several at once, and tell each."""
    wanted = argparse.ArgumentParser(description=__doc__)
    wanted.add_argument("modules", nargs="*")
    for name, usual in (("--count", 60), ("--seed", 1), ("--seconds", 150), ("--workers", 2)):
        wanted.add_argument(name, type=int, default=usual)
    given = wanted.parse_args()
    chance, tests = random.Random(given.seed), Tests()
    modules = [p for p in sorted(CORE.glob("*.py")) if p.stem not in WORDS_ALONE and (not given.modules or p.stem in given.modules)]
    sizes = [len(places(ast.parse(path.read_text("utf-8")))) for path in modules]
    drawn = [(path, *mutated(path, chance)) for path in chance.choices(modules, sizes, k=3 * given.count)]
    chosen = [one for one in drawn if tests.of(one[0], one[3])][: given.count]
    free: Queue[Path] = Queue()
    with tempfile.TemporaryDirectory() as folder:
        for number in range(given.workers):
            place = Path(folder) / str(number)
            shutil.copytree(ROOT, place, ignore=shutil.ignore_patterns(".venv", "demo", "build", ".git", ".*_cache", ".hypothesis", "out"))
            shutil.copytree(ROOT / "src" / "nibbet" / "demo", place / "src" / "nibbet" / "demo")
            free.put(place)

        def tried(one: tuple[Path, str, str, int]) -> bool:
            place, near = free.get(), tests.of(one[0], one[3])
            try:
                lives = survives(place, one[0], one[1], near, given.seconds)
            finally:
                free.put(place)
            print("SURVIVED" if lives else "killed  ", f"({len(near)} tests)", one[2], flush=True)
            return lives

        with ThreadPoolExecutor(given.workers) as pool:
            survivors = sum(pool.map(tried, chosen))
    count = len(chosen)
    print(f"{count - survivors} of {count} noticed ({1 - survivors / count:.0%}), of {sum(sizes):,} places")


if __name__ == "__main__":
    main()
