"""A bare repository beside the service: objects read and written, branches and tags moved in one transaction."""

from __future__ import annotations

import contextlib
import hashlib
import subprocess
from collections import OrderedDict, deque
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import IO, Any

from everyshelf.core.errors import BrokenError, InvalidError, LimitError, MissingError
from everyshelf.gitside.objects import EMPTY_TREE, GitFolder, encode_tree, object_id, parse_commit_object, parse_tree
from everyshelf.gitside.packs import PackWriter
from everyshelf.gitside.program import run_git, start_git
from everyshelf.gitside.tree_deltas import MOST_STEPS, delta

NO_OBJECT = "0" * 40
_PIECE = 256 * 1024
_MOST_IN_MEMORY = 1024 * 1024  # a larger blob goes through in pieces
_MOST_WAITING = 16 * 1024 * 1024
_CACHED_ENTRIES = 60_000
_MOST_ROOTS = 10_000
# Whole in memory: what is larger is not a message that someone wrote, nor a folder that anyone could look at.
_MOST_READ = {"commit": 4 * 1024 * 1024, "tag": 4 * 1024 * 1024, "tree": 16 * 1024 * 1024}
_AHEAD = 64  # ids that are asked for at once: they fit into the smallest pipe there is, so asking never waits


def _aside(folder: Path, incoming: Path) -> dict[str, str]:
    """What lets Git write objects into ``incoming`` and read both."""
    return {"GIT_OBJECT_DIRECTORY": str(incoming), "GIT_ALTERNATE_OBJECT_DIRECTORIES": str(folder / "objects")}


