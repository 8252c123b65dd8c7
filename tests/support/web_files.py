"""A server on loopback with files that can be read by ranges (RFC 9110): they change, break off, go, are refused."""

from __future__ import annotations

import hashlib
import re
import threading
import unittest
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

_RANGE = re.compile(r"bytes=(\d+)-(\d+)")


class _Server(ThreadingHTTPServer):
    def handle_error(self, *_: object) -> None:
        """Say nothing of those who hang up."""


class WebFiles:
    """``files``: name -> bytes. ``says``: the headers that tell of a change. ``breaks``: answers that are cut in half.
    ``status``: answer everything with it. ``ranges``: False answers with the whole. ``moved``: name -> address."""

    def __init__(self, case: type[unittest.TestCase]) -> None:
        self.files: dict[str, bytes] = {}
        self.says: tuple[str, ...] = ("ETag",)
        self.breaks = 0
        self.status = 0
        self.ranges = True
        self.moved: dict[str, str] = {}
        self.token = ""
        self.asked: list[tuple[str, str]] = []
        files = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                files.answer(self)

            def log_message(self, *_: object) -> None:
                """Say nothing."""

        self._server = _Server(("127.0.0.1", 0), Handler)
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        self.address = f"http://127.0.0.1:{self._server.server_port}"
        case.addClassCleanup(self._server.server_close)
        case.addClassCleanup(self._server.shutdown)

    def stamp(self, data: bytes) -> dict[str, str]:
        digest = hashlib.sha256(data).hexdigest()[:16]
        second = int(digest[:2], 16) % 60
        known = {
            "ETag": f'"{digest}"',
            "Weak": f'W/"{digest}"',
            "Last-Modified": f"Sun, 29 Nov 2026 10:00:{second:02} GMT",
        }
        return {"ETag" if name == "Weak" else name: known[name] for name in self.says}

    def answer(self, request: BaseHTTPRequestHandler) -> None:
        """One answer."""
        name = request.path.partition("?")[0]
        asked = request.headers.get("Range", "")
        self.asked.append((name, asked))
        data = self.files.get(name)
        if name in self.moved:
            self._send(request, 302, b"", {"Location": self.moved[name]})
        elif self.status or (self.token and request.headers.get("Authorization") != f"Bearer {self.token}"):
            self._send(request, self.status or 401, b"no")
        elif data is None:
            self._send(request, 404, b"no")
        elif (wanted := request.headers.get("If-Match")) and wanted != self.stamp(data).get("ETag"):
            self._send(request, 412, b"")
        elif not self.ranges or not (found := _RANGE.fullmatch(asked)):
            self._send(request, 200, data, self.stamp(data))
        elif int(found[1]) >= len(data):
            self._send(request, 416, b"", {"Content-Range": f"bytes */{len(data)}", **self.stamp(data)})
        else:
            start, stop = int(found[1]), min(int(found[2]) + 1, len(data))
            told = {"Content-Range": f"bytes {start}-{stop - 1}/{len(data)}", **self.stamp(data)}
            self._send(request, 206, data[start:stop], told)

    def _send(
        self, request: BaseHTTPRequestHandler, status: int, body: bytes, told: dict[str, str] | None = None
    ) -> None:
        request.send_response(status)
        for name, value in (told or {}).items():
            request.send_header(name, value)
        request.send_header("Content-Length", str(len(body)))
        request.end_headers()
        if self.breaks and len(body) > 1:
            self.breaks -= 1
            body = body[: len(body) // 2]
            request.close_connection = True
        request.wfile.write(body)
