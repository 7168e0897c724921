"""Rows of a finished table that fulfil a condition in plain SQL, in an engine that can reach nothing else."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nibbet.errors import NotFoundError

if TYPE_CHECKING:
    import pandas as pd


def rows_where(frame: pd.DataFrame, condition: str) -> pd.DataFrame:
    """The rows of `frame` for which the condition holds, in their order.

    Raises NotFoundError when the condition is no single SQL condition on its columns.
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
        kept = connection.execute(statements[0]).fetchnumpy()["nibbet_row"]
    except duckdb.Error as fault:
        said = str(fault).strip().splitlines()[0]
        raise NotFoundError(f"--where {condition}: {said}. Columns: {', '.join(map(str, frame.columns))}.") from None
    finally:
        connection.close()
    return frame.iloc[kept].reset_index(drop=True)
