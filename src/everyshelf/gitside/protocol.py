"""What a client sends when it pushes, and what it is answered (``gitprotocol-common``, ``gitprotocol-pack``)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Protocol

from everyshelf.core.errors import InvalidError

_MOST_LINE = 65_520
_MOST_COMMANDS = 10_000
_IDS = 40


class Stream(Protocol):
    """Bytes that are read from the front."""

    def read(self, size: int, /) -> bytes:
        """Up to ``size`` bytes."""


@dataclass(frozen=True)
class Command:
    """A ref that is to go from one object to another."""

    ref: str
    before: str
    after: str


@dataclass(frozen=True)
class PushRequest:
    """What a push asks for; the pack follows on the stream."""

    commands: tuple[Command, ...]
    capabilities: frozenset[str]

    @property
    def is_atomic(self) -> bool:
        """All refs or none."""
        return "atomic" in self.capabilities


def read_push(stream: Stream) -> PushRequest:
    """The commands at the front of the stream; raises ``InvalidError`` (git.protocol) if they are none."""
    commands: list[Command] = []
    capabilities: frozenset[str] = frozenset()
    while (line := _line(stream)) is not None:
        text, _, said = line.rstrip(b"\n").partition(b"\0")
        if text.startswith(b"shallow "):
            continue
        if said:
            capabilities = frozenset(said.decode("utf-8", "replace").split())
        words = text.split(b" ", 2)
        if len(words) != 3 or any(len(w) != _IDS for w in words[:2]) or len(commands) == _MOST_COMMANDS:
            raise _unclear("a line of its commands")
        commands.append(Command(words[2].decode("utf-8", "surrogateescape"), words[0].decode(), words[1].decode()))
    return PushRequest(tuple(commands), capabilities)


def _line(stream: Stream) -> bytes | None:
    """The next line of a packet, None for the end of the lines."""
    head = stream.read(4)
    try:
        length = int(head, 16)
    except ValueError as error:
        raise _unclear("the length of a line") from error
    if length == 0:
        return None
    if length < 4 or length > _MOST_LINE:
        raise _unclear("the length of a line")
    data = stream.read(length - 4)
    if len(data) != length - 4:
        raise _unclear("the end")
    return data


def _unclear(what: str) -> InvalidError:
    return InvalidError(
        f"this is not a push of Git: {what} is not what it has to be",
        code="git.protocol",
        hint="Push again with git push.",
    )


def packet(data: bytes) -> bytes:
    """A line with its length."""
    return b"%04x%s" % (len(data) + 4, data)


def answer_push(
    capabilities: frozenset[str], unpacked: str, refused: Iterable[tuple[str, str]], said: Iterable[str]
) -> bytes:
    """What the client is answered. ``unpacked``: "ok" or why not; ``refused``: each ref with why, or an empty text for
    one that was taken; ``said``: lines for the person who pushed."""
    lines = [packet(f"unpack {unpacked}\n".encode())]
    for ref, why in refused:
        line = f"ng {ref} {' '.join(why.split())}\n" if why else f"ok {ref}\n"
        lines.append(packet(line.encode("utf-8", "surrogateescape")))
    report = b"".join(lines) + b"0000" if capabilities & {"report-status", "report-status-v2"} else b""
    if "side-band-64k" not in capabilities:
        return report
    words = b"".join(packet(b"\2" + piece) for text in said for piece in _pieces(f"{text}\n".encode()))
    return words + b"".join(packet(b"\1" + piece) for piece in _pieces(report)) + b"0000"


def _pieces(data: bytes) -> list[bytes]:
    return [data[at : at + _MOST_LINE - 5] for at in range(0, len(data), _MOST_LINE - 5)]
