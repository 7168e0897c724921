"""Finds the files of a folder, unpacks them within limits, and decodes them to UTF-8."""

from __future__ import annotations

import gzip
import re
import tarfile
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import IO, cast

import xxhash

from nibbet.errors import SourceError
from nibbet.sources.encodings import CHUNK, as_utf8, encoding_of

#: length of the beginning of a text that shows its shape
HEAD_CHARACTERS = 200_000
#: and of its end, which shows its last days
TAIL_BYTES = 20_000
#: files of a folder that may hold settings, and their largest size
MOST_BESIDE, SMALL_BYTES = 60, 20_000
PACKED = {".gz", ".tgz", ".zip", ".zst", ".tar"}
WORKBOOKS = {".xlsx", ".xlsm", ".xls", ".xlsb", ".ods"}
#: how a workbook begins: as an archive, or as an older compound file; some programs give the name of one to text or HTML
WORKBOOK_MARKS = (b"PK\x03\x04", b"\xd0\xcf\x11\xe0")
#: a link as a formula, whose first argument is the address
LINK_FORMULA = re.compile(r'=HYPERLINK\(\s*"{1,2}([^"]*)"{1,2}\s*(?:[,;]\s*"{1,2}[^"]*"{1,2}\s*)?\)', re.IGNORECASE)
READABLE = {".warc", ".csv", ".tsv", ".txt", ".tab", ".log", ".xml", ".parquet", ".json", ".jsonl", ".ndjson", *WORKBOOKS}


@dataclass(frozen=True)
class Limits:
    """Limits on the size of an unpacked file: bytes in total, and relative to the compressed size."""

    expanded_bytes: int
    expansion_ratio: float


@dataclass(frozen=True)
class Plain:
    """One file ready to read: its display name, the digest, kind and size of its bytes, and the beginning of its text ("" if it is no
    text) and its end if that is separate; `lay` unpacks it on demand and returns its path; `unreadable` letters of it are damaged.
    """

    name: str
    digest: str
    suffix: str
    size: int
    head: str
    tail: str
    lay: Callable[[], Path]
    unreadable: int = 0

    @property
    def path(self) -> Path:
        """The path of its plain bytes."""
        return self.lay()


def find_files(root: Path, patterns: list[str]) -> list[Path]:
    """The files that match the patterns, relative to `root`, each once, in order of their names.

    Raises SourceError for a pattern without a match.
    """
    result: dict[Path, None] = {}
    for pattern in patterns:
        path = Path(pattern)
        if any(mark in pattern for mark in "*?["):
            base = Path(path.anchor) if path.is_absolute() else root
            hits = sorted(p for p in base.glob(str(path.relative_to(path.anchor))) if p.is_file() and not _is_hidden(p, base))
        else:
            hits = [p for p in [path if path.is_absolute() else root / path] if p.is_file()]
        if not hits:
            raise SourceError(f'no file matches "{pattern}" in {root}. Put the export there, or mend files = "..." in nibbet.toml.')
        result.update(dict.fromkeys(hits))
    return list(result)


def small_neighbours(folder: Path) -> list[Path]:
    """The small text files of a folder, which may include a table of settings."""
    small = [
        p for p in folder.iterdir() if p.suffix.lower() in (".csv", ".tsv", ".txt") and p.is_file() and 0 < p.stat().st_size < SMALL_BYTES
    ]
    return sorted(small)[:MOST_BESIDE]


def name_in(root: Path, path: Path) -> str:
    """The display name of a file: relative to the folder `root` if it is inside, whatever the working directory."""
    return str(path.relative_to(root)) if path.is_relative_to(root) else str(path)


def _is_hidden(path: Path, base: Path) -> bool:
    """Files to ignore: hidden ones, those in hidden folders such as the store, and lock files of open documents."""
    return path.name.startswith("~") or any(part.startswith(".") for part in path.relative_to(base).parts)


