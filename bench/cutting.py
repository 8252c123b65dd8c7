"""A connection that can be cut: bytes go through to another port until somebody cuts, and for a while nothing does."""

from __future__ import annotations

import contextlib
import socket
import threading
import time


class Cutting:
    """Listens on loopback and passes on to ``port``."""

    def __init__(self, port: int) -> None:
        self._to, self._until = port, 0.0
        self._open: set[socket.socket] = set()
        self._lock = threading.Lock()
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = int(self._listener.getsockname()[1])
        threading.Thread(target=self._accept, daemon=True).start()

    def cut(self, seconds: float) -> None:
        """Close every connection, and take none for that long."""
        with self._lock:
            self._until = time.monotonic() + seconds
            for one in self._open:
                with contextlib.suppress(OSError):
                    one.shutdown(socket.SHUT_RDWR)
            self._open.clear()

    def close(self) -> None:
        """Listen no more."""
        self.cut(0)
        self._listener.close()

    def _accept(self) -> None:
        while True:
            try:
                here, _ = self._listener.accept()
            except OSError:
                return
            if time.monotonic() < self._until:
                here.close()
                continue
            try:
                there = socket.create_connection(("127.0.0.1", self._to), timeout=5)
            except OSError:
                here.close()
                continue
            there.settimeout(None)
            with self._lock:
                self._open |= {here, there}
            for one, other in ((here, there), (there, here)):
                threading.Thread(target=self._pass_on, args=(one, other), daemon=True).start()

    def _pass_on(self, one: socket.socket, other: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while data := one.recv(1 << 16):
                other.sendall(data)
        for end in (one, other):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)
            end.close()
            with self._lock:
                self._open.discard(end)
