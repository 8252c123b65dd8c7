"""What a desk remembers, in ``.everyshelf`` at its root: where it belongs, and one entry for each artifact."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec

from everyshelf.decoding import from_json

FOLDER = ".everyshelf"
_DESK, _ENTRIES = "desk.json", "entries.json"
_RACY_NS = 2_000_000_000  # a file written within two seconds of being looked at may change again under one time stamp


class Home(msgspec.Struct):
    """Which shelf and branch a desk belongs to, and the commit its artifacts came from (None: no commit yet)."""

    address: str
    shelf: str
    branch: str | None
    commit: str | None
    ref: str
    unfold: bool = False
    """Whether artifacts that hide parts are unfolded here."""
    only: list[str] = []
    """Artifacts and folders that are taken; none: all."""


class Entry(msgspec.Struct, array_like=True):
    """The version an artifact came from. ``mtime_ns`` is -1 where the time stamp proves nothing yet."""

    content: str
    size: int
    mtime_ns: int
    version: int | None = None
    kind: str = "opaque"
    within: str = ""
    """The folder kept whole in which the file lies; version and kind are that folder's."""


def load_home(root: Path) -> Home:
    """The desk's home; raises ``OSError`` or ``msgspec.DecodeError``."""
    return from_json((root / FOLDER / _DESK).read_bytes(), Home)


def save_home(root: Path, home: Home) -> None:
    """Keep the home, in one step."""
    write_settled(root / FOLDER / _DESK, msgspec.json.encode(home))


def load_entries(root: Path) -> dict[str, Entry]:
    """Entries by path; none for a fresh desk."""
    try:
        return from_json((root / FOLDER / _ENTRIES).read_bytes(), dict[str, Entry])
    except FileNotFoundError:
        return {}


def save_entries(root: Path, entries: dict[str, Entry]) -> None:
    """Keep all entries, in one step."""
    write_settled(root / FOLDER / _ENTRIES, msgspec.json.encode(entries))


def trusted_mtime(stat: os.stat_result, now_ns: int) -> int:
    """The time stamp to remember: -1 for one so fresh that a later edit could carry it too."""
    return stat.st_mtime_ns if now_ns - stat.st_mtime_ns > _RACY_NS else -1


def write_settled(path: Path, data: bytes) -> None:
    """Write a file in one step, durable before it is there under its name."""
    part = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        with part.open("wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        os.replace(part, path)
    finally:
        part.unlink(missing_ok=True)
