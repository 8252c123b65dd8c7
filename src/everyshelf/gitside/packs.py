"""A stream of new objects in the form of a pack (``gitformat-pack``), written straight into ``git index-pack``.

Objects are written as they are, without deltas: the program finds those when it packs the repository. A pack names the
number of its objects first, so small objects wait in memory until ``flush``, and each large one gets a pack of its own.
"""

from __future__ import annotations

import hashlib
import subprocess
import zlib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from everyshelf.gitside.program import failed, start_git

_TYPES = {"commit": 1, "tree": 2, "blob": 3, "tag": 4}
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


@dataclass
class PackWriter:
    """New objects on their way into ``repository``; ``flush`` makes them part of it."""

    repository: Path
    environment: Mapping[str, str] = field(default_factory=dict)
    _waiting: list[bytes] = field(default_factory=list)
    waiting_bytes: int = 0

    def add(self, kind: str, data: bytes) -> None:
        """Take an object that fits into memory."""
        self._waiting.append(_head(kind, len(data)) + zlib.compress(data, _LEVEL))
        self.waiting_bytes += len(self._waiting[-1])

    def add_large(self, size: int, pieces: Iterable[bytes]) -> None:
        """Write a blob of any size, piece by piece."""
        self._write(1, self._deflated(size, pieces), few=False)

    @staticmethod
    def _deflated(size: int, pieces: Iterable[bytes]) -> Iterator[bytes]:
        packer = zlib.compressobj(_LEVEL)
        yield _head("blob", size)
        for piece in pieces:
            yield packer.compress(piece)
        yield packer.flush()

    def flush(self) -> None:
        """Hand everything over that waits. Raises ``GitError`` if it is refused."""
        waiting, self._waiting, self.waiting_bytes = self._waiting, [], 0
        if waiting:
            self._write(len(waiting), waiting, few=len(waiting) <= _FEW)

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
