"""A filter of Git as a long-running process: notes become files as Git writes them, large files notes as it reads them.

The protocol is that of ``gitattributes(5)``, "Long Running Filter Process", in packets of ``gitprotocol-common(5)``.
"""

from __future__ import annotations

import hashlib
import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import closing
from io import BytesIO
from pathlib import Path
from typing import IO, BinaryIO, Protocol

from everyshelf.core.errors import EveryShelfError, InvalidError
from everyshelf.gitside.notes import (
    MOST_BYTES,
    ContentNote,
    kind_by_name,
    read_content_note,
    write_content_note,
)
from everyshelf.gitside.protocol import packet
from everyshelf.gitside.settings import MappingSettings

_PIECE = 65_516  # bytes of content in a packet
_IN_MEMORY = 4 * 1024 * 1024
FLUSH = b"0000"


class Contents(Protocol):
    """The shelf, as far as a filter needs it."""

    def download_content(self, identity: str, target: Path, /) -> None:
        """Write a content to a file."""

    def upload(self, source: Path, /) -> object:
        """Keep the content of a file."""


class Remembered:
    """Which contents are notes in this repository, and which large ones are not, so that a file is read the same way
    each time: ids in a file below Git's own folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._file = folder / "contents"
        self._states: dict[str, str] = {}
        if self._file.is_file():
            for line in self._file.read_text().splitlines():
                identity, _, state = line.partition(" ")
                self._states[identity] = state

    def state(self, identity: str) -> str:
        """ "note", "plain", or nothing."""
        return self._states.get(identity, "")

    def remember(self, identity: str, state: str) -> None:
        """From now on."""
        if self._states.get(identity) != state:
            self._states[identity] = state
            self._file.parent.mkdir(parents=True, exist_ok=True)
            with self._file.open("a") as file:
                file.write(f"{identity} {state}\n")


class Filter:
    """Answers Git until it closes the stream. ``say`` gets a line for the person for each file that stays as it is
    because the shelf could not be asked."""

    def __init__(
        self, contents: Contents, remembered: Remembered, say: Callable[[str], None], settings: MappingSettings
    ) -> None:
        self._contents, self._remembered, self._settings = contents, remembered, settings
        self._say = say

    def serve(self, given: BinaryIO, out: BinaryIO) -> None:
        """Raises ``InvalidError`` (git.protocol) if what comes is not this protocol."""
        hello = list(_lines(given))
        if hello[:1] != ["git-filter-client"] or "version=2" not in hello:
            raise _unclear("it does not begin as version 2 does")
        _send(out, "git-filter-server", "version=2")
        able = {line.partition("=")[2] for line in _lines(given)}
        _send(out, *(f"capability={one}" for one in ("clean", "smudge") if one in able))
        while (asked := _request(given)) is not None:
            with closing(tempfile.SpooledTemporaryFile(max_size=_IN_MEMORY)) as content:
                size = 0
                for piece in _packets(given):
                    content.write(piece)
                    size += len(piece)
                content.seek(0)
                path = asked.get("pathname", "")
                with closing(self._answer(asked.get("command", ""), path, content, size)) as answer:
                    _send(out, "status=success")
                    while piece := answer.read(_PIECE):
                        out.write(packet(piece))
                    out.write(FLUSH)
                    _send(out)

    def _answer(self, command: str, path: str, content: IO[bytes], size: int) -> IO[bytes]:
        if command == "smudge" and size <= MOST_BYTES:
            note = read_content_note(content.read())
            content.seek(0)
            return content if note is None else self._filled(path, note, content)
        if command == "clean" and size > MOST_BYTES:
            return self._noted(path, content, size)
        return content

    def _filled(self, path: str, note: ContentNote, content: IO[bytes]) -> IO[bytes]:
        whole = tempfile.NamedTemporaryFile(prefix="everyshelf-")  # noqa: SIM115 - the answer closes it
        try:
            self._contents.download_content(note.sha256, Path(whole.name))
        except EveryShelfError as error:
            whole.close()
            self._say(f"{path} stays a content note: {error.message}. Get it later: everyshelf git-link fill")
            return content
        if hashlib.file_digest(whole, "sha256").hexdigest() != note.sha256:
            whole.close()
            self._say(f"{path} stays a content note: its bytes lie outside the shelf.")
            return content
        whole.seek(0)
        self._remembered.remember(note.sha256, "note")
        return whole

    def _noted(self, path: str, content: IO[bytes], size: int) -> IO[bytes]:
        digest = hashlib.sha256()
        while piece := content.read(1 << 20):
            digest.update(piece)
        content.seek(0)
        identity = digest.hexdigest()
        state = self._remembered.state(identity)
        if not state and self._settings.is_noted(path, size):
            state = self._kept(path, content)
            self._remembered.remember(identity, state)
            content.seek(0)
        if state != "note":
            return content
        return BytesIO(write_content_note(ContentNote(identity, size, kind_by_name(path))))

    def _kept(self, path: str, content: IO[bytes]) -> str:
        with tempfile.NamedTemporaryFile(prefix="everyshelf-") as whole:
            shutil.copyfileobj(content, whole)
            whole.flush()
            try:
                self._contents.upload(Path(whole.name))
            except EveryShelfError as error:
                self._say(f"{path} goes into Git as it is, large: {error.message}")
                return "plain"
        return "note"


def _request(given: BinaryIO) -> dict[str, str] | None:
    """The keys of the next request; None where Git has closed the stream."""
    head = given.read(4)
    if not head:
        return None
    lines = list(_lines(given, head))
    return dict(line.partition("=")[::2] for line in lines)


def _lines(given: BinaryIO, head: bytes = b"") -> Iterator[str]:
    for data in _packets(given, head):
        yield data.rstrip(b"\n").decode("utf-8", "surrogateescape")


def _packets(given: BinaryIO, head: bytes = b"") -> Iterator[bytes]:
    """Packets up to a flush."""
    while True:
        head = head or given.read(4)
        try:
            length = int(head, 16)
        except ValueError as error:
            raise _unclear("the length of a packet") from error
        head = b""
        if length == 0:
            return
        data = given.read(length - 4) if length > 4 else b""
        if len(data) != max(0, length - 4):
            raise _unclear("a packet is cut off")
        yield data


def _send(out: BinaryIO, *lines: str) -> None:
    out.write(b"".join(packet(f"{line}\n".encode()) for line in lines) + FLUSH)
    out.flush()


def _unclear(what: str) -> InvalidError:
    return InvalidError(
        f"this is not what Git sends to a filter: {what}",
        code="git.protocol",
        hint="Git calls this program by itself. Set it up: everyshelf git-tools install --notes",
    )
