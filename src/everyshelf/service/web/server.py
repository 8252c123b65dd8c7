"""The HTTP server: waitress, with limits of time, rate and room of our own.

waitress reads headers and bodies on one loop and hands whole requests to its threads, so a connection that is idle or
trickles takes no thread. What it lacks is here:

* a request must have its headers within ``HEADER_SECONDS`` and its body at ``LEAST_BYTES_PER_SECOND`` on average after
  ``BODY_GRACE_SECONDS``, else it is answered with 408;
* where most connections there may be are open, those that are idle longest make way for new ones;
* a body for which there is no room is answered with 507, and one that is too large with 413, as problem documents;
* answers that nobody reads wait on disk and not in a thread.
"""

from __future__ import annotations

import errno
import resource
import socket
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import orjson
from waitress.adjustments import Adjustments
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.server import TcpWSGIServer

from everyshelf.core.errors import StorageError
from everyshelf.service.base.room import is_not_writable, is_read_only, no_room, read_only, room_for_contents
from everyshelf.service.problems import body
from everyshelf.service.web.dispatching import TurnDispatcher

THREADS = 24
MOST_CONNECTIONS = 4000
IDLE_SECONDS = 75
_BACKLOG = 1024
_TRIES = 20
HEADER_SECONDS = 30
BODY_GRACE_SECONDS = 60
STALLED_SECONDS = 60
LEAST_BYTES_PER_SECOND = 1024
_DRAINED_BYTES = 64 * 1024 * 1024  # of a refused body: whoever sends it reads the answer only afterwards
_IN_MEMORY_BYTES = 512 * 1024  # larger bodies wait on the disk until they are whole
_RECEIVED_BYTES = 64 * 1024  # at a time: each costs a turn of the loop, with the interpreter's lock
_UNLIMITED = 2**62


class _Refusal:
    """An error in the form waitress takes, told as a problem document."""

    def __init__(self, code: int, reason: str, problem: dict[str, Any]) -> None:
        self.code = code
        self.reason = reason
        self.body = problem["detail"]
        self._problem = problem

    def to_response(self, ident: str | None = None) -> tuple[str, list[tuple[str, str]], bytes]:
        """Status line, headers, body."""
        headers = [("Content-Type", "application/problem+json")]
        return f"{self.code} {self.reason}", headers, orjson.dumps(self._problem)


def _not_writable(error: StorageError) -> _Refusal:
    return _Refusal(507, "Insufficient Storage", body(507, error.message, error.code, error.hint))


def _too_large(limit: int) -> _Refusal:
    problem = body(
        413,
        f"the content is larger than the {limit} bytes this service takes",
        "content.too_large",
        "An administrator can raise EVERYSHELF_MAX_UPLOAD.",
    )
    return _Refusal(413, "Content Too Large", problem)


def _too_slow(reason: str) -> _Refusal:
    problem = body(408, reason, "content.stalled", "Send it again; nothing was kept of it.")
    return _Refusal(408, "Request Timeout", problem)


def _broken_off(received: int, announced: int) -> _Refusal:
    reason = f"the upload broke off after {received} of {announced} bytes"
    return _Refusal(400, "Bad Request", body(400, reason, "content.incomplete", "Send it again."))


class _Nothing:
    """Takes the bytes of a refused body and keeps none."""

    def __init__(self) -> None:
        self._size = 0

    def append(self, data: bytes) -> None:
        self._size += len(data)

    def __len__(self) -> int:
        return self._size

    def getfile(self) -> Any:
        return tempfile.SpooledTemporaryFile()

    def close(self) -> None:
        pass


class _Request(HTTPRequestParser):  # type: ignore[misc]
    """A request on its way, with the time at which it began."""

    def __init__(self, adjustments: Any) -> None:
        super().__init__(adjustments)
        self.began = time.monotonic()
        self.headers_at: float | None = None

    def received(self, data: bytes) -> int:
        headers_before = self.headers_finished
        try:
            consumed: int = super().received(data)
        except OSError as error:
            if not is_not_writable(error):
                raise
            self.refuse(_not_writable(read_only() if is_read_only(error) else no_room()))
            return len(data)
        if self.headers_finished and not headers_before:
            self.headers_at = time.monotonic()
            self._look_at_length()
        return consumed

    def _look_at_length(self) -> None:
        if self.body_rcv is None or self.error is not None:
            return
        if self.content_length > self.adj.everyshelf_most_bytes:
            self.refuse(_too_large(self.adj.everyshelf_most_bytes))
        elif self.content_length > _IN_MEMORY_BYTES and not room_for_contents(self.content_length):
            self.refuse(_not_writable(no_room()))

    def refuse(self, refusal: _Refusal) -> None:
        """Answer with the refusal once the rest of the body has come, or at once if that is too much."""
        left = self.content_length - self.body_bytes_received
        self.error = refusal
        if self.body_rcv is None or self.chunked or left > _DRAINED_BYTES:
            self.completed = True
            return
        self.body_rcv.buf.close()
        self.body_rcv.buf = _Nothing()

    def too_slow(self, now: float) -> str | None:
        """What there is too little of by now, or None."""
        if self.headers_at is None:
            if now - self.began > HEADER_SECONDS:
                return f"the head of the request did not come within {HEADER_SECONDS} seconds"
            return None
        lasted = now - self.headers_at
        if lasted > BODY_GRACE_SECONDS and self.body_bytes_received < (lasted - BODY_GRACE_SECONDS) * (
            LEAST_BYTES_PER_SECOND
        ):
            return f"the body came at less than {LEAST_BYTES_PER_SECOND} bytes a second"
        return None


