"""Reads a list of ideas: the first column of a table, or one per line."""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path

from nibbet.errors import SourceError
from nibbet.sources.encodings import encoding_of

MOST_BYTES = 50_000_000
HEADERS = {"idea", "ideas", "query", "queries", "topic", "topics", "keyword", "keywords", "term", "title", "search term", "phrase"}


def read_ideas(path: Path) -> list[str]:
    """The ideas of a text or CSV file, in order and without duplicates; a header word is left out. Raises SourceError."""
    try:
        if path.stat().st_size > MOST_BYTES:
            raise SourceError(f"{path}: over {MOST_BYTES // 1_000_000} MB is no list of ideas. Give a shorter file.")
        data = path.read_bytes()
    except OSError as fault:
        raise SourceError(f"{path}: cannot be read ({fault.strerror or fault}). Name a CSV or text file with an idea a line.") from None
    encoding, _ = encoding_of(path, data, str(path))
    text = data.decode("utf-8-sig" if encoding == "utf-8" else encoding, "replace")
    if re.search(r"[\x01-\x08\x0e-\x1f]", text):
        raise SourceError(f"{path}: is no text. Name a CSV or text file with an idea a line.")
    lines = text.splitlines()
    sep = max(",;\t|", key=lines[0].count) if lines else ","
    first = [row[0].strip() for row in csv.reader(io.StringIO(text.replace("\0", "")), delimiter=sep) if row and row[0].strip()]
    ideas = list(dict.fromkeys(first[1:] if first and first[0].lower() in HEADERS else first))
    if not ideas:
        raise SourceError(f"{path}: holds no ideas. Write one a line, or in the first column.")
    return ideas
