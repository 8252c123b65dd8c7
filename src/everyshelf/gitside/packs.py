"""A stream of new objects in the form of a pack (``gitformat-pack``), written straight into ``git index-pack``.

Objects are written as they are, but for trees that were made of others (``tree_deltas``); the program finds more deltas
when it packs the repository. A pack names the number of its objects first, so small objects wait in memory until
``begin``, and each large one gets a pack of its own.
"""

from __future__ import annotations

import hashlib
import subprocess
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from isal import isal_zlib

from everyshelf.gitside.program import failed, start_git

_TYPES = {"commit": 1, "tree": 2, "blob": 3, "tag": 4, "delta": 7}
_LEVEL = 1
_FEW = 100  # up to here objects are kept one by one, as ``receive-pack`` does, so that packs do not pile up


def _head(kind: str, size: int) -> bytes:
    """Type and size, seven bits a byte after the first four."""
    byte, size = (_TYPES[kind] << 4) | (size & 15), size >> 4
    found = bytearray()
    while size:
        found.append(byte | 0x80)
        byte, size = size & 0x7F, size >> 7
    found.append(byte)
    return bytes(found)


class _Flight:
    """Work in a thread of its own; ``land`` waits for it and raises what it raised."""

    def __init__(self, work: Callable[[], None]) -> None:
        self._work = work
        self._error: BaseException | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        try:
            self._work()
        except BaseException as error:
            self._error = error

    def land(self) -> None:
        self._thread.join()
        if self._error is not None:
            raise self._error


@dataclass
class PackWriter:
    """New objects on their way into ``repository``; ``begin`` and ``settle`` make them part of it."""

    repository: Path
    environment: Mapping[str, str] = field(default_factory=dict)
    _waiting: list[bytes] = field(default_factory=list)
    waiting_bytes: int = 0
    _flying: _Flight | None = None

    def add(self, kind: str, data: bytes) -> None:
        """Take an object that fits into memory."""
        self._waiting.append(_head(kind, len(data)) + isal_zlib.compress(data, _LEVEL))
        self.waiting_bytes += len(self._waiting[-1])

    def add_delta(self, base: str, delta: bytes) -> None:
        """Take an object as its difference to one that waits, too."""
        self._waiting.append(_head("delta", len(delta)) + bytes.fromhex(base) + isal_zlib.compress(delta, _LEVEL))
        self.waiting_bytes += len(self._waiting[-1])

    def add_large(self, size: int, pieces: Iterable[bytes]) -> None:
        """Write a blob of any size, piece by piece."""
        self._write(1, self._deflated(size, pieces), few=False)

    @staticmethod
    def _deflated(size: int, pieces: Iterable[bytes]) -> Iterator[bytes]:
        packer = isal_zlib.compressobj(_LEVEL)
        yield _head("blob", size)
        for piece in pieces:
            yield packer.compress(piece)
        yield packer.flush()

    def begin(self) -> None:
        """Hand everything over that waits; it is taken in while other work goes on, until ``settle``."""
        self.settle()
        waiting, self._waiting, self.waiting_bytes = self._waiting, [], 0
        if waiting:
            few = len(waiting) <= _FEW
            self._flying = _Flight(lambda: self._write(len(waiting), waiting, few=few))

    def settle(self) -> None:
        """Wait until what was handed over is there. Raises ``GitError`` if it was refused."""
        flying, self._flying = self._flying, None
        if flying is not None:
            flying.land()

    def _write(self, count: int, pieces: Iterable[bytes], *, few: bool) -> None:
        command = ["unpack-objects", "-q"] if few else ["index-pack", "--stdin", "--threads=1"]
        process = start_git(
            self.repository,
            command,
            environment=self.environment,
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
        )
        assert process.stdin is not None and process.stderr is not None
        digest = hashlib.sha1(usedforsecurity=False)
        try:
            for piece in _framed(count, pieces):
                digest.update(piece)
                process.stdin.write(piece)
            process.stdin.write(digest.digest())
            process.stdin.close()
        except BrokenPipeError:
            pass  # it says why below
        except BaseException:
            process.kill()  # a pack without its last bytes is thrown away
            raise
        finally:
            said = process.stderr.read()
            process.stderr.close()
            process.wait()
        if process.returncode:
            raise failed(command[0], process.returncode, said)


def _framed(count: int, pieces: Iterable[bytes]) -> Iterator[bytes]:
    yield b"PACK" + (2).to_bytes(4, "big") + count.to_bytes(4, "big")
    yield from pieces