class _Channel(HTTPChannel):  # type: ignore[misc]
    """A connection."""

    parser_class = _Request

    def hurry(self, now: float, wall: float) -> None:
        """End what takes too long; called every second on the loop."""
        if self.requests or self.total_outbufs_len:
            if not self.requests and wall - self.last_activity > STALLED_SECONDS:
                self.will_close = True  # nobody reads the answer
            return
        request = self.request
        if request is None or (not request.headers_finished and not request.header_plus):
            if wall - self.last_activity > IDLE_SECONDS:
                self.will_close = True
            return
        reason = request.too_slow(now)
        if reason is None and wall - self.last_activity > STALLED_SECONDS:
            reason = f"nothing came for {STALLED_SECONDS} seconds"
        if reason is not None:
            self._give_up(request, _too_slow(reason))

    def handle_read(self) -> None:
        """Take what came. Where the sender is done before its body is, it may still listen for the answer."""
        request = self.request
        if request is not None and request.headers_finished and not self.requests and self._sender_is_done():
            self._give_up(request, _broken_off(request.body_bytes_received, request.content_length))
        else:
            super().handle_read()

    def check_client_disconnected(self) -> bool:
        """Whether the client has gone. A client that only ends its side of the connection also counts as gone."""
        return not self.connected or self._sender_is_done()

    def _sender_is_done(self) -> bool:
        try:
            return not self.socket.recv(1, socket.MSG_PEEK)
        except OSError:
            return False

    def _give_up(self, request: _Request, refusal: _Refusal) -> None:
        """Answer a request that will not become whole, and close."""
        with self.requests_lock:
            if not request.headers_finished:
                request.parse_header(b"GET / HTTP/1.0\r\n")
            request.error = refusal
            request.completed = True
            self.request = None
            self.requests.append(request)
            self.server.add_task(self)


class _Server(TcpWSGIServer):  # type: ignore[misc]
    """The listening socket."""

    channel_class = _Channel

    def maintenance(self, now: float) -> None:
        """See to slow and idle connections."""
        channels = list(self.active_channels.values())
        moment = time.monotonic()
        for channel in channels:
            channel.hurry(moment, now)
        too_many = len(channels) - int(MOST_CONNECTIONS * 0.9)
        if too_many > 0:
            idle = [c for c in channels if not c.requests and not c.total_outbufs_len]
            for channel in sorted(idle, key=lambda c: c.last_activity)[:too_many]:
                channel.will_close = True


def listen(host: str, port: int) -> socket.socket:
    """A socket that takes connections; several processes may answer what comes to it."""
    family, kind, protocol, _, address = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0]
    listener = socket.socket(family, kind, protocol)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    # One that was killed a moment ago may still be on its way out.
    for attempt in range(_TRIES):
        try:
            listener.bind(address)
            break
        except OSError as error:
            if error.errno != errno.EADDRINUSE or attempt == _TRIES - 1:
                raise
            time.sleep(0.1)
    listener.listen(_BACKLOG)
    return listener


def make_server(
    application: Callable[..., Any],
    listener: socket.socket,
    *,
    scratch: Path,
    most_bytes: int,
    proxy: str = "",
) -> _Server:
    """A server for what comes to ``listener``, which others may take from as well; ``run()`` answers until SIGTERM.

    ``most_bytes``: the largest body. ``scratch``: where bodies lie until they are whole. ``proxy``: address of a proxy
    whose X-Forwarded headers are believed; nobody else's are.
    """
    tempfile.tempdir = str(scratch)
    _raise_file_limit()
    trusted: dict[str, Any] = {}
    if proxy:
        trusted = {
            "trusted_proxy": proxy,
            "trusted_proxy_count": 1,
            "trusted_proxy_headers": {"x-forwarded-for", "x-forwarded-host", "x-forwarded-proto"},
        }
    adjustments = Adjustments(
        host=listener.getsockname()[0],
        port=listener.getsockname()[1],
        threads=THREADS,
        ident=None,
        connection_limit=MOST_CONNECTIONS,
        backlog=_BACKLOG,
        cleanup_interval=1,
        asyncore_use_poll=True,
        asyncore_loop_timeout=1,
        channel_timeout=24 * 3600,  # see _Channel.hurry
        max_request_body_size=_UNLIMITED,
        inbuf_overflow=_IN_MEMORY_BYTES,
        recv_bytes=_RECEIVED_BYTES,
        outbuf_high_watermark=_UNLIMITED,
        clear_untrusted_proxy_headers=True,
        log_socket_errors=False,
        expose_tracebacks=False,
        **trusted,
    )
    adjustments.everyshelf_most_bytes = most_bytes
    dispatcher = TurnDispatcher()
    dispatcher.set_thread_count(THREADS)
    return _Server(
        application,
        map={},
        dispatcher=dispatcher,
        adj=adjustments,
        sockinfo=adjustments.listen[0],
        _sock=listener,
        bind_socket=False,
    )


def _raise_file_limit() -> None:
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = MOST_CONNECTIONS + 1024
    if hard != resource.RLIM_INFINITY:
        wanted = min(wanted, hard)
    if soft < wanted:
        resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
