"""Draw docs/screenshots/architecture.png from the imports of the program: its layers, and the stages of its pipeline.

Usage: python docs/make_architecture.py
"""

from __future__ import annotations

import ast
from functools import cache
from pathlib import Path

import matplotlib as mpl

mpl.use("Agg")
import matplotlib.pyplot as plt

HERE = Path(__file__).parent
ROOT = HERE.parent / "src" / "nibbet"


def imports_of(folder: Path, package: str) -> dict[str, set[str]]:
    """Which modules of a package import which others of it; folders count as one module."""
    found: dict[str, set[str]] = {}
    for path in sorted(folder.rglob("*.py")):
        name = path.relative_to(folder).parts[0].removesuffix(".py")
        if name.startswith("__"):
            continue
        rows = found.setdefault(name, set())
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.ImportFrom) and node.module and f"{node.module}.".startswith(f"{package}."):
                rest = node.module.removeprefix(package).strip(".")
                rows.update([rest.split(".")[0]] if rest else (one.name for one in node.names))
    return {name: {other for other in others if other in found and other != name} for name, others in found.items()}


def levels(imports: dict[str, set[str]]) -> dict[str, int]:
    """How many imports lie below each module at most. Raises RecursionError where imports form a circle."""

    @cache
    def level(name: str) -> int:
        return max((level(other) + 1 for other in imports[name]), default=0)

    return {name: level(name) for name in imports}


def needed(imports: dict[str, set[str]]) -> list[tuple[str, str]]:
    """The imports that follow from no others."""

    @cache
    def below(name: str) -> frozenset[str]:
        return frozenset(imports[name]).union(*(below(other) for other in imports[name]))

    return [(name, other) for name in imports for other in imports[name] if not any(other in below(one) for one in imports[name] - {other})]


def middles(names: list[str]) -> list[float]:
    """Where boxes of these names stand in a row of width 1: each takes room by its length."""
    room = [len(name) + 4 for name in names]
    return [(sum(room[:at]) + width / 2) / sum(room) for at, width in enumerate(room)]


def draw(axes: plt.Axes, imports: dict[str, set[str]], title: str) -> None:
    """Modules as boxes, those that rest on nothing below."""
    height = levels(imports)
    rows = {level: sorted(name for name in imports if height[name] == level) for level in sorted(set(height.values()))}
    # rows are shifted a little, so that fewer lines run behind modules that they do not touch
    place = {
        name: (x + 0.12 * (level % 3) / len(names), level)
        for level, names in rows.items()
        for name, x in zip(names, middles(names), strict=True)
    }
    for name, other in needed(imports):
        axes.plot(*zip(place[name], place[other], strict=True), color="#9fb3bd", lw=1.1, zorder=1)
    for name, (x, y) in place.items():
        box = {"boxstyle": "round,pad=0.45", "facecolor": "#e6edf0", "edgecolor": "#0b6e8a"}
        axes.text(x, y, name, ha="center", va="center", fontsize=10.5, color="#22303c", bbox=box, zorder=2)
    axes.set(xlim=(-0.02, 1.02), ylim=(-0.6, max(rows) + 0.6))
    axes.set_title(title, loc="left", fontsize=12, color="#22303c")
    axes.axis("off")


def main() -> None:
    """Write the drawing."""
    layers, stages = imports_of(ROOT, "nibbet"), imports_of(ROOT / "pipeline", "nibbet.pipeline")
    layers = {name: others - {"_version"} for name, others in layers.items() if name != "_version"}
    figure, axes = plt.subplots(1, 2, figsize=(13, 8), width_ratios=[1, 1.45], layout="constrained")
    draw(axes[0], layers, "nibbet: a module rests on those below it")
    draw(axes[1], stages, "nibbet.pipeline: a stage reads those below it")
    figure.savefig(HERE / "screenshots" / "architecture.png", dpi=100, metadata={"Software": ""})


if __name__ == "__main__":
    main()
