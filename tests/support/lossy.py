"""A line to a service that loses answers: requests arrive and are worked on, and what comes back is cut off."""

from __future__ import annotations

import contextlib
import socket
import threading
from collections.abc import Callable

_PIECE = 65536


class LossyLine:
    """Forwards connections to a service; an answer to a request whose head ``loses`` says yes to never arrives."""

    def __init__(self, address: str, loses: Callable[[bytes], bool]) -> None:
        host, _, port = address.removeprefix("http://").partition(":")
        self._service = host, int(port)
        self._loses = loses
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.address = f"http://127.0.0.1:{self._listening.getsockname()[1]}"
        self.lost = 0
        threading.Thread(target=self._accept, daemon=True).start()

    def close(self) -> None:
        """Take no more connections."""
        self._listening.close()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                caller, _ = self._listening.accept()
                threading.Thread(target=self._serve, args=(caller,), daemon=True).start()

    def _serve(self, caller: socket.socket) -> None:
        with caller, socket.create_connection(self._service) as service, contextlib.suppress(OSError):
            state = {"cut": False}
            reader = threading.Thread(target=self._answers, args=(service, caller, state), daemon=True)
            reader.start()
            while piece := caller.recv(_PIECE):
                if self._loses(piece):
                    self.lost += 1
                    state["cut"] = True
                service.sendall(piece)

    @staticmethod
    def _answers(service: socket.socket, caller: socket.socket, state: dict[str, bool]) -> None:
        with contextlib.suppress(OSError):
            while piece := service.recv(_PIECE):
                if state["cut"]:
                    caller.shutdown(socket.SHUT_RDWR)
                    return
                caller.sendall(piece)
