"""Answers as received, in a WARC archive (ISO 28500)."""

from __future__ import annotations

import io
import os
from pathlib import Path

from warcio.statusandheaders import StatusAndHeaders
from warcio.warcwriter import WARCWriter

from nibbet._version import __version__
from nibbet.crawl.fetch import Answer

#: headers of the compression of an answer, which is removed
OF_THE_WAY = ("content-encoding", "transfer-encoding", "content-length")


class Archive:
    """A WARC archive that replaces an older one when it is complete."""

    def __init__(self, path: Path) -> None:
        self._path, self._passing = path, path.with_name(f".{path.name}.part")
        path.parent.mkdir(parents=True, exist_ok=True)
        self._file = self._passing.open("wb")
        self._writer = WARCWriter(self._file, gzip=True)
        self._writer.write_record(
            self._writer.create_warcinfo_record(path.name, {"software": f"Nibbet {__version__}", "format": "WARC File Format 1.0"})
        )

    def keep(self, address: str, answer: Answer) -> None:
        """Adds an answer: its status, headers and uncompressed body."""
        headers = [(name, value) for name, value in answer.headers.items() if name not in OF_THE_WAY]
        headers.append(("content-length", str(len(answer.body))))
        head = StatusAndHeaders(f"{answer.status} -", headers, protocol="HTTP/1.1")
        record = self._writer.create_warc_record(address, "response", payload=io.BytesIO(answer.body), http_headers=head)
        self._writer.write_record(record)
        record.raw_stream.close()

    def done(self) -> None:
        """Moves the archive to its final path."""
        self._file.close()
        os.replace(self._passing, self._path)
