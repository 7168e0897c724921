"""Reads the tables of one plain file of any format."""

from __future__ import annotations

from nibbet.errors import SourceError
from nibbet.sources.documents import document, is_document
from nibbet.sources.files import WORKBOOKS, Plain
from nibbet.sources.html_tables import html_tables, is_html
from nibbet.sources.sheets import Sheet, columnar, delimited, workbook
from nibbet.sources.standards import is_log, is_robots, log_sheet, robots_sheet, sitemap_sheet


def read_sheets(plain: Plain) -> list[Sheet]:
    """The tables in one plain file: one for text, XML and columnar files, one per filled sheet of a workbook.

    Raises SourceError when there is no header row with rows below it, or the file is not what it claims to be.
    """
    if plain.suffix in WORKBOOKS and not plain.head:
        return workbook(plain)
    if plain.suffix in WORKBOOKS and is_html(plain.head):
        return html_tables(plain)
    if plain.suffix in WORKBOOKS and plain.head.lstrip().startswith("<?xml"):
        raise SourceError(f"{plain.name}: this is a workbook in an XML form that is not read. Save it again as XLSX.")
    if plain.suffix in (".json", ".jsonl", ".ndjson") and is_document(plain):
        return [document(plain)]
    if plain.suffix in (".parquet", ".jsonl", ".ndjson"):
        return [columnar(plain)]
    if plain.suffix == ".xml":
        return [sitemap_sheet(plain)]
    if is_log(plain.head):
        return [log_sheet(plain)]
    return [robots_sheet(plain)] if is_robots(plain.name, plain.head) else delimited(plain)
