"""A server that does what servers should not: one path for each way, each of which must end in time with a reason or a sound record."""

from __future__ import annotations

import gzip
import socket
import threading
import zlib
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager

OK = b"HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-8\r\n"
PAGE = b"<!doctype html><title>A page</title><h1>A page</h1><main>Some words.</main>"


def plain(body: bytes, head: bytes = OK) -> bytes:
    return head + b"Content-Length: %d\r\nConnection: close\r\n\r\n" % len(body) + body


def moved(to: bytes, status: bytes = b"301 Moved") -> bytes:
    return b"HTTP/1.1 " + status + b"\r\nLocation: " + to + b"\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"


def packed(body: bytes, how: bytes = b"gzip") -> bytes:
    return OK + b"Content-Encoding: " + how + b"\r\nContent-Length: %d\r\nConnection: close\r\n\r\n" % len(body) + body


def links(count: int, form: str) -> bytes:
    return b"<title>Many</title>" + "".join(f'<a href="{form.format(n)}">{n}</a>' for n in range(count)).encode()


#: path: (answer as bytes, status that must be kept (None: none), words that its reason or title must hold)
WAYS: dict[str, tuple[bytes, int | None, str]] = {
    "/loop": (moved(b"/loop"), 301, ""),
    "/loop-a": (moved(b"/loop-b", b"302 Found"), 302, ""),
    "/loop-b": (moved(b"/loop-a", b"307 Temporary"), 307, ""),
    "/nowhere": (moved(b""), 301, ""),
    "/to-script": (moved(b"javascript:alert(1)"), 301, ""),
    "/to-file": (moved(b"file:///etc/passwd"), 301, ""),
    "/to-odd": (moved(b"http://[::1"), 301, ""),
    "/to-metadata": (moved(b"http://169.254.169.254/latest/"), 301, ""),
    "/bomb-gzip": (packed(gzip.compress(bytes(60_000_000))), 200, "larger than is read"),
    "/bomb-deflate": (packed(zlib.compress(bytes(60_000_000)), b"deflate"), 200, "larger than is read"),
    "/bare-deflate": (packed(zlib.compress(PAGE)[2:-4], b"deflate"), 200, "A page"),
    "/false-gzip": (packed(PAGE), None, "broken answer"),
    "/cut-gzip": (packed(gzip.compress(PAGE)[:-9]), 200, "A page"),
    "/unknown-packing": (packed(PAGE, b"snappy"), 200, "A page"),
    "/too-long": (OK + b"Content-Length: 999999\r\nConnection: close\r\n\r\n" + PAGE, None, "broken answer"),
    "/too-short": (OK + b"Content-Length: 40\r\nConnection: close\r\n\r\n" + PAGE, None, "broken answer"),
    "/negative": (OK + b"Content-Length: -5\r\n\r\n" + PAGE, None, "broken answer"),
    "/two-lengths": (OK + b"Content-Length: 5\r\nContent-Length: 9\r\n\r\n" + PAGE, None, "broken answer"),
    "/no-length": (OK + b"Connection: close\r\n\r\n" + PAGE, 200, "A page"),
    "/bad-chunks": (OK + b"Transfer-Encoding: chunked\r\n\r\nZZZ\r\nno\r\n", None, "broken answer"),
    "/no-http": (b"hello there\r\n\r\n", None, "broken answer"),
    "/nothing": (b"", None, "broken answer"),
    "/odd-status": (b"HTTP/1.1 999 Odd\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", 999, ""),
    "/long-header": (OK + b"X-Long: " + b"a" * 100_000 + b"\r\n\r\n" + PAGE, None, "broken answer"),
    "/many-headers": (OK + b"".join(b"X-%d: a\r\n" % n for n in range(50_000)) + b"\r\n" + PAGE, None, "broken answer"),
    "/cookie": (plain(PAGE, OK + b"Set-Cookie: a=" + b"b" * 4_000 + b"\r\n"), 200, "A page"),
    "/odd-charset": (plain(PAGE, OK.replace(b"utf-8", b"klingon")), 200, "A page"),
    "/broken-bytes": (plain(PAGE.replace(b"words", b"\xff\xfe\x00\x80")), 200, "A page"),
    "/false-utf16": (plain(b"\xff\xfe" + PAGE + b"x"), 200, ""),
    "/latin": (plain("<title>Café</title>".encode("latin-1"), OK.replace(b"utf-8", b"iso-8859-1")), 200, "Café"),
    "/empty": (plain(b""), 200, ""),
    "/nulls": (plain(b"\x00" * 5_000 + PAGE), 200, ""),
    "/deep": (plain(b"<div>" * 200_000 + PAGE), 200, ""),
    "/open-tags": (plain(b"<title>A page" + b"<p<b<" * 20_000), 200, ""),
    "/million-links": (plain(links(60_000, "/made/{}?x=1&y=2")), 200, "Many"),
    "/script-links": (plain(b"<title>A page</title>" + b"<a href='javascript:x()'>x</a><a href='//'>y</a><a href='http://[bad'>z</a>" * 500), 200, "A page"),
    "/base-elsewhere": (plain(b"<base href='http://10.0.0.1/'><title>A page</title><a href='x'>x</a>"), 200, "A page"),
    "/base-odd": (plain(b"<base href='data:,'><title>A page</title><a href='/loop'>x</a>"), 200, "A page"),
    "/refresh": (plain(b"<title>A page</title><meta http-equiv=refresh content='0; url=/refresh'>"), 200, "A page"),
    "/odd-json": (plain(b"<title>A page</title><script type='application/ld+json'>" + b"[" * 100_000 + b"</script>"), 200, "A page"),
    "/escapes": (plain(b"<title>\x1b[31mA page\x07</title>"), 200, "A page"),
    "/image": (plain(b"\x89PNG" * 9, b"HTTP/1.1 200 OK\r\nContent-Type: image/png\r\n"), 200, ""),
    "/ignored": (b"HTTP/1.1 503 Busy\r\nRetry-After: 0\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", 503, ""),
}  # fmt: skip


@contextmanager
def serving(answers: Callable[..., bytes | None], *, heads: bool = False) -> Iterator[tuple[str, Counter[str]]]:
    """(address, how often each path was asked) of a server that sends these bytes for a path, and closes; None keeps it silent.

    heads: whether `answers` is given the head of the request too.
    """
    listener = socket.create_server(("127.0.0.1", 0), backlog=64)
    asked: Counter[str] = Counter()
    held: list[socket.socket] = []

    def talk(connection: socket.socket) -> None:
        with connection:
            try:
                head = b""
                while b"\r\n\r\n" not in head and (piece := connection.recv(65_536)):
                    head += piece
                path = head.split(b" ")[1].decode("latin-1") if head.count(b" ") > 1 else ""
                asked[path] += 1
                more = {"head": head} if heads else {}
                if (answer := answers(path, asked[path], **more)) is None:
                    held.append(connection.dup())
                    return
                connection.sendall(answer)
            except OSError:
                pass

    def listen() -> None:
        while True:
            try:
                connection, _ = listener.accept()
            except OSError:
                return
            threading.Thread(target=talk, args=(connection,), daemon=True).start()

    threading.Thread(target=listen, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{listener.getsockname()[1]}/", asked
    finally:
        listener.close()
        for connection in held:
            connection.close()
