"""Files that come compressed on their own (gzip, RFC 1952; bzip2; xz; Zstandard, RFC 8878): the same artifact under
another name."""

from __future__ import annotations

import bz2
import contextlib
import gzip
import io
import lzma
import zlib
from collections.abc import Iterator
from pathlib import Path, PurePosixPath
from typing import IO, cast

import zstandard

from everyshelf.core.errors import UnreadableError

_MARKS = {
    b"\x1f\x8b": "gzip",
    b"BZh": "bzip2",
    b"\xfd7zXZ\x00": "xz",
    b"\x5d\x00\x00": "lzma",
    b"\x28\xb5\x2f\xfd": "Zstandard",
}
_SUFFIXES = (".gz", ".gzip", ".bz2", ".xz", ".lzma", ".zst", ".zstd")
_MOST_BYTES = 256 * 1024 * 1024
_MOST_ON_DISK = 16 * 1024 * 1024 * 1024
_MOST_TIMES = 200  # a table shrinks to a tenth, a text to a fifth; what grows two hundredfold wants to do harm
_FREE_BYTES = 16 * 1024 * 1024
_PIECE = 1 << 20
_DAMAGES = (EOFError, OSError, zlib.error, lzma.LZMAError, zstandard.ZstdError)


def packing_of(head: bytes) -> str:
    """The compression a file starts with, or ""."""
    return next((name for mark, name in _MARKS.items() if head.startswith(mark)), "")


def is_compressed(data: bytes) -> bool:
    """True for what starts as one of these compressions does."""
    return bool(packing_of(data))


def decompressed(data: bytes) -> bytes:
    """What all members hold together; raises ``UnreadableError`` if it is damaged or grows beyond measure."""
    most = min(_MOST_BYTES, max(_FREE_BYTES, _MOST_TIMES * len(data)))
    return b"".join(_pieces(io.BytesIO(data), packing_of(data), most))


def first_bytes(data: bytes, most: int) -> bytes:
    """The first bytes of what the beginning ``data`` of a compressed file holds; fewer where it is damaged."""
    pieces: list[bytes] = []
    with contextlib.suppress(*_DAMAGES), _opened(io.BytesIO(data), packing_of(data)) as source:
        while most > 0 and (piece := source.read(min(most, 16_384))):
            pieces.append(piece)
            most -= len(piece)
    return b"".join(pieces)


def unpack_to(path: Path, head: bytes, target: Path) -> str:
    """Write what a compressed file holds to ``target``; gives the compression's name, "" (and no file) for none.

    Raises ``UnreadableError`` as ``decompressed``.
    """
    packing = packing_of(head)
    if packing:
        most = min(_MOST_ON_DISK, max(_FREE_BYTES, _MOST_TIMES * path.stat().st_size))
        with path.open("rb") as file, target.open("wb") as out:
            for piece in _pieces(file, packing, most):
                out.write(piece)
    return packing


def _pieces(file: IO[bytes], packing: str, most: int) -> Iterator[bytes]:
    total = 0
    try:
        with _opened(file, packing) as source:
            while piece := source.read(_PIECE):
                total += len(piece)
                if total > most:
                    raise UnreadableError(f"it grows to over {most >> 20} MB when decompressed")
                yield piece
    except EOFError as error:
        raise UnreadableError(f"the {packing} data ends too early") from error
    except (OSError, zlib.error, lzma.LZMAError, zstandard.ZstdError) as error:
        raise UnreadableError(f"damaged {packing} data: {error}") from error


def _opened(file: IO[bytes], packing: str) -> IO[bytes]:
    if packing == "gzip":
        return cast("IO[bytes]", gzip.GzipFile(fileobj=file))
    if packing == "bzip2":
        return bz2.BZ2File(file)
    if packing in ("xz", "lzma"):
        return lzma.LZMAFile(file)
    unpacking = zstandard.ZstdDecompressor(max_window_size=1 << 27)
    return cast("IO[bytes]", unpacking.stream_reader(file, read_across_frames=True, closefd=False))


def bare_name(name: str) -> str:
    """The name without ``.gz`` and the like."""
    path = PurePosixPath(name)
    return str(path.with_suffix("")) if path.suffix.lower() in _SUFFIXES else name
