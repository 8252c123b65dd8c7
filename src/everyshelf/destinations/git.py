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
import stat
import time
from collections.abc import Callable, Collection, Iterator
from pathlib import Path, PurePosixPath
from tempfile import TemporaryDirectory
from typing import Any

from dulwich.diff_tree import tree_changes
from dulwich.object_store import commit_tree_changes, iter_tree_contents, tree_lookup_path
from dulwich.objects import Blob, Commit, ObjectID, Tree

from everyshelf.core.errors import ConflictError, MissingError
from everyshelf.core.promotion.destination import Destination, Fetch, Manifest, Placed, Progress, no_progress
from everyshelf.destinations.repository import RemoteBranch

_TRAILER = re.compile(rb"^Deployment: ([0-9a-z-]+)\s*\Z", re.MULTILINE)
_MOST_LOOKED_BACK = 2_000  # commits
_PLAIN, _PROGRAM = 0o100644, 0o100755


class GitDestination(Destination):
    """``folder`` (empty: the root) of a branch. ``said`` gives for a deployment's key who makes it, and its message."""

    keeps_secrets = False

    def __init__(self, branch: RemoteBranch, folder: str, said: Callable[[str], tuple[str, str]]) -> None:
        self._branch, self._folder, self._said = branch, folder.strip("/"), said
        self._staged: dict[str, tuple[ObjectID, ObjectID | None]] = {}
        self._tip: ObjectID | None = None

    # --- what is there -----------------------------------------------------------------

    def present(self, progress: Progress = no_progress) -> Manifest:
        self._tip = self._branch.fetch()
        known, fresh = self._known(), {}
        found: Manifest = {}
        authors = self._changed_since(self._tip)
        for path, blob in self._blobs(self._tip):
            told = known.get(blob.decode())
            if told is None:
                data = self._store[blob].as_raw_string()
                told = fresh[blob.decode()] = [hashlib.sha256(data).hexdigest(), len(data)]
            progress(len(found), 0, path)
            found[path] = Placed(str(told[0]), int(str(told[1])), authors.get(path, ""))
        if fresh:
            self._remember({**known, **fresh})
        return found

    @property
    def _store(self) -> Any:
        return self._branch.repository.object_store

    def _blobs(self, tip: ObjectID | None) -> Iterator[tuple[str, ObjectID]]:
        tree = self._tree(tip)
        for entry in iter_tree_contents(self._store, tree) if tree is not None else ():
            if entry.mode is not None and stat.S_ISREG(entry.mode) and entry.path is not None and entry.sha is not None:
                with contextlib.suppress(UnicodeDecodeError):  # no name an artifact could have
                    yield entry.path.decode(), entry.sha

    def _tree(self, tip: ObjectID | None) -> ObjectID | None:
        """The folder at a commit."""
        if tip is None:
            return None
        root: ObjectID = self._commit(tip).tree
        if not self._folder:
            return root
        with contextlib.suppress(KeyError):
            mode, found = tree_lookup_path(self._store.__getitem__, root, self._folder.encode())
            if stat.S_ISDIR(mode):
                return ObjectID(found)
        return None

    def _commit(self, identity: ObjectID) -> Commit:
        found = self._store[identity]
        assert isinstance(found, Commit)
        return found

    def _line(self, tip: ObjectID | None) -> Iterator[tuple[ObjectID, Commit]]:
        """The commits of the branch by first parents, newest first."""
        for _ in range(_MOST_LOOKED_BACK):
            if tip is None or tip not in self._store:
                return
            commit = self._commit(tip)
            yield tip, commit
            tip = commit.parents[0] if commit.parents else None

    def _changed_since(self, tip: ObjectID | None) -> dict[str, str]:
        """Who changed which path since the last deployment, the newest name first."""
        found: dict[str, str] = {}
        for identity, commit in self._line(tip):
            if _TRAILER.search(commit.message) or not commit.parents:
                break
            before, after = self._tree(commit.parents[0]), self._tree(identity)
            name = commit.author.partition(b" <")[0].decode("utf-8", "replace")
            for change in tree_changes(self._store, before, after):
                for side in (change.old, change.new):
                    if side is not None and side.path is not None:
                        found.setdefault(side.path.decode("utf-8", "replace"), name)
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
        tree = self._tree(self._tip)
        try:
            if tree is None:
                raise KeyError(path)
            _, blob = tree_lookup_path(self._store.__getitem__, tree, path.encode())
            data = self._store[blob].as_raw_string()
        except KeyError as error:
            raise MissingError(f"{path} is not in the repository", code="destination.missing") from error
        with TemporaryDirectory(prefix="everyshelf-git-") as folder:
            file = Path(folder, PurePosixPath(path).name)
            file.write_bytes(data)
            yield file

    # --- putting in place -----------------------------------------------------------------

    def stage(
        self, key: str, present: Manifest, manifest: Manifest, fetch: Fetch, progress: Progress = no_progress
    ) -> None:
        tip = self._tip
        put = sorted(p for p, placed in manifest.items() if present.get(p) != placed)
        gone = sorted(present.keys() - manifest.keys())
        prefix = f"{self._folder}/" if self._folder else ""
        root = self._commit(tip).tree if tip is not None else None
        changes: list[tuple[bytes, int | None, ObjectID | None]] = []
        for done, path in enumerate(put):
            progress(done, len(put), path)
            blob = Blob.from_string(b"".join(fetch(path)))
            self._store.add_object(blob)
            changes.append((f"{prefix}{path}".encode(), self._mode(root, f"{prefix}{path}"), blob.id))
        changes += [(f"{prefix}{path}".encode(), None, None) for path in gone]
        if root is None:
            empty = Tree()
            self._store.add_object(empty)
            root = empty.id
        tree = commit_tree_changes(self._store, root, changes)
        self._staged = {key: (self._committed(key, tree, tip), tip)}

    def _mode(self, root: ObjectID | None, path: str) -> int:
        """A program stays a program."""
        if root is not None:
            with contextlib.suppress(KeyError):
                mode, _ = tree_lookup_path(self._store.__getitem__, root, path.encode())
                return _PROGRAM if stat.S_ISREG(mode) and mode & 0o111 else _PLAIN
        return _PLAIN

    def _committed(self, key: str, tree: ObjectID, tip: ObjectID | None) -> ObjectID:
        commit = Commit()
        commit.tree, commit.parents = tree, [tip] if tip is not None else []
        who, message = self._said(key)
        name = re.sub(r"[<>\n]", " ", who).strip() or "Every Shelf"
        commit.author = commit.committer = f"{name} <{re.sub(r'[^a-z0-9.-]', '-', name.lower())}@every-shelf>".encode()
        commit.author_time = commit.commit_time = int(time.time())
        commit.author_timezone = commit.commit_timezone = 0
        commit.encoding = b"UTF-8"
        commit.message = f"{message.strip()}\n\nDeployment: {key}\n".encode()
        self._store.add_object(commit)
        return commit.id

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
        return Path(self._branch.repository.path, "contents.json")

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
