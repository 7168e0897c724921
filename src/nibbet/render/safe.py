"""Makes text from outside harmless for the place where it is shown."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import pandas as pd

from nibbet.core.sentences import readable

#: options of a workbook in which texts stay texts and equal tables give equal files
NOTHING_RUNS = {"strings_to_formulas": False, "strings_to_urls": False, "strings_to_numbers": False}
UNDATED = {"created": datetime(2000, 1, 1)}
#: beginnings of cells that a spreadsheet takes for a formula or a command, some after leaving out blanks
RISKY = r"^[\pZ]*[=+\-@\x00-\x1f\x7f\x{80}-\x{9f}]"


def for_cells(frame: pd.DataFrame) -> pd.DataFrame:
    """The frame with an apostrophe before text cells that a spreadsheet would run; numbers stay numbers."""
    import pyarrow as pa

    out = frame.copy()
    for name in out.columns:
        if not (out[name].dtype == object or pd.api.types.is_string_dtype(out[name])):
            continue
        texts = out[name]
        if texts.dtype == object:
            texts = texts.where(texts.map(lambda value: isinstance(value, str))).astype("str")
        given = pa.array(texts, pa.large_string(), from_pandas=True)
        if (mended := harmless_cells(given)) is not given:
            out[name] = out[name].where(texts.isna(), pd.Series(mended.to_pylist(), index=out.index, dtype=object))
    return out


def harmless_cells(texts: Any) -> Any:
    """An Arrow array of texts with an apostrophe before those that a spreadsheet would run; the array itself where none is."""
    import pyarrow.compute as pc

    risky = pc.match_substring_regex(texts, RISKY)
    return pc.if_else(risky, pc.binary_join_element_wise(large("'"), texts, large("")), texts) if pc.any(risky).as_py() else texts


def large(text: str) -> Any:
    """A text as an Arrow value that joins with columns of any length."""
    import pyarrow as pa

    return pa.scalar(text, pa.large_string())


def path_of(address: str) -> str:
    """An address without scheme and host, for display."""
    return readable("/" + address.split("://", 1)[1].partition("/")[2] if "://" in address else address)


def page_name(address: str, home: str) -> str:
    """The path of a page on the home host; for other hosts, host and path, so that names are unique."""
    host = home.split("://", 1)[-1].partition("/")[0].lower().removeprefix("www.")
    address_host = address.split("://", 1)[-1].partition("/")[0].lower().removeprefix("www.")
    return path_of(address) if address_host == host or "://" not in address else readable(address.split("://", 1)[1])


def for_terminal(text: str) -> str:
    """The text with control and direction characters replaced by a mark, so that no escape code reaches the terminal."""
    return "".join("\ufffd" if _is_control(character) else character for character in text.replace("\n", " ").replace("\t", " "))


def _is_control(character: str) -> bool:
    code = ord(character)
    return code < 32 or 127 <= code < 160 or code in (0x200E, 0x200F) or 0x202A <= code <= 0x202E or 0x2066 <= code <= 0x2069
