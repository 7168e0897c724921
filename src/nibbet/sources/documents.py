"""JSON documents of paged services: the rows of a page as a table; columns without names are recognised by their values later."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

from nibbet.errors import SourceError
from nibbet.sources.files import Plain
from nibbet.sources.sheets import Sheet, cell_text, table_of_rows

#: characters of a document that is read as a whole; larger ones should be JSON lines
MOST_CHARACTERS = 400_000_000


def is_document(plain: Plain) -> bool:
    """Whether a JSON file is one document, or lines whose objects contain lists, which no columnar reader takes as a table."""
    first = plain.head.lstrip()[:1]
    if plain.suffix == ".json":
        return True
    line = plain.head.lstrip().partition("\n")[0]
    try:
        row = json.loads(line)
    except ValueError:
        return first in ("[", "{") and plain.suffix in (".jsonl", ".ndjson") and '"rows"' in plain.head[:2000]
    return isinstance(row, dict) and any(isinstance(value, (list, dict)) for value in row.values())


def document(plain: Plain) -> Sheet:
    """The rows in a document, or in one document a line. Raises SourceError unless it is JSON with a list of rows."""
    if plain.size > MOST_CHARACTERS:
        raise SourceError(f"{plain.name}: the document is larger than {MOST_CHARACTERS:,} bytes. Save it as JSON lines, one row a line.")
    text = plain.path.read_text("utf-8-sig")
    try:
        documents = [json.loads(text)]
    except ValueError as fault:
        try:
            documents = [json.loads(line) for line in text.splitlines() if line.strip()]
        except ValueError:
            raise SourceError(f"{plain.name}: this is no JSON ({fault}). Fetch it again.") from None
    if len(documents) > 1 and all(isinstance(one, dict) and not _rows_in(one) for one in documents):
        documents = [documents]
    rows = [row for one in documents for row in _rows_of(one)]
    if not rows:
        raise SourceError(f"{plain.name}: the document holds no list of rows.")
    header = list(dict.fromkeys(name for row in rows for name in row))
    return table_of_rows(plain.name, header, [[row.get(name, "") for name in header] for row in rows], plain.digest)


def _rows_of(document: Any) -> Iterator[dict[str, str]]:
    """The rows of one document, each with its cells by name."""
    names = _names_in(document) if isinstance(document, dict) else {}
    for row in _rows_in(document):
        yield dict(_cells(row, names))


def _rows_in(node: Any) -> list[Any]:
    """The longest list of objects (or of lists of equal length) in a document, outermost first."""
    if isinstance(node, list):
        return node if node and all(isinstance(item, (dict, list)) for item in node) else []
    if not isinstance(node, dict):
        return []
    lists = [rows for name, value in node.items() if not _is_heads(name) and (rows := _rows_in(value))]
    return max(lists, key=len, default=[])


def _is_heads(name: str) -> bool:
    return "header" in name.lower() or name.lower() in ("columns", "fields", "schema")


def _names_in(node: dict[str, Any]) -> dict[str, list[str]]:
    """Names of lists of values by the first word of their list of headers: dimension, metric ...; "" for columns or fields."""
    result: dict[str, list[str]] = {}
    for name, value in node.items():
        if _is_heads(name) and isinstance(value, list):
            texts = [
                str(item.get("name") or item.get("id") or item.get("label") or "") if isinstance(item, dict) else str(item)
                for item in value
            ]
            result[name.lower().split("header")[0] if "header" in name.lower() else ""] = texts
        elif isinstance(value, dict):
            result |= _names_in(value)
    return result


def _cells(row: Any, names: dict[str, list[str]]) -> Iterator[tuple[str, str]]:
    """The cells of a row by name: scalars by their own, members of lists by the list of headers, else by list and place."""
    if isinstance(row, list):
        heads = names.get("", [])
        for place, value in enumerate(row):
            yield heads[place] if place < len(heads) else f"column {place + 1}", _scalar(value)
        return
    for name, value in row.items():
        if isinstance(value, list):
            heads = next((texts for word, texts in names.items() if word and name.lower().startswith(word)), names.get("", []))
            for place, item in enumerate(value):
                yield heads[place] if place < len(heads) else f"{name} {place + 1}", _scalar(item)
        elif isinstance(value, dict) and "value" not in value:
            for inner, item in value.items():
                yield f"{name} {inner}", _scalar(item)
        else:
            yield name, _scalar(value)


def _scalar(value: Any) -> str:
    if isinstance(value, dict):
        value = value.get("value", json.dumps(value, ensure_ascii=False))
    return cell_text(value) if not isinstance(value, (list, dict)) else json.dumps(value, ensure_ascii=False)
