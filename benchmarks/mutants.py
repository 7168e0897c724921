"""How many small faults put into the core do the tests notice? Each mutant changes one comparison, sign, number, condition or logical word.

Usage: python benchmarks/mutants.py [--count 40] [--seed 1] [--seconds 300] [--near] [MODULE ...]

A mutant is tried on the tests that import its module or bear its name, then on those of whole worlds (not with --near, which tells in minutes the
least that is noticed, of modules that have such tests); what all of them pass has survived. Survivors
are listed with their line: some change nothing that could be seen (an order among equals, a bound never reached), the others want a test.
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

ROOT = Path(__file__).parents[1]
CORE = ROOT / "src" / "nibbet" / "core"
#: modules that hold names and words alone
WORDS_ALONE = {"__init__", "meanings", "entries", "tables", "verdict"}
WHOLE = ["tests/test_answers.py", "tests/test_truth.py"]
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


def mutated(path: Path, chance: random.Random) -> tuple[str, str]:
    """(the module with one fault, what the fault is)."""
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
    return ast.unparse(tree), f"{path.name}:{node.lineno}  {before}  ->  {ast.unparse(node)}"  # type: ignore[attr-defined]


def tests_of(name: str) -> list[str]:
    """The test files that import a module of the core, or bear its name."""
    own = [p for p in sorted((ROOT / "tests").glob("test_*.py")) if f"core.{name} " in p.read_text("utf-8") or p.stem == f"test_{name}"]
    return [f"tests/{path.name}" for path in own]


def survives(place: Path, module: Path, text: str, seconds: int, whole_worlds: bool) -> bool:
    """Whether every test passes with this text in place of the module."""
    target = place / module.relative_to(ROOT)
    whole = target.read_text("utf-8")
    target.write_text(text, "utf-8")
    near = tests_of(module.stem)
    try:
        for files in ([near] if near else []) + [[one] for one in WHOLE if whole_worlds and one not in near]:
            command = [sys.executable, "-m", "pytest", "-x", "-q", "-o", "addopts=", "-m", "not slow", "-p", "no:cacheprovider", *files]
            surroundings = {**os.environ, "PYTHONPATH": str(place / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
            try:
                done = subprocess.run(command, cwd=place, env=surroundings, capture_output=True, timeout=seconds, check=False)
            except subprocess.TimeoutExpired:
                return False  # it hangs: that is noticed
            if done.returncode:
                return False
    finally:
        target.write_text(whole, "utf-8")
    return True


def main() -> None:
    """Try mutants on two processors, and tell each."""
    wanted = argparse.ArgumentParser(description=__doc__)
    wanted.add_argument("modules", nargs="*")
    for name, usual in (("--count", 40), ("--seed", 1), ("--seconds", 300)):
        wanted.add_argument(name, type=int, default=usual)
    wanted.add_argument("--near", action="store_true")
    given = wanted.parse_args()
    chance = random.Random(given.seed)
    modules = [p for p in sorted(CORE.glob("*.py")) if p.stem not in WORDS_ALONE and (not given.modules or p.stem in given.modules)]
    modules = [path for path in modules if not given.near or tests_of(path.stem)]
    sizes = [len(places(ast.parse(path.read_text("utf-8")))) for path in modules]
    chosen = [(path, *mutated(path, chance)) for path in chance.choices(modules, sizes, k=given.count)]
    free: Queue[Path] = Queue()
    with tempfile.TemporaryDirectory() as folder:
        for number in range(2):
            place = Path(folder) / str(number)
            shutil.copytree(ROOT, place, ignore=shutil.ignore_patterns(".venv", "demo", "build", ".git", ".*_cache", ".hypothesis", "out"))
            shutil.copytree(ROOT / "src" / "nibbet" / "demo", place / "src" / "nibbet" / "demo")
            free.put(place)

        sound, path = free.get(), CORE / "words.py"
        if not survives(
            sound, path, path.read_text("utf-8"), 3 * given.seconds, not given.near
        ):  # what fails without a fault would pass for one that is noticed
            sys.exit("the tests fail, or take too long, without any fault")
        free.put(sound)

        def tried(one: tuple[Path, str, str]) -> bool:
            place = free.get()
            try:
                lives = survives(place, one[0], one[1], given.seconds, not given.near)
            finally:
                free.put(place)
            print("SURVIVED" if lives else "killed  ", one[2], flush=True)
            return lives

        with ThreadPoolExecutor(2) as pool:
            survivors = sum(pool.map(tried, chosen))
    print(f"{given.count - survivors} of {given.count} noticed ({1 - survivors / given.count:.0%})")


if __name__ == "__main__":
    main()
