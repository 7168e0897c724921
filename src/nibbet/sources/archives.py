"""Archives of answers (WARC, ISO 28500) as inventories."""

from __future__ import annotations

from pathlib import Path

from nibbet.errors import SourceError

#: bytes of an answer that are read, and answers of one archive
MOST_BYTES, MOST_ANSWERS = 10_000_000, 5_000_000


def archive_tables(path: Path, name: str, folder: Path) -> tuple[Path, Path]:
    """(pages, links) as Parquet files in `folder`, as a crawl of the same answers would write them; the last of several answers of an address
    counts.

    Raises SourceError for a damaged archive, or one without answers.
    """
    import numpy as np
    import pyarrow as pa
    import pyarrow.parquet as pq
    from warcio.archiveiterator import ArchiveIterator
    from warcio.exceptions import ArchiveLoadFailed

    from nibbet.core.markup import answer_facts, host_of
    from nibbet.sources.inventories import LINKS, PAGES, Rows, link_rows

    places, answers = (folder / "pages.parquet", folder / "links.parquet"), folder / "answers.parquet"
    last: dict[str, int] = {}  # the last of several answers of an address counts; texts are not held in memory
    schema = pa.schema([field for field in PAGES if field.name not in ("inlinks", "depth", "in_sitemap")])  # answers do not contain these
    try:
        with path.open("rb") as file, Rows(places[1], LINKS) as rows, Rows(answers, schema) as pages:
            count = 0
            for record in ArchiveIterator(file):
                if record.rec_type != "response" or record.http_headers is None:
                    continue
                address = (record.rec_headers.get_header("WARC-Target-URI") or "").strip("<>")
                if not address.startswith(("http://", "https://")) or address.endswith("/robots.txt"):
                    continue
                headers = {key.lower(): value for key, value in record.http_headers.headers}
                code = record.http_headers.get_statuscode()
                status = int(code) if code.isdigit() else None
                facts, links, _ = answer_facts(address, status, headers, record.content_stream().read(MOST_BYTES))
                if "title" in facts:
                    facts["outlinks"] = len({one[0] for one in links if host_of(one[0]) == host_of(address)} - {address})
                pages.add({**facts, "page": address, "status": status, "crawled": record.rec_headers.get_header("WARC-Date")})
                last[address], count = count, count + 1
                for row in link_rows(address, links):
                    rows.add(row)
                if len(last) > MOST_ANSWERS:
                    raise SourceError(f"{name}: holds more than {MOST_ANSWERS:,} answers. Split it.")
    except (ArchiveLoadFailed, OSError, EOFError, ValueError, AttributeError, TypeError) as fault:  # warcio raises these on damaged files
        why = str(fault).splitlines()[0][:100] if str(fault) else "it ends early"
        raise SourceError(f"{name}: the archive is damaged ({why}). Copy it again.") from None
    if not last:
        raise SourceError(f"{name}: the archive holds no answers of servers.")
    kept, at = np.zeros(count, dtype=bool), 0
    kept[list(last.values())] = True
    with pq.ParquetWriter(places[0], schema, compression="zstd") as writer:
        for batch in pq.ParquetFile(answers).iter_batches():
            writer.write_batch(batch.filter(pa.array(kept[at : at + len(batch)])))
            at += len(batch)
    answers.unlink()
    return places
