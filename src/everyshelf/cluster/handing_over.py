"""Files on their way to other machines: read where they lie if that disk is shared, else the bytes that are needed are
fetched from the process that asks."""

from __future__ import annotations

import atexit
import re
import secrets
import shutil
import tempfile
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import httpx

_RANGE = re.compile(r"bytes=(\d+)-(\d+)")
_PIECE = 1 << 20
_MOST_AT_ONCE = 64 * 1024 * 1024
_SECONDS = 120.0
_KEPT_SECONDS = 3600.0  # a copy that was not used for so long is removed


@dataclass(frozen=True)
class HandedFile:
    """A file as it was when it was handed over; ``address``: where its bytes are fetched, which holds a secret."""

    path: str
    size: int
    changed_ns: int
    address: str

    def local(self, needed: Sequence[tuple[int, int]]) -> Path:
        """The file itself where this machine has it, else a copy with the needed bytes, and holes for all others.

        Raises ``httpx.HTTPError`` or ``OSError``.
        """
        try:
            here = Path(self.path).stat()
            if (here.st_size, here.st_mtime_ns) == (self.size, self.changed_ns):
                return Path(self.path)
        except OSError:
            pass  # another machine
        return _copies.with_bytes(self, needed)


class _Copies:
    """Copies of files in this process, each with the bytes that were needed so far."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._folder: Path | None = None
        self._held: dict[str, set[tuple[int, int]]] = {}
        self._used: dict[str, float] = {}

    def with_bytes(self, file: HandedFile, needed: Sequence[tuple[int, int]]) -> Path:
        # Whoever asked may have been cut off before it could say that it is done.
        self.forget([a for a, used in list(self._used.items()) if used < time.monotonic() - _KEPT_SECONDS])
        with self._lock:
            if self._folder is None:
                self._folder = Path(tempfile.mkdtemp(prefix="es-parts-"))
                atexit.register(shutil.rmtree, self._folder, ignore_errors=True)
            copy = self._folder / file.address.rpartition("/")[2]
            held = self._held.setdefault(file.address, set())
            self._used[file.address] = time.monotonic()
            if not copy.exists():
                held.clear()
                with copy.open("wb") as made:
                    made.truncate(file.size)
            with copy.open("r+b") as written, httpx.Client(timeout=_SECONDS, trust_env=False) as client:
                for wanted in needed:
                    if wanted not in held:
                        self._fetch(client, file, wanted, written)
                        held.add(wanted)
        return copy

    @staticmethod
    def _fetch(client: httpx.Client, file: HandedFile, wanted: tuple[int, int], written: object) -> None:
        start, stop = wanted
        for first in range(start, stop, _MOST_AT_ONCE):
            last = min(first + _MOST_AT_ONCE, stop) - 1
            with client.stream("GET", file.address, headers={"Range": f"bytes={first}-{last}"}) as answer:
                answer.raise_for_status()
                written.seek(first)  # type: ignore[attr-defined]
                came = 0
                for piece in answer.iter_bytes(_PIECE):
                    written.write(piece)  # type: ignore[attr-defined]
                    came += len(piece)
            if came != last - first + 1:
                raise OSError(f"{came} bytes came of {last - first + 1}")

    def forget(self, addresses: Sequence[str]) -> None:
        """Remove the copies of these files."""
        with self._lock:
            for address in addresses:
                self._held.pop(address, None)
                self._used.pop(address, None)
                if self._folder is not None:
                    (self._folder / address.rpartition("/")[2]).unlink(missing_ok=True)


_copies = _Copies()


def forget_copies(addresses: Sequence[str]) -> None:
    """Remove the copies that this process made of these files."""
    _copies.forget(addresses)


class HandingOver:
    """Gives the bytes of files to whoever knows their addresses, from ``host``, until ``close``."""

    def __init__(self, host: str) -> None:
        self._paths: dict[str, Path] = {}
        paths = self._paths

        class Handler(_Handler):
            files = paths

        self._server = ThreadingHTTPServer((host, 0), Handler)
        self._address = f"http://{host}:{self._server.server_address[1]}"
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def hand_over(self, path: Path) -> HandedFile:
        """A file as others reach it from now on."""
        word, told = secrets.token_urlsafe(24), path.stat()
        self._paths[f"/{word}"] = path
        return HandedFile(str(path.resolve()), told.st_size, told.st_mtime_ns, f"{self._address}/{word}")

    @property
    def addresses(self) -> list[str]:
        """The addresses of all files that were handed over."""
        return [f"{self._address}{word}" for word in self._paths]

    def close(self) -> None:
        """Hand nothing over any more."""
        self._server.shutdown()
        self._server.server_close()


class _Handler(BaseHTTPRequestHandler):
    """Answers a request for one range of a file."""

    files: dict[str, Path]
    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        path, asked = self.files.get(self.path), _RANGE.fullmatch(self.headers.get("Range", ""))
        size = path.stat().st_size if path is not None else 0
        if path is None or asked is None or not int(asked[1]) <= int(asked[2]) < size:
            self.send_response(404 if path is None else 416)
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        first, last = int(asked[1]), int(asked[2])
        self.send_response(206)
        self.send_header("Content-Length", str(last - first + 1))
        self.send_header("Content-Range", f"bytes {first}-{last}/{size}")
        self.end_headers()
        with path.open("rb") as file:
            file.seek(first)
            left = last - first + 1
            while left:
                piece = file.read(min(left, _PIECE))
                if not piece:
                    raise ConnectionError("the file became shorter")
                self.wfile.write(piece)
                left -= len(piece)

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing: addresses hold secrets."""
