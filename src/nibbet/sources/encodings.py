"""The encoding of a text file, and its bytes as UTF-8."""

from __future__ import annotations

import codecs
from pathlib import Path

from nibbet.core.encodings import legacy_encoding
from nibbet.engine.digest import spans
from nibbet.errors import SourceError

CHUNK = 1 << 20
#: lines with letters beyond ASCII from which an older encoding is told
TELLING_LINES = 2000
#: of the letters beyond ASCII in a text in UTF-8, at most this share is damaged; in a text in another encoding hardly one is valid
MOST_DAMAGED = 0.2
#: what stands for bytes that are no letter
UNREADABLE = "\ufffd"
MARKS = ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF32_LE, "utf-32"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"))


def encoding_of(path: Path, head: bytes, name: str) -> tuple[str, bool]:
    """The encoding of a text file that begins with `head`, and whether every byte of it is known to be valid.

    Raises SourceError where it is no text.
    """
    for mark, marked in MARKS:
        if head.startswith(mark):
            return marked, False
    start = head[:4096]
    for parity, wide in ((1, "utf-16-le"), (0, "utf-16-be")):
        if len(start) > 1 and start[parity::2].count(0) > 0.7 * len(start[parity::2]) and not start[1 - parity :: 2].count(0):
            return wide, False
    if start.count(0):
        raise SourceError(f"{name}: this is not a text table (it holds zero bytes). Export it as CSV, XLSX, ODS, Parquet or JSON lines.")
    strange = _first_invalid(path)
    if not strange:
        return "utf-8", True
    text = strange.decode("utf-8", "replace")
    if text.count(UNREADABLE) <= MOST_DAMAGED * sum(letter > "\x7f" for letter in text):
        return "utf-8", False
    return legacy_encoding(strange), False


def _first_invalid(path: Path) -> bytes:
    """The lines beyond ASCII near the first bytes that are not UTF-8; none if all are."""
    import numpy as np
    import pyarrow as pa

    rest = b""
    for span in spans(path):
        view = rest + span
        cut = next((n for n in range(1, min(4, len(view)) + 1) if view[-n] & 0xC0 != 0x80), 0)  # the beginning of the last character
        end = len(view) - cut if cut and view[-cut] >= 0xC0 else len(view)
        bounds = pa.py_buffer(np.array([0, end], dtype=np.int64))
        try:
            pa.Array.from_buffers(pa.large_string(), 1, [None, bounds, pa.py_buffer(view)]).validate(full=True)
        except pa.ArrowInvalid:
            return _beyond_ascii(view)
        rest = view[end:]
    try:
        rest.decode("utf-8")
    except UnicodeDecodeError:
        return rest
    return b""


def _beyond_ascii(text: bytes) -> bytes:
    return b"\n".join([line for line in text.splitlines() if not line.isascii()][:TELLING_LINES])


def as_utf8(path: Path, encoding: str, target: Path, name: str) -> int:
    """Writes a text file as UTF-8 without a byte order mark, lines ended alike, to `target`; returns how many of its letters cannot be read.

    Raises SourceError where a text in two or four bytes to the letter breaks off.
    """
    unreadable = 0
    faults = "replace" if encoding == "utf-8" else "strict"
    try:
        with (
            path.open("r", encoding="utf-8-sig" if encoding == "utf-8" else encoding, newline=None, errors=faults) as source,
            target.open("w", encoding="utf-8", newline="") as out,
        ):
            while chunk := source.read(CHUNK):
                unreadable += chunk.count(UNREADABLE)
                out.write(chunk)
    except UnicodeDecodeError as fault:
        raise SourceError(f"{name}: the text is not {encoding} throughout (byte {fault.start}). Save it as UTF-8.") from None
    return unreadable
