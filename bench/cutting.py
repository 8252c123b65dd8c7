"""A connection that can be cut: bytes go through to another port until somebody cuts, and for a while nothing does."""

from __future__ import annotations

import contextlib
import math
import socket
import threading
import time


class Cutting:
    """Listens on loopback and passes on to ``port``."""

    def __init__(self, port: int) -> None:
        self._to, self._until = port, 0.0
        self._words, self._said = b"", False
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

    def cut_after(self, words: bytes) -> None:
        """Let what holds these words through, and its answer; cut when anything more is said, until ``mend``."""
        self._words, self._said = words, False

    def mend(self) -> None:
        """Let everything through again."""
        self._words, self._until = b"", 0.0

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
            for one, other, asks in ((here, there, True), (there, here, False)):
                threading.Thread(target=self._pass_on, args=(one, other, asks), daemon=True).start()

    def _pass_on(self, one: socket.socket, other: socket.socket, asks: bool) -> None:
        with contextlib.suppress(OSError):
            while data := one.recv(1 << 16):
                if asks and self._words:
                    if self._said:
                        self.cut(math.inf)
                    self._said = self._said or self._words in data
                other.sendall(data)
        for end in (one, other):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)
            end.close()
            with self._lock:
                self._open.discard(end)
