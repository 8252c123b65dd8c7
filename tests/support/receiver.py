"""A program elsewhere that hears of events: an HTTP server on loopback which keeps what it is sent."""

from __future__ import annotations

import contextlib
import json
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any


@dataclass(frozen=True)
class Heard:
    """A request as it came."""

    headers: dict[str, str]
    body: bytes
    path: str = "/"

    @property
    def event(self) -> dict[str, Any]:
        """The event in it."""
        found: dict[str, Any] = json.loads(self.body)
        return found


class Receiver:
    """Answers with ``status`` after ``seconds``; ``heard`` is what came."""

    def __init__(self, port: int = 0) -> None:
        self.status, self.seconds = 202, 0.0
        self.heard: list[Heard] = []
        receiver = self

        class Handler(BaseHTTPRequestHandler):
            def log_message(self, *_: Any) -> None:
                """Says nothing."""

            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                time.sleep(receiver.seconds)
                receiver.heard.append(Heard(dict(self.headers), body, self.path))
                self.send_response(receiver.status)
                if receiver.status == 302:
                    self.send_header("Location", "http://127.0.0.1:9/elsewhere")
                self.end_headers()

        self._http = ThreadingHTTPServer(("127.0.0.1", port), Handler)
        self._http.daemon_threads = True
        self.port = int(self._http.server_address[1])
        self.address = f"http://127.0.0.1:{self.port}/events"
        threading.Thread(target=self._http.serve_forever, daemon=True).start()

    def types(self) -> list[str]:
        """The types of what came, without the first word, in order."""
        return [one.event["type"].removeprefix("every-shelf.") for one in self.heard]

    def close(self) -> None:
        """End it."""
        self._http.shutdown()
        self._http.server_close()


@contextlib.contextmanager
def receiver(port: int = 0) -> Iterator[Receiver]:
    """A receiver for a while."""
    made = Receiver(port)
    try:
        yield made
    finally:
        made.close()