class Repository:
    """The bare repository in ``folder``. Not to be used by two threads at once; ``close`` ends its reading process.

    ``incoming``: a folder in which new objects are kept apart until it is known whether they are taken.
    """

    def __init__(self, folder: Path, incoming: Path | None = None) -> None:
        self.folder = folder
        self._reader: subprocess.Popen[bytes] | None = None
        self._ahead: deque[str] = deque()  # asked for, and not read yet
        self._commits: dict[str, bytes] = {}  # those of the last ``load_commits``
        self.environment = _aside(folder, incoming) if incoming is not None else {}
        self._writer = PackWriter(folder, self.environment)
        self._fresh: dict[str, bytes] = {}  # trees made and not kept
        self._made_of: dict[str, str] = {}  # by fresh tree, the one it differs least from
        self._steps: dict[str, int] = {}  # by waiting tree, how many deltas lead to it
        self._waiting: dict[str, bytes] = {}  # trees and commits kept and not handed over yet
        self._flying: dict[str, bytes] = {}  # those that are being taken in
        self._trees: OrderedDict[str, GitFolder] = OrderedDict()
        self._cached = 0
        self._roots: dict[str, str] = {}

    @classmethod
    def made(cls, folder: Path, branch: str = "main") -> Repository:
        """The repository in ``folder``, made if there is none."""
        if not (folder / "HEAD").exists():
            folder.mkdir(parents=True, exist_ok=True)
            run_git(None, "init", "-q", "--bare", "--object-format=sha1", "-b", branch, "--template=", str(folder))
        found = cls(folder)
        found.require_sha1()
        return found

    def require_sha1(self) -> None:
        """Raise ``InvalidError`` for a repository whose ids are SHA-256."""
        if self.run("rev-parse", "--show-object-format").strip() != b"sha1":
            raise InvalidError(
                "the repository names its objects by SHA-256, which is not supported yet",
                code="git.object_format",
                hint="Use a repository with SHA-1 ids, which is what Git makes unless told otherwise.",
            )

    def close(self) -> None:
        """End the process that reads."""
        reader, self._reader = self._reader, None
        if reader is not None:
            for stream in (reader.stdin, reader.stdout):
                if stream is not None:
                    with contextlib.suppress(OSError):
                        stream.close()
            reader.wait()

    def __enter__(self) -> Repository:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    # --- reading -----------------------------------------------------------------------

    def _asked(self, identity: str) -> tuple[str, int, IO[bytes]]:
        stream = self._started()
        if self._ahead and self._ahead[0] == identity:
            self._ahead.popleft()
        else:
            self._pass_over(stream)
            self._ask([identity])
        head = stream.readline().split()
        if len(head) != 3:
            raise MissingError(f"the repository has no object {identity[:12]}", code="git.object")
        return head[1].decode(), int(head[2]), stream

    def _started(self) -> IO[bytes]:
        """What the process that reads answers."""
        if self._reader is None or self._reader.poll() is not None:
            self._ahead.clear()
            self._reader = start_git(
                self.folder,
                ["cat-file", "--batch"],
                environment=self.environment,
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
            )
        assert self._reader.stdout is not None
        return self._reader.stdout

    def _ask(self, identities: Sequence[str]) -> None:
        assert self._reader is not None and self._reader.stdin is not None
        self._reader.stdin.write("".join(f"{identity}\n" for identity in identities).encode())
        self._reader.stdin.flush()

    def _pass_over(self, stream: IO[bytes]) -> None:
        """Read away what was asked for and is not wanted after all."""
        while self._ahead:
            self._ahead.popleft()
            head = stream.readline().split()
            left = int(head[2]) + 1 if len(head) == 3 else 0
            while left and (piece := stream.read(min(left, _PIECE))):
                left -= len(piece)

    def in_turn(self, identities: Sequence[str]) -> Iterator[str]:
        """The same ids. Each object is to be read, or passed over, as its id comes; the program looks up the next ones
        meanwhile, where each would be a way there and back."""
        for start in range(0, len(identities), _AHEAD):
            group = identities[start : start + _AHEAD]
            self._pass_over(self._started())
            self._ask(group)
            self._ahead.extend(group)
            yield from group

    def read(self, identity: str) -> tuple[str, bytes]:
        """Type and bytes of an object; raises ``MissingError`` (git.object)."""
        kind, size, stream = self._asked(identity)
        if size > _MOST_READ.get(kind, size):
            self.close()
            raise LimitError(
                f"{identity[:12]} of the repository is a {kind} of {size:,} bytes, and may have {_MOST_READ[kind]:,}",
                code="git.size",
                hint="Shorten it there; nothing was taken.",
            )
        data = stream.read(size + 1)
        if len(data) != size + 1:
            self.close()
            raise BrokenError(f"object {identity[:12]} of the repository cannot be read", code="git.object")
        return kind, data[:-1]

    def read_pieces(self, identity: str) -> tuple[int, Iterator[bytes]]:
        """Size and pieces of a blob; all pieces must be taken before anything else is asked."""
        kind, size, stream = self._asked(identity)
        if kind != "blob":
            stream.read(size + 1)
            raise BrokenError(f"object {identity[:12]} of the repository is a {kind}, not a file", code="git.object")

        def pieces() -> Iterator[bytes]:
            left = size
            while left:
                piece = stream.read(min(left, _PIECE))
                if not piece:
                    self.close()
                    raise BrokenError(f"object {identity[:12]} of the repository cannot be read", code="git.object")
                left -= len(piece)
                yield piece
            stream.read(1)

        return size, pieces()

    def has(self, identity: str) -> bool:
        """Whether an object is there."""
        return self.run("cat-file", "-t", identity, fine=(0, 128)) != b""

    def kinds(self, identities: Iterable[str]) -> dict[str, str]:
        """The type of each object that is there."""
        given = "".join(f"{identity}\n" for identity in dict.fromkeys(identities)).encode()
        out = self.run("cat-file", "--batch-check=%(objectname) %(objecttype)", given=given).decode().splitlines()
        rows = (line.split() for line in out)
        return {identity: kind for identity, kind in rows if kind != "missing"}

    def commit(self, identity: str) -> bytes:
        """The bytes of a commit."""
        for held in (self._commits, self._waiting, self._flying):
            if identity in held:
                return held[identity]
        kind, data = self.read(identity)
        if kind != "commit":
            raise InvalidError(f"{identity[:12]} is a {kind} of the repository, not a commit", code="git.object")
        return data

    def load_commits(self, identities: Sequence[str]) -> None:
        """Read commits that will be asked for, until the next such call."""
        self._commits = {}
        self._commits = {identity: self.commit(identity) for identity in self.in_turn(identities)}

    def load_trees(self, identities: Iterable[str]) -> None:
        """Read trees that will be asked for, as far as they fit among those that are remembered."""
        held = (self._trees, self._fresh, self._waiting, self._flying)
        lacking = [i for i in dict.fromkeys(identities) if i != EMPTY_TREE and not any(i in known for known in held)]
        if len(lacking) > 1:
            rows = 0
            for identity in self.in_turn(lacking):
                rows += len(self.tree(identity))
                if rows > _CACHED_ENTRIES // 2:
                    break

    def tree(self, identity: str) -> GitFolder:
        """The rows of a tree, not to be changed; of those seen lately without asking."""
        known = self._trees.get(identity)
        if known is None:
            known = parse_tree(self.raw_tree(identity))
            self._remember(identity, known)
        else:
            self._trees.move_to_end(identity)
        return known

    def raw_tree(self, identity: str) -> bytes:
        """The bytes of a tree."""
        if identity == EMPTY_TREE:
            return b""
        for held in (self._fresh, self._waiting, self._flying):
            if identity in held:
                return held[identity]
        kind, found = self.read(identity)
        if kind != "tree":
            raise BrokenError(f"object {identity[:12]} of the repository is a {kind}, not a tree", code="git.object")
        return found

    def _remember(self, identity: str, entries: GitFolder) -> None:
        self._trees[identity] = entries
        self._cached += len(entries) + 1
        while self._cached > _CACHED_ENTRIES and len(self._trees) > 1:
            self._cached -= len(self._trees.popitem(last=False)[1]) + 1

    def run(
        self,
        *arguments: str,
        given: bytes | None = None,
        fine: Sequence[int] = (0,),
        environment: Mapping[str, str] | None = None,
        **more: Any,
    ) -> bytes:
        """Run a command of Git on it, with what is kept apart; raises ``GitError``. ``more``: as for ``run_git``."""
        told = {**self.environment, **(environment or {})}
        return run_git(self.folder, *arguments, given=given, environment=told, fine=fine, **more)

    def refs(self, *below: str) -> dict[str, str]:
        """Full name and object of each branch and tag (or of all below these prefixes)."""
        out = self.run("for-each-ref", "--format=%(objectname) %(refname)", *(below or ("refs/",)))
        lines = out.decode("utf-8", "surrogateescape").split("\n")  # a name may have U+0085 or U+2028 in it
        rows = (line.partition(" ") for line in lines if line)
        return {name: identity for identity, _, name in rows}

    def line(self, wanted: Iterable[str], known: Iterable[str] = ()) -> Iterator[str]:
        """Commits reached from ``wanted`` and not from ``known``, parents before children."""
        asked = "".join([f"{w}\n" for w in wanted] + [f"^{k}\n" for k in known])
        out = self.run("rev-list", "--topo-order", "--reverse", "--stdin", given=asked.encode())
        return iter(out.decode().split())

    # --- writing -----------------------------------------------------------------------

    def put(self, kind: str, data: bytes) -> str:
        """Write an object; it is there for others after ``flush``."""
        identity = object_id(kind, data)
        self._writer.add(kind, data)
        if kind in ("commit", "tree"):
            self._waiting[identity] = data
        self._flush_if_full()
        return identity

    def _flush_if_full(self) -> None:
        if self._writer.waiting_bytes > _MOST_WAITING:
            self.begin_flush()

    def put_tree(self, rows: GitFolder, made_of: str = EMPTY_TREE) -> str:
        """Make a tree of rows in order. It is written by ``keep_trees``, or forgotten by ``forget``. ``made_of``: a
        tree that has most of the rows, too."""
        identity = self._made(encode_tree(rows), rows)
        self._made_of.setdefault(identity, made_of)
        return identity

    def put_raw_tree(self, data: bytes) -> str:
        """As ``put_tree``, of its bytes."""
        return self._made(data, None)

    def _made(self, data: bytes, rows: GitFolder | None) -> str:
        identity = object_id("tree", data)
        if identity not in self._trees and identity not in self._waiting and identity not in self._fresh:
            self._fresh[identity] = data
            self._remember(identity, parse_tree(data) if rows is None else rows)
        return identity

    def keep_trees(self) -> None:
        """Write the trees that were made."""
        fresh, self._fresh = self._fresh, {}
        for identity, data in fresh.items():
            base = self._made_of.get(identity, EMPTY_TREE)
            steps = self._steps.get(base, MOST_STEPS)
            said = delta(self._waiting[base], data) if steps < MOST_STEPS else data
            is_shorter = len(said) < len(data)
            if is_shorter:
                self._writer.add_delta(base, said)
            else:
                self._writer.add("tree", data)
            self._waiting[identity] = data
            self._steps[identity] = steps + 1 if is_shorter else 0
            self._flush_if_full()
        self._made_of.clear()

    def root_of(self, commit: str) -> str:
        """The tree of a commit."""
        known = self._roots.get(commit)
        if known is None:
            known = self._roots[commit] = parse_commit_object(self.commit(commit)).tree
            if len(self._roots) > _MOST_ROOTS:
                self._roots.pop(next(iter(self._roots)))
        return known

    def forget(self) -> None:
        """Forget the trees that were made and not kept."""
        for identity in self._fresh:
            forgotten = self._trees.pop(identity, None)
            self._cached -= len(forgotten) + 1 if forgotten is not None else 0
        self._fresh.clear()
        self._made_of.clear()

    def put_blob(self, size: int, pieces: Iterable[bytes]) -> str:
        """Write a file's bytes."""
        if size <= _MOST_IN_MEMORY:
            return self.put("blob", b"".join(pieces))
        digest = hashlib.sha1(b"blob %d\0" % size, usedforsecurity=False)

        def hashed() -> Iterator[bytes]:
            for piece in pieces:
                digest.update(piece)
                yield piece

        self._writer.add_large(size, hashed())
        return digest.hexdigest()

    def flush(self) -> None:
        """Make everything that was put readable, for this and every other process. Raises ``GitError``."""
        self.begin_flush()
        self.settle()

    def begin_flush(self) -> None:
        """Begin to make all that was put readable; it is once ``settle`` returns. Raises ``GitError`` for what was
        begun before."""
        self._writer.begin()
        self._flying, self._waiting = self._waiting, {}
        self._steps.clear()

    def settle(self) -> None:
        """Wait for what was begun. Raises ``GitError``."""
        self._writer.settle()
        self._flying = {}

    def move_refs(self, moves: Mapping[str, tuple[str, str]]) -> None:
        """Set each ref from the object it must be at (``NO_OBJECT``: it must not exist) to another, all or none."""
        lines = ["start"]
        for name, (before, after) in moves.items():
            lines.append(f"delete {name} {before}" if after == NO_OBJECT else f"update {name} {after} {before}")
        given = "".join(f"{line}\n" for line in [*lines, "prepare", "commit"])
        self.run("update-ref", "--no-deref", "--stdin", given=given.encode("utf-8", "surrogateescape"))
