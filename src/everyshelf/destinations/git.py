"""A branch of a Git repository as destination: artifacts are files of one folder of it, a deployment is a commit.

The commit names its deployment in its last line, so the repository itself tells whether a switch took place. Other
folders of the repository stay as they are. No secret goes there: a repository forgets nothing.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import re
import time
from collections.abc import Callable, Collection, Iterator
from pathlib import Path, PurePosixPath
from tempfile import TemporaryDirectory

from everyshelf.core.errors import ConflictError, MissingError
from everyshelf.core.promotion.destination import Destination, Fetch, Manifest, Placed, Progress, no_progress
from everyshelf.destinations.repository import RemoteBranch
from everyshelf.gitside import folders
from everyshelf.gitside.objects import (
    EMPTY_TREE,
    FILE,
    PROGRAM,
    CommitObject,
    GitEntry,
    encode_commit_object,
    parse_commit_object,
)
from everyshelf.gitside.repository import Repository

_TRAILER = re.compile(rb"^Deployment: ([0-9a-z-]+)\s*\Z", re.MULTILINE)
_MOST_LOOKED_BACK = 2_000  # commits


class GitDestination(Destination):
    """``folder`` (empty: the root) of a branch. ``said`` gives for a deployment's key who makes it, and its message."""

    keeps_secrets = False

    def __init__(self, branch: RemoteBranch, folder: str, said: Callable[[str], tuple[str, str]]) -> None:
        self._branch, self._folder, self._said = branch, folder.strip("/"), said
        self._staged: dict[str, tuple[str, str | None]] = {}
        self._tip: str | None = None

    # --- what is there -----------------------------------------------------------------

    def present(self, progress: Progress = no_progress) -> Manifest:
        self._tip = self._branch.fetch()
        known, fresh = self._known(), {}
        found: Manifest = {}
        authors = self._changed_since(self._tip)
        for path, blob in self._blobs(self._tip):
            told = known.get(blob)
            if told is None:
                told = fresh[blob] = self._measured(blob)
            progress(len(found), 0, path)
            found[path] = Placed(str(told[0]), int(str(told[1])), authors.get(path, ""))
        if fresh:
            self._remember({**known, **fresh})
        return found

    @property
    def _repository(self) -> Repository:
        return self._branch.repository

    def _measured(self, blob: str) -> list[object]:
        """SHA-256 and size of a file."""
        size, pieces = self._repository.read_pieces(blob)
        digest = hashlib.sha256()
        for piece in pieces:
            digest.update(piece)
        return [digest.hexdigest(), size]

    def _blobs(self, tip: str | None) -> Iterator[tuple[str, str]]:
        for path, _, entry in folders.differing(self._repository, EMPTY_TREE, self._tree(tip)):
            if entry is not None and entry.is_file:
                with contextlib.suppress(UnicodeDecodeError):  # no name an artifact could have
                    yield path.decode(), entry.id

    def _tree(self, tip: str | None) -> str:
        """The folder at a commit; empty if it is not there."""
        if tip is None:
            return EMPTY_TREE
        root = self._repository.root_of(tip)
        if not self._folder:
            return root
        found = folders.find(self._repository, root, self._folder.encode())
        return found.id if found is not None and found.is_folder else EMPTY_TREE

    def _line(self, tip: str | None) -> Iterator[tuple[str, CommitObject]]:
        """The commits of the branch by first parents, newest first."""
        for _ in range(_MOST_LOOKED_BACK):
            if tip is None or not self._repository.has(tip):
                return
            commit = parse_commit_object(self._repository.commit(tip))
            yield tip, commit
            tip = commit.parents[0] if commit.parents else None

    def _changed_since(self, tip: str | None) -> dict[str, str]:
        """Who changed which path since the last deployment, the newest name first."""
        found: dict[str, str] = {}
        for identity, commit in self._line(tip):
            if _TRAILER.search(commit.message):
                break
            name = commit.author.partition(b" <")[0].decode("utf-8", "replace")
            before = self._tree(commit.parents[0]) if commit.parents else EMPTY_TREE
            changed = folders.differing(self._repository, before, self._tree(identity))
            for path, _, _ in changed:
                found.setdefault(path.decode("utf-8", "replace"), name)
        return found

    def current(self) -> str | None:
        self._tip = self._branch.fetch()
        for _, commit in self._line(self._tip):
            if said := _TRAILER.search(commit.message):
                return said[1].decode()
        return None

    @contextlib.contextmanager
    def as_file(self, path: str) -> Iterator[Path]:
        if self._tip is None:
            self._tip = self._branch.fetch()
        entry = folders.find(self._repository, self._tree(self._tip), path.encode())
        if entry is None or not entry.is_file:
            raise MissingError(f"{path} is not in the repository", code="destination.missing")
        _, pieces = self._repository.read_pieces(entry.id)
        with TemporaryDirectory(prefix="everyshelf-git-") as folder:
            file = Path(folder, PurePosixPath(path).name)
            with file.open("wb") as target:
                target.writelines(pieces)
            yield file

    # --- putting in place -----------------------------------------------------------------

    def stage(
        self, key: str, present: Manifest, manifest: Manifest, fetch: Fetch, progress: Progress = no_progress
    ) -> None:
        tip = self._tip
        put = sorted(p for p, placed in manifest.items() if present.get(p) != placed)
        gone = sorted(present.keys() - manifest.keys())
        prefix = f"{self._folder}/" if self._folder else ""
        root = self._repository.root_of(tip) if tip is not None else EMPTY_TREE
        edits: dict[bytes, GitEntry | None] = {f"{prefix}{path}".encode(): None for path in gone}
        for done, path in enumerate(put):
            progress(done, len(put), path)
            target = f"{prefix}{path}".encode()
            edits[target] = GitEntry(self._mode(root, target), self._repository.put("blob", b"".join(fetch(path))))
        tree = folders.edited(self._repository, root, edits)
        self._repository.keep_trees()
        commit = self._repository.put("commit", self._committed(key, tree, tip))
        self._repository.flush()
        self._staged = {key: (commit, tip)}

    def _mode(self, root: str, path: bytes) -> bytes:
        """A program stays a program."""
        old = folders.find(self._repository, root, path)
        return PROGRAM if old is not None and old.is_file and old.mode.endswith(b"755") else FILE

    def _committed(self, key: str, tree: str, tip: str | None) -> bytes:
        who, message = self._said(key)
        name = re.sub(r"[<>\n]", " ", who).strip() or "Every Shelf"
        address = f"{re.sub(r'[^a-z0-9.-]', '-', name.lower())}@every-shelf.invalid"
        line = f"{name} <{address}> {int(time.time())} +0000".encode()
        said = f"{message.strip()}\n\nDeployment: {key}\n".encode()
        return encode_commit_object(CommitObject(tree, (tip,) if tip is not None else (), line, line, b"", said))

    def switch(self, key: str) -> None:
        staged = self._staged.get(key)
        if staged is None:
            if self.current() == key:
                return
            raise ConflictError(f"nothing is staged under {key}", code="destination.unstaged", hint="Promote again.")
        self._branch.send(*staged)

    def differences(self, key: str, manifest: Manifest, touched: Collection[str] | None = None) -> list[str]:
        if self.current() != key:
            return sorted(manifest)
        there = self.present()
        self._staged.pop(key, None)
        return sorted(p for p in there.keys() | manifest.keys() if there.get(p) != manifest.get(p))

    def undo(self, key: str) -> None:
        """Nothing was sent: what was staged is forgotten, and its objects are reached by nothing."""
        self._staged.pop(key, None)

    # --- which content a blob is --------------------------------------------------------------

    @property
    def _notes(self) -> Path:
        return self._repository.folder / "contents.json"

    def _known(self) -> dict[str, list[object]]:
        try:
            found: dict[str, list[object]] = json.loads(self._notes.read_bytes())
        except (OSError, ValueError):
            return {}  # worked out anew: slower, never wrong
        return found

    def _remember(self, known: dict[str, list[object]]) -> None:
        part = self._notes.with_suffix(f".{os.getpid()}")
        part.write_text(json.dumps(known))
        os.replace(part, self._notes)
