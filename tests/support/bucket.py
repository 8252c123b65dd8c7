"""A stand-in for an S3-compatible service on loopback: it can be away, refuse, and break answers off."""

from __future__ import annotations

import contextlib
import os
import random
import socket
import threading
import time
import unittest
from collections.abc import Callable, Iterable
from typing import Any

from moto.moto_api._internal.models import moto_api_backend
from moto.moto_server.werkzeug_app import DomainDispatcherApplication, MotoRequestHandler, create_backend_app
from werkzeug.serving import BaseWSGIServer, make_server

from everyshelf.storage.addresses import BucketAddress
from everyshelf.storage.bucket import Bucket

CREDENTIALS = {"AWS_ACCESS_KEY_ID": "skerry", "AWS_SECRET_ACCESS_KEY": "line", "AWS_REGION": "us-east-1"}
Call = Callable[..., Iterable[bytes]]


class _Quiet(MotoRequestHandler):
    def log(self, *_: Any) -> None:
        """Say nothing."""


def _lasting_port() -> int:
    """A port that nobody else is given while the server is away, as ports from 32768 on are for any connection."""
    while True:
        port = random.randrange(20_000, 32_000)
        with contextlib.suppress(OSError), socket.socket() as tried:
            tried.bind(("127.0.0.1", port))
            return port


def _listening(port: int) -> socket.socket:
    """A socket that listens there; the one that did before may be closed and not gone yet."""
    while True:
        listener = socket.socket()
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            listener.bind(("127.0.0.1", port))
            listener.listen(128)
        except OSError:
            listener.close()
            time.sleep(0.05)
        else:
            return listener


_open: set[BucketServer] = set()  # what they hold is one for the whole process, in which other modules' tests run, too


class BucketServer:
    """One bucket, ``versions``; what it holds outlives ``stop``, and ends with the last server that is closed.
    ``fault``: called with the environment of each request and what would answer it; may answer otherwise."""

    def __init__(self, case: type[unittest.TestCase] | None = None) -> None:
        self.port = _lasting_port()
        self.endpoint = f"http://127.0.0.1:{self.port}"
        self.fault: Callable[[dict[str, Any], Call, Any], Iterable[bytes]] | None = None
        self.asked: list[tuple[str, str]] = []
        self._app = DomainDispatcherApplication(create_backend_app)
        self._server: BaseWSGIServer | None = None
        self._before = {name: os.environ.get(name) for name in CREDENTIALS}
        os.environ.update(CREDENTIALS)
        _open.add(self)
        self.start()
        self.bucket("").make()
        if case is not None:
            case.addClassCleanup(self.close)

    def __call__(self, environ: dict[str, Any], start_response: Any) -> Iterable[bytes]:
        self.asked.append((environ["REQUEST_METHOD"], environ["PATH_INFO"]))
        if self.fault is not None:
            return self.fault(environ, self._app, start_response)
        answer: Iterable[bytes] = self._app(environ, start_response)
        return answer

    def start(self) -> None:
        """Answer (again)."""
        with _listening(self.port) as listener:
            self._server = make_server(
                "127.0.0.1", self.port, self, threaded=True, request_handler=_Quiet, fd=listener.fileno()
            )
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def stop(self) -> None:
        """Be away."""
        if self._server is not None:
            self._server.shutdown()
            self._server.server_close()
            self._server = None

    def close(self) -> None:
        """End, and leave no credentials behind."""
        self.stop()
        _open.discard(self)
        if not _open:
            moto_api_backend.reset()
        for name, value in self._before.items():
            if value is None:
                os.environ.pop(name, None)
            else:
                os.environ[name] = value

    def address(self, prefix: str) -> BucketAddress:
        """The address of a prefix."""
        return BucketAddress("versions", prefix, self.endpoint)

    def bucket(self, prefix: str) -> _Made:
        """What lies below a prefix, as the store sees it."""
        return _Made(self.address(prefix))


class _Made(Bucket):
    def make(self) -> None:
        """Create the bucket."""
        self._client().create_bucket(Bucket=self.address.bucket)


def refusing(code: str, status: str = "403 Forbidden") -> Callable[[dict[str, Any], Call, Any], Iterable[bytes]]:
    """Refuse everything."""

    def fault(_environ: dict[str, Any], _app: Call, start_response: Any) -> Iterable[bytes]:
        body = f"<?xml version='1.0'?><Error><Code>{code}</Code><Message>no</Message></Error>".encode()
        start_response(status, [("Content-Type", "application/xml"), ("Content-Length", str(len(body)))])
        return [body]

    return fault


def losing_answers() -> Callable[[dict[str, Any], Call, Any], Iterable[bytes]]:
    """Do what is asked, and say that it failed."""

    def fault(environ: dict[str, Any], app: Call, start_response: Any) -> Iterable[bytes]:
        b"".join(app(environ, lambda *_: None))
        return refusing("InternalError", "500 Internal Server Error")(environ, app, start_response)

    return fault


def breaking_off(times: int) -> Callable[[dict[str, Any], Call, Any], Iterable[bytes]]:
    """Break the answers of the first reads off in their middle."""
    left = [times]

    def fault(environ: dict[str, Any], app: Call, start_response: Any) -> Iterable[bytes]:
        answer = app(environ, start_response)
        if environ["REQUEST_METHOD"] != "GET" or "HTTP_RANGE" not in environ or not left[0]:
            return answer
        left[0] -= 1
        whole = b"".join(answer)
        return [whole[: len(whole) // 2]]

    return fault
