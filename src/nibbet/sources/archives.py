"""Archives of answers (WARC, ISO 28500) as tables: one of pages, one of the links on them."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import Any

from nibbet.errors import SourceError

#: bytes of an answer that are read, and answers of one archive
MOST_BYTES, MOST_ANSWERS = 10_000_000, 5_000_000
#: rows that are written together
AT_ONCE = 2_000
TEXTS = ("redirect_to", "canonical", "noindex", "title", "media", "description", "h1", "headings", "text", "language")


def archive_tables(path: Path, name: str, folder: Path) -> tuple[Path, Path]:
    """(pages, links) as Parquet files in `folder`: what a crawl would have found of the same answers; of several answers of an address the last.

    Raises SourceError for a damaged archive, or one without answers.
    """
    import pyarrow as pa
    import pyarrow.parquet as pq
    from warcio.archiveiterator import ArchiveIterator
    from warcio.exceptions import ArchiveLoadFailed

    from nibbet.core.markup import answer_facts, host_of

    days = {"published": pa.date32(), "modified": pa.date32()}
    pages = pa.schema(
        [
            ("page", pa.string()),
            ("status", pa.int32()),
            *((text, pa.string()) for text in TEXTS),
            ("words", pa.int32()),
            ("outlinks", pa.int32()),
            *days.items(),
        ]
    )
    links = pa.schema(
        [("source", pa.string()), ("target", pa.string()), ("anchor", pa.string()), ("follow", pa.string()), ("place", pa.string())]
    )
    records: dict[str, dict[str, Any]] = {}
    places = folder / "pages.parquet", folder / "links.parquet"
    try:
        with path.open("rb") as file, pq.ParquetWriter(places[1], links, compression="zstd") as writer:
            waiting: list[dict[str, Any]] = []
            for record in ArchiveIterator(file, no_record_parse=False):
                if record.rec_type != "response" or record.http_headers is None:
                    continue
                address = (record.rec_headers.get_header("WARC-Target-URI") or "").strip("<>")
                if not address.startswith(("http://", "https://")) or address.endswith("/robots.txt"):
                    continue
                headers = {key.lower(): value for key, value in record.http_headers.headers}
                status = record.http_headers.get_statuscode()
                facts, found, _ = answer_facts(
                    address, int(status) if status.isdigit() else None, headers, record.content_stream().read(MOST_BYTES)
                )
                for day in days:
                    facts[day] = date.fromisoformat(facts[day]) if facts.get(day) else None
                if "title" in facts:
                    facts["outlinks"] = len({one[0] for one in found if host_of(one[0]) == host_of(address)} - {address})
                records[address] = {**facts, "page": address, "status": int(status) if status.isdigit() else None}
                waiting += [
                    {
                        "source": address,
                        "target": target,
                        "anchor": anchor,
                        "follow": "no" if "nofollow" in rel.split() else "yes",
                        "place": place,
                    }
                    for target, anchor, rel, place in found
                ]
                if len(waiting) >= AT_ONCE:
                    writer.write_table(pa.Table.from_pylist(waiting, links))
                    waiting = []
                if len(records) > MOST_ANSWERS:
                    raise SourceError(f"{name}: holds more than {MOST_ANSWERS:,} answers. Split it.")
            writer.write_table(pa.Table.from_pylist(waiting, links))
    except (ArchiveLoadFailed, OSError, EOFError, ValueError, AttributeError, TypeError) as fault:  # warcio trips over some damage
        raise SourceError(
            f"{name}: the archive is damaged ({str(fault).splitlines()[0][:100] if str(fault) else 'it ends early'}). Copy it again."
        ) from None
    if not records:
        raise SourceError(f"{name}: the archive holds no answers of servers.")
    pq.write_table(pa.Table.from_pylist([records[address] for address in sorted(records)], pages), places[0], compression="zstd")
    return places
