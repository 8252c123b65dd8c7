"""Archives (zip, APPNOTE 6.3.10; tar, POSIX.1-2001 pax): their members by name, each unpacked only when asked for.

What an archive says of itself is not believed: a member is read up to a bound, whatever size it claims, and no name is
ever used as a path.
"""

from __future__ import annotations

import io
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from everyshelf.core.errors import UnreadableError

MOST_MEMBERS = 20_000
_MOST_BYTES = 200 * 1024 * 1024  # of one member
_MOST_TIMES = 1_000  # deflate cannot do better than 1,032 to 1
_ENCRYPTED = 0x1
_BROKEN = (
    zipfile.BadZipFile,
    tarfile.TarError,
    NotImplementedError,
    RuntimeError,
    zlib.error,
    struct.error,
    EOFError,
    OSError,
    ValueError,
    OverflowError,
    MemoryError,
)


@dataclass(frozen=True)
class Member:
    """A file in an archive: its size unpacked, in bytes, and a checksum where the archive keeps one."""

    name: str
    size: int
    checksum: int | None
    is_encrypted: bool
    unpack: Callable[[], IO[bytes]]

    def read(self, most: int = _MOST_BYTES) -> bytes:
        """All its bytes; raises ``UnreadableError`` if it is damaged, encrypted or longer than ``most``."""
        with self.open() as source:
            try:
                found = source.read(most + 1)
            except _BROKEN as error:
                raise UnreadableError(f"{self.name[:80]} cannot be unpacked: {error}") from error
        if len(found) > most:
            raise UnreadableError(f"{self.name[:80]} unpacks to more than {most >> 20} MB")
        return found

    def open(self) -> IO[bytes]:
        """A stream of its bytes; raises ``UnreadableError``."""
        if self.is_encrypted:
            raise UnreadableError(f"{self.name[:80]} is encrypted")
        try:
            return self.unpack()
        except _BROKEN as error:
            raise UnreadableError(f"{self.name[:80]} cannot be unpacked: {error}") from error


def open_archive(data: bytes) -> dict[str, Member]:
    """Members in the order of the archive, folders left out; of two of one name the later one counts.

    Raises ``UnreadableError``.
    """
    try:
        members = _zip(data) if data[:2] == b"PK" else _tar(data)
    except _BROKEN as error:
        raise UnreadableError(f"the archive is damaged: {error}") from error
    if len(members) > MOST_MEMBERS:
        raise UnreadableError(f"it has more than {MOST_MEMBERS:,} members")
    if sum(m.size for m in members.values()) > max(_MOST_BYTES, _MOST_TIMES * len(data)):
        raise UnreadableError("it claims to unpack to more than can be")
    return members


def _zip(data: bytes) -> dict[str, Member]:
    archive = zipfile.ZipFile(io.BytesIO(data))
    members: dict[str, Member] = {}
    for info in archive.infolist():
        if info.is_dir():
            continue
        encrypted = bool(info.flag_bits & _ENCRYPTED)

        def unpack(info: zipfile.ZipInfo = info) -> IO[bytes]:
            return archive.open(info)

        members[info.filename] = Member(info.filename, info.file_size, info.CRC, encrypted, unpack)
    return members


def _tar(data: bytes) -> dict[str, Member]:
    archive = tarfile.open(fileobj=io.BytesIO(data), mode="r:")  # noqa: SIM115
    members: dict[str, Member] = {}
    for info in archive:
        if not info.isfile():
            continue  # folders, links and devices hold nothing
        if len(members) > MOST_MEMBERS:
            break

        def unpack(info: tarfile.TarInfo = info) -> IO[bytes]:
            return archive.extractfile(info) or io.BytesIO()

        members[info.name] = Member(info.name, info.size, None, False, unpack)
    return members


def folder_members(folder: Path) -> dict[str, Member]:
    """The files below a folder on disk as members; links lead nowhere. Raises ``UnreadableError`` for too many."""
    members: dict[str, Member] = {}
    for path in sorted(folder.rglob("*")):
        if path.is_symlink() or not path.is_file():
            continue
        if len(members) >= MOST_MEMBERS:
            raise UnreadableError(f"it has more than {MOST_MEMBERS:,} files")

        def unpack(path: Path = path) -> IO[bytes]:
            return path.open("rb")

        name = path.relative_to(folder).as_posix()
        members[name] = Member(name, path.stat().st_size, None, False, unpack)
    return members


def local_names(head: bytes) -> list[str]:
    """Names of the members whose local headers lie in the first bytes of a zip."""
    names: list[str] = []
    at = head.find(_LOCAL_MARK)
    while at >= 0 and at + _LOCAL_HEADER.size <= len(head):
        fields = _LOCAL_HEADER.unpack_from(head, at)
        name_length = fields[9]
        start = at + _LOCAL_HEADER.size
        if 0 < name_length < 1024 and start + name_length <= len(head):
            names.append(head[start : start + name_length].decode("utf-8", "replace"))
        at = head.find(_LOCAL_MARK, start)
    return names


def first_member(head: bytes, most: int = 200) -> bytes:
    """The first bytes of the first member of a zip, where a format may say its name."""
    if len(head) < _LOCAL_HEADER.size:
        return b""
    fields = _LOCAL_HEADER.unpack_from(head)
    start = _LOCAL_HEADER.size + fields[9] + fields[10]
    if fields[3] == zipfile.ZIP_STORED:
        return head[start : start + min(most, fields[8] or most)]
    try:
        return zlib.decompressobj(-15).decompress(head[start : start + 4 * most], most)
    except zlib.error:
        return b""


_LOCAL_MARK = b"PK\x03\x04"
_LOCAL_HEADER = struct.Struct("<4s5H3I2H")
