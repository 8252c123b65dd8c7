"""A Git server over HTTP that does what no honest one does (gitprotocol-http, gitprotocol-pack)."""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Sequence
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from tests.support import packs

_CAPABILITIES = b"multi_ack_detailed no-done side-band-64k ofs-delta"
_BLOB = ("blob", b"zone,fare\nA,2\n")


def _line(data: bytes) -> bytes:
    return b"%04x" % (len(data) + 4) + data


def _objects(name: str, *, whole: bool = True) -> list[tuple[str, bytes]]:
    """A commit of one file of that name, the commit last; the commit alone if it is not ``whole``."""
    tree = ("tree", packs.tree([("100644", name, packs.object_id(*_BLOB))]))
    commit = ("commit", packs.commit(packs.object_id(*tree)))
    return [_BLOB, tree, commit] if whole else [commit]


def _varint(number: int) -> bytes:
    """The rest of the size of an object (gitformat-pack): seven bits a byte, the lowest first."""
    found = bytearray()
    while number > 127:
        found.append(number & 127 | 128)
        number >>= 7
    return bytes([*found, number])


def _write_on(request: BaseHTTPRequestHandler, start: bytes, piece: bytes) -> None:
    """Write until nobody reads any more."""
    with contextlib.suppress(OSError):
        request.wfile.write(start)
        while True:
            request.wfile.write(piece)


class EvilGit:
    """``refs`` are advertised for the newest of ``objects``; ``answer`` is sent instead of the refs, ``location`` is
    where it says they are, ``status`` what it answers with, ``form`` the media type. ``endless`` (refs or pack) never
    ends, ``silent`` (refs or pack) never comes; ``pause``: seconds between
    pieces of the refs."""

    def __init__(self) -> None:
        self.refs: Sequence[bytes] = [b"refs/heads/main"]
        self.objects = _objects("fares.csv")
        self.answer: bytes | None = None
        self.location, self.status, self.form = "", 200, ""
        self.endless, self.silent, self.pause = "", "", 0.0
        self._closed = threading.Event()
        self.asked: list[str] = []
        server = self

        class Handler(BaseHTTPRequestHandler):
            def log_message(self, *_: Any) -> None:
                """Says nothing."""

            def do_GET(self) -> None:
                server._advertise(self)

            def do_POST(self) -> None:
                server._pack(self)

        self._http = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._http.daemon_threads = True
        self.host = f"127.0.0.1:{self._http.server_address[1]}"
        self.address = f"http://{self.host}/ferries.git"
        threading.Thread(target=self._http.serve_forever, daemon=True).start()

    def close(self) -> None:
        """End it."""
        self._closed.set()
        self._http.shutdown()
        self._http.server_close()

    def lacks_objects(self) -> None:
        """Send the commit without what it names."""
        self.objects = _objects("fares.csv", whole=False)

    def has_file(self, name: str) -> None:
        """Send a commit of a file of that name."""
        self.objects = _objects(name)

    def answers_noise(self) -> None:
        """Send what means nothing; Git quotes its first four bytes, a line break among them."""
        self.answer = b"\n[\xff\n" + os.urandom(100_000)

    def _head(self, request: BaseHTTPRequestHandler, kind: str) -> None:
        request.send_response(302 if self.location else self.status)
        request.send_header("Content-Type", self.form or f"application/x-git-upload-pack-{kind}")
        if self.location:
            request.send_header("Location", self.location)
        request.end_headers()

    def _advertise(self, request: BaseHTTPRequestHandler) -> None:
        self.asked.append(request.path)
        if self.silent == "refs":
            self._closed.wait()
            return
        self._head(request, "advertisement")
        if self.location or self.status != 200:
            return
        if self.endless == "refs":
            start = _line(b"# service=git-upload-pack\n") + b"0000"
            _write_on(request, start, _line(b"1" * 40 + b" refs/heads/again\n") * 1000)
            return
        tip = packs.object_id(*self.objects[-1]).encode()
        rows = [
            _line(tip + b" " + ref + (b"\0" + _CAPABILITIES if not n else b"") + b"\n")
            for n, ref in enumerate(self.refs)
        ]
        whole = _line(b"# service=git-upload-pack\n") + b"0000" + b"".join(rows) + b"0000"
        if self.pause:
            with contextlib.suppress(OSError):
                for place in range(0, len(whole), 60):
                    request.wfile.write(whole[place : place + 60])
                    self._closed.wait(self.pause)
            return
        request.wfile.write(whole if self.answer is None else self.answer)

    def _pack(self, request: BaseHTTPRequestHandler) -> None:
        self.asked.append(request.path)
        request.rfile.read(int(request.headers.get("Content-Length") or 0))
        if self.silent == "pack":
            self._closed.wait()
            return
        self._head(request, "result")
        if self.endless == "pack":
            # One blob of 2^40 bytes that is not compressed (RFC 1951, stored blocks).
            sized = bytes([0x80 | 3 << 4]) + _varint((1 << 40) >> 4)
            start = b"PACK" + (2).to_bytes(4, "big") + (1).to_bytes(4, "big") + sized + b"\x78\x01"
            block = b"\0" + (60_000).to_bytes(2, "little") + (60_000 ^ 0xFFFF).to_bytes(2, "little") + bytes(60_000)
            _write_on(request, _line(b"NAK\n") + _line(b"\1" + start), _line(b"\1" + block))
            return
        request.wfile.write(_line(b"NAK\n") + _line(b"\1" + packs.whole(self.objects)) + b"0000")
