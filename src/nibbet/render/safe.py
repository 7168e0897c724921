"""Text that came from outside, made harmless for the place where it is shown."""

from __future__ import annotations

import pandas as pd

CONTROL = r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]"
RUNS = ("=", "+", "-", "@")


def for_cells(frame: pd.DataFrame) -> pd.DataFrame:
    """The frame with an apostrophe before text cells that a spreadsheet would run; numbers stay numbers."""
    out = frame.copy()
    for name in out.columns:
        if out[name].dtype == object or pd.api.types.is_string_dtype(out[name]):
            column = out[name]
            text = column.where(column.map(lambda value: isinstance(value, str)))
            risky = text.str.startswith(RUNS, na=False) | text.str.match(r"[\x00-\x1f\x7f-\x9f]", na=False)
            out[name] = column.where(~risky, "'" + text.fillna(""))
    return out


def for_terminal(text: str) -> str:
    """The text with control and direction characters shown as a mark, so that no escape code reaches the terminal."""
    return "".join("\ufffd" if _is_control(character) else character for character in text.replace("\n", " ").replace("\t", " "))


def _is_control(character: str) -> bool:
    code = ord(character)
    return code < 32 or 127 <= code < 160 or code in (0x200E, 0x200F) or 0x202A <= code <= 0x202E or 0x2066 <= code <= 0x2069
