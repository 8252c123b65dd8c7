"""A Git server over HTTP that does what no honest one does (gitprotocol-http, gitprotocol-pack)."""

from __future__ import annotations

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


class EvilGit:
    """``refs`` are advertised for the newest of ``objects``; ``answer`` is sent instead of the refs, ``location`` is
    where it says they are, ``status`` what it answers with."""

    def __init__(self) -> None:
        self.refs: Sequence[bytes] = [b"refs/heads/main"]
        self.objects = _objects("fares.csv")
        self.answer: bytes | None = None
        self.location, self.status = "", 200
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
        self._http.shutdown()
        self._http.server_close()

    def lacks_objects(self) -> None:
        """Send the commit without what it names."""
        self.objects = _objects("fares.csv", whole=False)

    def has_file(self, name: str) -> None:
        """Send a commit of a file of that name."""
        self.objects = _objects(name)

    def answers_noise(self) -> None:
        """Send what means nothing."""
        self.answer = os.urandom(100_000)

    def _head(self, request: BaseHTTPRequestHandler, kind: str) -> None:
        request.send_response(302 if self.location else self.status)
        request.send_header("Content-Type", f"application/x-git-upload-pack-{kind}")
        if self.location:
            request.send_header("Location", self.location)
        request.end_headers()

    def _advertise(self, request: BaseHTTPRequestHandler) -> None:
        self.asked.append(request.path)
        self._head(request, "advertisement")
        if self.location or self.status != 200:
            return
        tip = packs.object_id(*self.objects[-1]).encode()
        rows = [
            _line(tip + b" " + ref + (b"\0" + _CAPABILITIES if not n else b"") + b"\n")
            for n, ref in enumerate(self.refs)
        ]
        whole = _line(b"# service=git-upload-pack\n") + b"0000" + b"".join(rows) + b"0000"
        request.wfile.write(whole if self.answer is None else self.answer)

    def _pack(self, request: BaseHTTPRequestHandler) -> None:
        self.asked.append(request.path)
        request.rfile.read(int(request.headers.get("Content-Length") or 0))
        self._head(request, "result")
        request.wfile.write(_line(b"NAK\n") + _line(b"\1" + packs.whole(self.objects)) + b"0000")
