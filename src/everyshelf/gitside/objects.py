"""Git's objects as their bytes: commits, trees and tags taken apart and put together.

Source: the formats documented in Git's own manual (``gitformat-pack``, ``git-hash-object``, ``git-mktree``,
``git-mktag``). What was taken apart is put together again byte for byte, unless a tree was not in Git's order.
"""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass

import msgspec

from everyshelf.core.errors import UnreadableError

FOLDER, FILE, PROGRAM, LINK, SUBMODULE = b"40000", b"100644", b"100755", b"120000", b"160000"
EMPTY_TREE = "4b825dc642cb6eb9a060e54bf8d69288fbee4904"


class GitEntry(msgspec.Struct, frozen=True):
    """What a name in a tree stands for: its mode as written, and an object's id in hex."""

    mode: bytes
    id: str

    @property
    def is_folder(self) -> bool:
        """Whether another tree lies there."""
        return self.mode.lstrip(b"0") == FOLDER

    @property
    def is_file(self) -> bool:
        """Whether it is a file, executable or not."""
        return self.mode.lstrip(b"0").startswith(b"100")


# A tree by name, in Git's order: each row as the tree has it, mode, name and id. Most rows are never looked into.
GitFolder = dict[bytes, bytes]
_ROW = re.compile(rb"([0-7]+ ([^\0]+)\0.{20})", re.DOTALL)


def row_of(name: bytes, entry: GitEntry) -> bytes:
    """An entry as a row of a tree."""
    return b"%s %s\0%s" % (entry.mode, name, bytes.fromhex(entry.id))


def entry_of(row: bytes) -> GitEntry:
    """What a row says."""
    return GitEntry(row[: row.index(b" ")], row[-20:].hex())


@dataclass(frozen=True)
class CommitObject:
    """A commit: ``headers`` is what stands between the committer and the empty line, each line with its end."""

    tree: str
    parents: tuple[str, ...]
    author: bytes
    committer: bytes
    headers: bytes
    message: bytes


def object_id(kind: str, data: bytes) -> str:
    """The SHA-1 that Git knows an object by."""
    return hashlib.sha1(b"%s %d\0" % (kind.encode(), len(data)) + data, usedforsecurity=False).hexdigest()


def encode_commit_object(commit: CommitObject) -> bytes:
    """The bytes of a commit."""
    lines = [f"tree {commit.tree}\n".encode(), *(f"parent {parent}\n".encode() for parent in commit.parents)]
    lines += [
        b"author ",
        commit.author,
        b"\ncommitter ",
        commit.committer,
        b"\n",
        commit.headers,
        b"\n",
        commit.message,
    ]
    return b"".join(lines)


def parse_commit_object(data: bytes) -> CommitObject:
    """Take a commit apart; raises ``UnreadableError`` if it lacks what every commit has."""
    head, _, message = data.partition(b"\n\n")
    lines = head.split(b"\n")
    try:
        if not lines[0].startswith(b"tree "):
            raise ValueError("it names no tree")
        tree, at, parents = lines[0][5:].decode("ascii"), 1, []
        while lines[at].startswith(b"parent "):
            parents.append(lines[at][7:].decode("ascii"))
            at += 1
        if not lines[at].startswith(b"author ") or not lines[at + 1].startswith(b"committer "):
            raise ValueError("it names no author or no committer")
    except (ValueError, IndexError) as error:
        raise UnreadableError(f"a Git commit cannot be read: {error}", code="git.commit") from error
    headers = b"".join(line + b"\n" for line in lines[at + 2 :])
    return CommitObject(tree, tuple(parents), lines[at][7:], lines[at + 1][10:], headers, message)


def _order(item: tuple[bytes, bytes]) -> bytes:
    """Folders are sorted as if their names ended with a slash."""
    name, row = item
    return name + b"/" if row.startswith((b"40000 ", b"040000 ")) else name


def in_order(entries: GitFolder) -> GitFolder:
    """The same rows in Git's order."""
    return dict(sorted(entries.items(), key=_order))


def encode_tree(entries: GitFolder) -> bytes:
    """The bytes of a tree whose rows are in order."""
    return b"".join(entries.values())


def parse_tree(data: bytes) -> GitFolder:
    """Take a tree apart, in the order it has; of a name that occurs twice the last row is kept."""
    rows = _ROW.findall(data)
    found = {name: row for row, name in rows}
    if sum(map(len, found.values())) != len(data) and sum(len(row) for row, _ in rows) != len(data):
        raise UnreadableError("a Git tree cannot be read: it is damaged", code="git.tree")
    return found
