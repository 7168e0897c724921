"""Questions in standard SQL, answered by an engine that can access nothing but the given tables."""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nibbet.errors import NotFoundError

if TYPE_CHECKING:
    import pandas as pd


#: types for results: sums of whole numbers are very wide, money is decimal
_PLAIN = {"HUGEINT": "BIGINT", "UHUGEINT": "BIGINT", "DECIMAL": "DOUBLE"}


def names_in(statement: str) -> set[str]:
    """The names of the tables that a statement reads. Raises NotFoundError for anything but one SELECT."""
    import duckdb

    with duckdb.connect(config={"enable_external_access": "false"}) as connection:
        try:
            result = connection.extract_statements(statement)
            if len(result) != 1:
                raise NotFoundError(f"Give one SELECT, not {len(result)} statements.")
            if result[0].type != duckdb.StatementType.SELECT:
                raise NotFoundError(f"Only SELECT is answered, not {result[0].type.name}: the data stay as they are.")
            row = connection.execute("SELECT json_serialize_sql(?)", [statement]).fetchone()
        except duckdb.Error as fault:
            raise NotFoundError(_message(fault, statement)) from None
    tree = json.loads(row[0]) if row else {}
    nodes = list(_nodes(tree))
    read = {node["table_name"] for node in nodes if node.get("type") == "BASE_TABLE" and not node.get("schema_name")}
    local = {entry["key"] for node in nodes if "cte_map" in node for entry in node["cte_map"]["map"]}
    return read - local


def _nodes(tree: Any) -> Iterator[dict[str, Any]]:
    if isinstance(tree, dict):
        yield tree
    for part in tree.values() if isinstance(tree, dict) else tree if isinstance(tree, list) else ():
        yield from _nodes(part)


def answer(statement: str, tables: Mapping[str, Path], values: Mapping[str, Any], *, memory: str = "4GB") -> pd.DataFrame:
    """The result of a SELECT over Parquet files as tables.

    Args:
        tables: name -> file; values: bound to $name in the statement, never pasted into it.
    Raises NotFoundError when the statement is invalid, refers to something unknown, or a value is missing or unused.
    """
    import duckdb

    # two steps: file names cannot be bound in a view, so they are quoted; afterwards nothing else can be opened or changed
    connection = duckdb.connect(config={"memory_limit": memory})
    try:
        for name, path in tables.items():
            file = str(path).replace("'", "''")
            connection.execute(f"CREATE VIEW \"{name}\" AS SELECT * FROM read_parquet('{file}')")
        connection.execute("SET allowed_paths = ?", [[str(path) for path in tables.values()]])
        connection.execute("SET enable_external_access = false")
        connection.execute("SET lock_configuration = true")
        parsed = connection.extract_statements(statement)[0]
        if missing := sorted(set(parsed.named_parameters) - set(values)):
            raise NotFoundError(f"The question needs a value: --set {missing[0]}=...")
        if extra := sorted(set(values) - set(parsed.named_parameters)):
            raise NotFoundError(f"--set {extra[0]}: the question has no ${extra[0]}. It has: {_listed(parsed.named_parameters)}.")
        rows = connection.sql(statement, params=dict(values)) if values else connection.sql(statement)
        casts = [
            f'TRY_CAST("{name.replace(chr(34), chr(34) * 2)}" AS {_PLAIN[kind]})' if (kind := str(type_).split("(")[0]) in _PLAIN else None
            for name, type_ in zip(rows.columns, rows.types, strict=True)
        ]
        if any(casts) and len(set(rows.columns)) == len(rows.columns):
            quoted = ['"' + name.replace('"', '""') + '"' for name in rows.columns]
            rows = rows.project(", ".join(f"{cast} AS {name}" if cast else name for cast, name in zip(casts, quoted, strict=True)))
        result: pd.DataFrame = rows.to_arrow_table().to_pandas(date_as_object=False)
        return result
    except duckdb.Error as fault:
        raise NotFoundError(_message(fault, statement)) from None
    finally:
        connection.close()


def rows_where(frame: pd.DataFrame, condition: str) -> pd.DataFrame:
    """The rows of `frame` that meet the condition, in their order.

    Raises NotFoundError unless it is a single SQL condition on its columns.
    """
    import duckdb
    import pyarrow as pa

    numbered = frame.reset_index(drop=True).assign(nibbet_row=range(len(frame)))
    connection = duckdb.connect(config={"enable_external_access": "false", "lock_configuration": "true"})
    try:
        connection.register("rows", pa.Table.from_pandas(numbered, preserve_index=False))
        statements = connection.extract_statements(f"SELECT nibbet_row FROM rows WHERE ({condition}\n) ORDER BY nibbet_row")
        if len(statements) != 1:
            raise NotFoundError(f"--where {condition}: give one condition, without a semicolon.")
        kept: Any = connection.execute(statements[0]).fetchnumpy()["nibbet_row"]
    except duckdb.Error as fault:
        raise NotFoundError(f"--where {condition}: {_in_words(fault, frame.columns)}") from None
    finally:
        connection.close()
    chosen: pd.DataFrame = frame.iloc[kept].reset_index(drop=True)
    return chosen


def _in_words(fault: Exception, columns: Iterable[str]) -> str:
    """The fault of a condition, and the remedy."""
    import difflib

    message, names = str(fault).strip().splitlines()[0], list(map(str, columns))
    if unknown := re.search(r'Referenced column "(.+?)" not found', message):
        close = difflib.get_close_matches(unknown[1], names, 1)
        return f"there is no column {unknown[1]}.{f' Did you mean {close[0]}?' if close else ''} Columns: {', '.join(names)}."
    if near := re.search(r"syntax error at or near (.+)", message):
        place = "its end" if near[1].strip('"') == ")" else near[1]
        return f'it breaks off near {place}. Write it as in "clicks > 100 and position > 10".'
    return f"{re.sub(r'^[A-Za-z ]+ Error: ', '', message)}. Columns: {', '.join(names)}."


def value_of(text: str) -> Any:
    """The value of a text on the command line: a whole number, a number, a date, true or false if it is written like one
    (1200, -0.5, 2026-10-31, true); else the text itself, such as 007, nan or 1e5.
    """
    from datetime import date

    if re.fullmatch(r"-?(0|[1-9][0-9]*)", text):
        return int(text)
    if re.fullmatch(r"-?(0|[1-9][0-9]*)\.[0-9]+", text):
        return float(text)
    if re.fullmatch(r"[0-9]{4}-[0-9]{2}-[0-9]{2}", text):
        with contextlib.suppress(ValueError):
            return date.fromisoformat(text)
    return {"true": True, "false": False}.get(text.lower(), text)


def _listed(names: Any) -> str:
    return ", ".join(f"${name}" for name in sorted(names)) or "none"


def _message(fault: Exception, statement: str) -> str:
    lines = [line for line in str(fault).strip().splitlines() if line.strip()]
    kind, _, message = lines[0].partition(": ")
    mend = "; ".join(line.strip() for line in lines[1:] if line.startswith(("Did you mean", "Candidate")))
    if "allowed" in message or "disabled" in message or kind.startswith("Permission"):
        return f"The question reaches outside the tables of this site, which is closed ({message})."
    return f"The question cannot be answered: {message or lines[0]}{'. ' + mend if mend else ''} (in: {' '.join(statement.split())[:120]}). See: nibbet sql --tables"
