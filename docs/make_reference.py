"""Write the chapters that the program itself tells: settings from their definitions, commands from their help.

Usage: python docs/make_reference.py
"""

from __future__ import annotations

import typing
from enum import EnumType
from pathlib import Path

import typer
from pydantic_core import PydanticUndefined

from nibbet.cli.app import WORK
from nibbet.cli.main import app
from nibbet.config import Config
from nibbet.core.meanings import COLUMN_MEANINGS
from nibbet.tables import ROW_TABLES, TABLES

HERE = Path(__file__).parent


def settings() -> str:
    """docs/settings.md."""
    lines = [
        "# nibbet.toml",
        "",
        "`nibbet init` writes it. Only `[site] home` is required; an unknown key or a bad value is refused with its line and the mend.",
    ]
    for field in Config.model_fields.values():
        kind = next((part for part in (field.annotation, *typing.get_args(field.annotation)) if hasattr(part, "model_fields")), None)
        title, _, rest = (kind.__doc__ or "").strip().partition(": ")
        lines += ["", f"## {title}", "", rest[0].upper() + rest[1:], "", "| key | default | meaning |", "|---|---|---|"]
        for name, one in kind.model_fields.items():
            default = one.get_default(call_default_factory=True)
            told = "required" if default is PydanticUndefined else "" if default in (None, [], {}, "") else f"`{_toml(default)}`"
            lines.append(f"| `{name}` | {told} | {' '.join((one.description or '').split())} |")
    return "\n".join(lines) + "\n"


def _toml(value: object) -> str:
    if isinstance(value, (tuple, list)):
        return "[" + ", ".join(map(_toml, value)) + "]"
    return f'"{value}"' if isinstance(value, str) else str(value)


def commands() -> str:
    """docs/commands.md."""
    group = typer.main.get_command(app)
    lines = [
        "# Commands",
        "",
        "Results go to standard output, all else to standard error. Exit 0: done; 2: wrong usage or unusable input, with one message that says what, where",
        "and the mend; 1: a fault of Nibbet. `NO_COLOR` is honoured. `nibbet --install-completion` completes commands and options in your shell.",
    ]
    for title, names in WORK.items():
        lines += ["", f"## {title}"]
        for name in names:
            command = group.commands[name]
            lines += ["", f"### nibbet {name}", "", " ".join((command.help or "").split()), ""]
            lines += ["| option | |", "|---|---|"]
            for one in command.params:
                if one.param_type_name == "argument":
                    lines.append(f"| `{(one.metavar or one.name.upper()).strip('[]')}` | {one.help} |")
                elif "--help" not in one.opts:
                    kind = one.type_descriptor.annotation
                    value = "|".join(member.value for member in kind) if isinstance(kind, EnumType) else kind.__name__.upper()
                    value = "" if one.is_flag else f" {one.metavar or value}"
                    told = (
                        ", ".join(f"`{name}`" for name in one.opts[:-1]) + (", " if len(one.opts) > 1 else "") + f"`{one.opts[-1]}{value}`"
                    )
                    lines.append(f"| {told.replace('|', chr(92) + '|')} | {one.help or ''} |")
    return "\n".join(lines) + "\n"


def tables() -> str:
    """docs/tables.md."""
    lines = [
        "# Tables",
        "",
        "Every finished table is a call in Python (`site.table(name)`, most by their own name), a table of `nibbet sql`, and mostly a file of a run.",
        "`datapackage.json` beside the files tells each column with type and meaning, after the open standards Data Package and Table Schema;",
        "`nibbet sql --tables` lists the same.",
        "",
        "| table | holds | file | sheet |",
        "|---|---|---|---|",
    ]
    for name, one in TABLES.items():
        files = [f"`{name}.csv`"] * one.file + ["`.parquet`"] * one.parquet
        lines.append(f"| `{name}` | {one.holds} | {', '.join(files)} | {'yes' if one.sheet else ''} |")
    lines += [
        "",
        "## Tables of rows",
        "",
        "For `nibbet sql` alone; those of sources are there when the source is.",
        "",
        "| table | holds |",
        "|---|---|",
    ]
    lines += [f"| `{name}` | {holds} |" for name, holds in ROW_TABLES.items()]
    lines += ["", "## Columns", "", "| column | meaning |", "|---|---|"]
    lines += [f"| `{name}` | {meaning.replace('|', chr(92) + '|')} |" for name, meaning in sorted(COLUMN_MEANINGS.items())]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    for chapter in (settings, commands, tables):
        (HERE / f"{chapter.__name__}.md").write_text(chapter(), "utf-8")