def unpack(path: Path, name: str, spill: Path, limits: Limits, digest_of: Callable[[Path], str]) -> Iterator[Plain]:
    """The plain files in `path`: itself, or the members of an archive, each decoded to UTF-8; `digest_of` returns the digest of a plain
    one.

    Raises SourceError for a damaged or oversized archive, a member outside its folder, or an unknown kind of file.
    """
    suffix = path.suffix.lower()
    if path.stat().st_size == 0:
        raise SourceError(f'{name}: the file is empty. Export it again, or take it out of files = "..." in nibbet.toml.')
    try:
        if suffix == ".zip":
            yield from _members(path, name, spill, limits)
        elif suffix == ".tar":
            yield from _tar_members(path, name, spill, limits)
        elif suffix in (".gz", ".zst", ".tgz"):
            inner = ".tar" if suffix == ".tgz" else Path(path.stem).suffix.lower()
            target = _target(spill, name, inner)
            with _opened(path) as stream:
                digest = _copy(stream, target, name, path.stat().st_size, limits)
            if inner == ".tar":
                yield from _tar_members(target, name, spill, limits)
            else:
                yield from _plain(target, name, digest, inner or ".csv", spill)
        else:
            yield from _plain(path, name, digest_of(path), suffix, spill)
    except (zipfile.BadZipFile, tarfile.TarError, gzip.BadGzipFile, EOFError, OSError, RuntimeError) as fault:
        raise SourceError(f"{name}: cannot be unpacked ({fault}). Export or copy it again.") from None


def _opened(path: Path) -> IO[bytes]:
    if path.suffix.lower() in (".gz", ".tgz"):
        return gzip.open(path, "rb")  # type: ignore[return-value]
    return _Zstd(path)  # type: ignore[return-value]


class _Zstd:
    """A zstd file as a stream that reports damage and truncation by OSError and EOFError, as the other formats do."""

    PORTION = 4096  # compressed bytes at once: few, because they may expand a thousandfold

    def __init__(self, path: Path) -> None:
        import zstandard

        self._file, self._fresh, self._damage = path.open("rb"), zstandard.ZstdDecompressor().decompressobj, zstandard.ZstdError
        self._frame, self._held = self._fresh(), b""

    def __enter__(self) -> _Zstd:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def read(self, size: int) -> bytes:
        """The next bytes, at least `size` unless the end is near."""
        parts, count = [], 0
        while count < size:
            packed = self._held or self._file.read(self.PORTION)
            self._held = b""
            if not packed:
                if not self._frame.eof:
                    raise EOFError("it ends too early")
                break
            if self._frame.eof:
                self._frame = self._fresh()
            try:
                parts.append(self._frame.decompress(packed))
            except self._damage as fault:
                raise OSError(str(fault)) from None
            self._held = self._frame.unused_data
            count += len(parts[-1])
        return b"".join(parts)


def _members(path: Path, name: str, spill: Path, limits: Limits) -> Iterator[Plain]:
    with zipfile.ZipFile(path) as archive:
        sizes = {m.filename: max(1, m.compress_size) for m in archive.infolist() if not m.is_dir()}
        yield from _tables_in(sizes, archive.open, name, spill, limits)


def _tar_members(path: Path, name: str, spill: Path, limits: Limits) -> Iterator[Plain]:
    with tarfile.open(path, "r:") as archive:
        sizes = {m.name: max(1, m.size) for m in archive if m.isfile()}
        yield from _tables_in(sizes, lambda member: cast("IO[bytes]", archive.extractfile(member)), name, spill, limits)


def _tables_in(sizes: dict[str, int], open: Callable[[str], IO[bytes]], name: str, spill: Path, limits: Limits) -> Iterator[Plain]:
    """The plain files of an archive; sizes: packed bytes by member; open: a member as a stream."""
    members = [member for member in sizes if not re.search(r"(^|/)(__MACOSX/|\.(?!\.))", member.removeprefix("./"))]
    readable = [member for member in members if PurePosixPath(member).suffix.lower() in READABLE]
    if not readable:
        raise SourceError(f"{name}: the archive holds no table ({', '.join(members[:3]) or 'it is empty'}).")
    for member in sorted(readable):
        inner = PurePosixPath(member.replace("\\", "/"))
        if inner.is_absolute() or ".." in inner.parts:
            raise SourceError(f"{name}: the member {member!r} points outside the archive. Pack it again without that path.")
        target = _target(spill, f"{name}/{inner}", inner.suffix)
        with open(member) as stream:
            digest = _copy(stream, target, f"{name}/{inner}", sizes[member], limits)
        yield from _plain(target, f"{name}/{inner}", digest, inner.suffix.lower(), spill)


