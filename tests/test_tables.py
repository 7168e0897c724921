"""Every table is entered once; files, sheets, SQL and their descriptions agree with that entry."""

from __future__ import annotations

import json
from pathlib import Path

import pandas as pd

import nibbet
from nibbet.core.meanings import COLUMN_MEANINGS, FORMAT_OF
from nibbet.tables import ROW_TABLES, TABLES

READ = {"integer": "Int64", "number": "float64", "boolean": "boolean", "string": "str", "date": "str"}


def test_the_files_of_a_run_are_those_entered_and_described(ran: Path) -> None:
    out = ran / "out"
    assert {path.stem for path in out.glob("*.csv")} == {name for name, one in TABLES.items() if one.file}
    assert {path.stem for path in out.glob("*.parquet")} == {name for name, one in TABLES.items() if one.parquet}
    described = json.loads((out / "datapackage.json").read_text("utf-8"))["resources"]
    assert [one["path"] for one in described] == [f"{name}.csv" for name, one in TABLES.items() if one.file]
    for one in described:
        fields = one["schema"]["fields"]
        kinds = {field["name"]: READ[field["type"]] for field in fields}
        frame = pd.read_csv(out / one["path"], dtype=kinds, keep_default_na=False, na_values=one["schema"]["missingValues"])
        assert list(frame) == list(kinds), one["path"]
        for field in fields:
            assert field["description"] == COLUMN_MEANINGS[field["name"]]
            if field["type"] == "date":
                pd.to_datetime(frame[field["name"]].dropna(), format="%Y-%m-%d")


def test_every_table_is_told_to_sql_and_python_alike(ran: Path) -> None:
    with nibbet.open_site(ran) as site:
        listed = site.sql_tables()
        heads = listed[listed["column"] == ""].set_index("table")["meaning"]
        assert heads.to_dict() == {name: heads[name] for name in [*TABLES, *ROW_TABLES] if name in heads}
        assert set(TABLES) <= set(heads.index)
        for name in TABLES:
            columns = listed.loc[(listed["table"] == name) & (listed["column"] != ""), "column"]
            assert list(site.table(name)) == columns.tolist(), name
            assert len(site.sql(f"SELECT * FROM {name}")) == len(site.table(name))
    assert set(FORMAT_OF) <= set(COLUMN_MEANINGS), "a figure is written as its column says"
