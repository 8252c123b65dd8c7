"""Commits: canonical JSON whose SHA-256 is the commit's id, so that history is a chain of hashes."""

from __future__ import annotations

from typing import Any

import msgspec
import orjson

from everyshelf.core.content.ids import content_id
from everyshelf.core.errors import BrokenError
from everyshelf.decoding import converted

FORMAT = 1


class Move(msgspec.Struct, frozen=True):
    """An artifact that went from one path to another in this commit."""

    artifact: str
    before: str
    after: str


class CommitData(msgspec.Struct, frozen=True, kw_only=True):
    """What a commit says; ``time`` is UTC in ISO 8601 with microseconds, as its author claims it. ``git``: the content
    in which is kept what the commit holds in Git beyond that."""

    root: str
    parents: list[str]
    author: str
    time: str
    summary: str
    description: str = ""
    labels: dict[str, str] = {}
    tasks: list[str] = []
    moves: list[Move] = []
    git: str = ""
    format: int = FORMAT


def encode_commit(commit: CommitData) -> tuple[str, bytes]:
    """Id and canonical bytes (keys sorted, no blanks, UTF-8; ``git`` only where there is something)."""
    said = msgspec.to_builtins(commit)
    if not commit.git:
        del said["git"]
    data = orjson.dumps(said, option=orjson.OPT_SORT_KEYS)
    return content_id(data), data


def decode_commit(data: bytes) -> CommitData:
    """The commit in ``data``; raises ``BrokenError`` if it is none."""
    try:
        parsed: Any = orjson.loads(data)
        return converted(parsed, CommitData)
    except (ValueError, msgspec.ValidationError) as error:
        raise BrokenError(f"a commit record is damaged: {error}") from error
