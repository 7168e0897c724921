"""datapackage.json: the columns of every table of a run, for programs (Data Package and Table Schema, frictionlessdata.io)."""

from __future__ import annotations

import json
from collections.abc import Mapping

import pandas as pd

from nibbet.core.meanings import COLUMN_MEANINGS
from nibbet.tables import TABLES


def datapackage(tables: Mapping[str, pd.DataFrame], home: str) -> str:
    """The description of the CSV files of a run as JSON text.

    Args:
        tables: the frames that are written, by their names in `nibbet.tables`; home: the home page of the site.
    """
    resources = [
        {
            "name": name.replace("_", "-"),
            "path": f"{name}.csv",
            "description": TABLES[name].holds,
            "profile": "tabular-data-resource",
            "encoding": "utf-8",
            "schema": {"fields": [_field(str(column), frame[column]) for column in frame], "missingValues": [""]},
        }
        for name, frame in tables.items()
    ]
    whole = {"name": "nibbet", "title": f"Nibbet on {home}", "profile": "tabular-data-package", "resources": resources}
    return json.dumps(whole, indent=1, ensure_ascii=False) + "\n"


def _field(name: str, column: pd.Series) -> dict[str, object]:
    field: dict[str, object] = {"name": name, "type": _type(column), "description": COLUMN_MEANINGS[name]}
    if field["type"] == "boolean":
        field |= {"trueValues": ["true"], "falseValues": ["false"]}
    return field


def _type(column: pd.Series) -> str:
    """The type of a column in the words of Table Schema."""
    kinds = {
        "date": pd.api.types.is_datetime64_any_dtype,
        "boolean": pd.api.types.is_bool_dtype,
        "integer": pd.api.types.is_integer_dtype,
        "number": pd.api.types.is_numeric_dtype,
    }
    return next((name for name, fits in kinds.items() if fits(column)), "string")
