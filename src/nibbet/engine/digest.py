"""The bytes of a file, portion by portion, and their digest."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import xxhash

#: bytes of a portion: few enough to stay in a processor's cache
SPAN = 1 << 20


def spans(path: Path) -> Iterator[memoryview]:
    """The bytes of a file in portions; each is valid until the next is asked for, as all share one buffer."""
    buffer = bytearray(SPAN)
    with path.open("rb", buffering=0) as file:
        while length := file.readinto(buffer):
            yield memoryview(buffer)[:length]


def digest_of(path: Path) -> str:
    """The digest of a file's bytes: it tells mix-ups, not forgeries."""
    digest = xxhash.xxh3_128()
    for span in spans(path):
        digest.update(span)
    return digest.hexdigest()
