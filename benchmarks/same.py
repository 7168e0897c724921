"""Whether two runs wrote the same: every table equal byte for byte, else which columns differ and in how many rows.

    python benchmarks/same.py OLD_OUT NEW_OUT

Exit 1 where a figure differs; columns of sentences may differ in wording and are told apart.
"""

from __future__ import annotations

import sys
from pathlib import Path

import pandas as pd

#: columns that hold sentences
WORDING = {"because", "text"}


def differing(old: Path, new: Path) -> list[str]:
    """The columns in which two CSV files differ, each with how many rows do."""
    before, after = (pd.read_csv(path, dtype=str, keep_default_na=False) for path in (old, new))
    if list(before) != list(after) or len(before) != len(after):
        return [f"shape {before.shape} against {after.shape}"]
    return [f"{name} ({count} rows)" for name in before if (count := int((before[name] != after[name]).sum()))]


def main(old: Path, new: Path) -> int:
    """Compare the folders; returns the exit code."""
    names = sorted({path.name for path in [*old.glob("*.csv"), *new.glob("*.csv"), *old.glob("*.conf"), *new.glob("*.conf")]})
    figures = 0
    for name in names:
        one, other = old / name, new / name
        if not (one.exists() and other.exists()):
            print(f"{name}: only in {one.parent if one.exists() else other.parent}")
            figures += 1
        elif one.read_bytes() != other.read_bytes():
            columns = differing(one, other) if name.endswith(".csv") else ["lines"]
            figures += any(column.partition(" ")[0] not in WORDING for column in columns)
            print(f"{name}: {', '.join(columns)}")
    print(f"{len(names)} files compared, {figures} with other figures")
    return int(figures > 0)


if __name__ == "__main__":
    sys.exit(main(*map(Path, sys.argv[1:3])))