def _target(spill: Path, name: str, suffix: str) -> Path:
    return spill / (xxhash.xxh3_128_hexdigest(name.encode("utf-8", "surrogateescape")) + suffix.lower())


def _copy(stream: IO[bytes], target: Path, name: str, packed_size: int, limits: Limits) -> str:
    """Writes the stream to `target` within the limits; returns the digest of its bytes."""
    bound = min(limits.expanded_bytes, max(int(packed_size * limits.expansion_ratio), 64 * CHUNK))
    seen, digest = 0, xxhash.xxh3_128()
    with target.open("wb") as out:
        while chunk := stream.read(CHUNK):
            seen += len(chunk)
            if seen > bound:
                out.close()
                target.unlink()
                raise SourceError(
                    f"{name}: grows beyond {bound:,} bytes from {packed_size:,} packed ones. If that is right, unpack it yourself or raise "
                    "expansion_ratio or expanded_bytes in [limits] of nibbet.toml."
                )
            digest.update(chunk)
            out.write(chunk)
    return digest.hexdigest()


def _plain(path: Path, name: str, digest: str, suffix: str, spill: Path) -> Iterator[Plain]:
    """The file as plain ones: a web archive as its tables, any other as itself."""
    if suffix != ".warc":
        yield _decoded(path, name, digest, suffix, spill)
        return
    from nibbet.sources.archives import archive_tables

    folder = _target(spill, name, ".tables")
    folder.mkdir(exist_ok=True)
    for table in archive_tables(path, name, folder):
        yield _decoded(table, f"{name}[{table.stem}]", f"{digest}-{table.stem}", table.suffix, spill)


def _decoded(path: Path, name: str, digest: str, suffix: str, spill: Path) -> Plain:
    """The file as UTF-8 without a byte order mark, for kinds that are text; others as they are."""
    with path.open("rb") as file:
        head = file.read(4 * CHUNK)
    if suffix == ".parquet" or (suffix in WORKBOOKS and head.startswith(WORKBOOK_MARKS)):
        return Plain(name, digest, suffix, path.stat().st_size, "", "", lambda: path)
    encoding, valid = encoding_of(path, head, name)
    links = b"=HYPERLINK(" in head or "=HYPERLINK(".encode("utf-16-le") in head
    if valid and _ends_alike(head) and not links:
        return _text(path, name, digest, suffix)
    target = _target(spill, str(path) + ".utf8", suffix or ".csv")
    unreadable = as_utf8(path, encoding, target, name)
    if links:
        source, target = target, _target(spill, str(path) + ".links", suffix or ".csv")
        with source.open(encoding="utf-8", newline="") as lines, target.open("w", encoding="utf-8", newline="") as out:
            out.writelines(LINK_FORMULA.sub(r"\1", line) for line in lines)
    return _text(target, name, digest, suffix, unreadable)


def _ends_alike(head: bytes) -> bool:
    """Whether all lines end in the same way that the engine reads: a line feed, or a carriage return and a line feed."""
    both = head.count(b"\r\n")
    return head.count(b"\r") == both and both in (0, head.count(b"\n"))


def _text(path: Path, name: str, digest: str, suffix: str, unreadable: int = 0) -> Plain:
    size, tail = path.stat().st_size, b""
    with path.open(encoding="utf-8", newline="") as file:
        head = file.read(HEAD_CHARACTERS)
    if len(head) == HEAD_CHARACTERS:
        with path.open("rb") as end:
            end.seek(max(size - TAIL_BYTES, 0))
            tail = end.read().partition(b"\n")[2]
    return Plain(name, digest, suffix, size, head, tail.decode("utf-8", "replace"), lambda: path, unreadable)
