"""Tables in HTML, which some programs write under the name of a workbook."""

from __future__ import annotations

import re

from nibbet.errors import SourceError
from nibbet.sources.files import Plain
from nibbet.sources.headers import blocks
from nibbet.sources.sheets import Sheet, table_of_rows

#: bytes of a document that is read as a whole, and columns that one cell may span
MOST_BYTES, MOST_SPAN = 200_000_000, 200


def is_html(head: str) -> bool:
    """Whether a text begins as an HTML document or table."""
    return re.match(r"\s*<(?:!doctype html|html|head|meta|body|div|style|table)\b", head, re.IGNORECASE) is not None


def html_tables(plain: Plain) -> list[Sheet]:
    """The tables of an HTML document, those within others aside. Raises SourceError where none has a header above rows, or for more than
    MOST_BYTES bytes.
    """
    from selectolax.lexbor import LexborHTMLParser

    if plain.size > MOST_BYTES:
        raise SourceError(f"{plain.name}: the document is larger than {MOST_BYTES:,} bytes. Export it as CSV.")
    parser = LexborHTMLParser(plain.path.read_text("utf-8"))
    result = []
    for number, table in enumerate(parser.css("table"), 1):
        if table.css_first("table table") is not None:
            continue  # a layout around tables
        rows = [
            [
                text
                for cell in row.iter()
                if cell.tag in ("td", "th")
                for text in _cells(cell.text(separator=" "), cell.attributes.get("colspan"))
            ]
            for row in table.css("tr")
        ]
        for part, (header, body, _) in enumerate(blocks(rows), 1):
            result.append(table_of_rows(f"{plain.name}[table {number}]", header, body, f"{plain.digest}{number}.{part}"))
    if not result:
        raise SourceError(f"{plain.name}: this is an HTML document without a table that has a header above rows. Export it as CSV or XLSX.")
    return result


def _cells(text: str, span: str | None) -> list[str]:
    """The text of a cell, followed by an empty one for each further column that it spans."""
    columns = min(int(span), MOST_SPAN) if span and span.isdigit() else 1
    return [" ".join(text.split()), *[""] * (columns - 1)]
