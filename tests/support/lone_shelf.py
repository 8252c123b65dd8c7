"""A shelf without a service: a store, folder trees and commits, joined to repositories by the mapping alone."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import msgspec

from everyshelf.core.content.store import ContentStore
from everyshelf.core.history.commits import CommitData, Move, encode_commit
from everyshelf.core.history.trees import Entry, Trees
from everyshelf.gitside.layout import Layout
from everyshelf.gitside.mapping import Mapping, Parent, ShelfCommit
from everyshelf.gitside.objects import parse_commit_object
from everyshelf.gitside.repository import Repository
from everyshelf.gitside.settings import MappingSettings


class LoneShelf:
    """Commits by id, in the order they came."""

    def __init__(self, folder: Path, settings: MappingSettings | None = None) -> None:
        self.store = ContentStore(folder)
        self.trees = Trees(self.store)
        self.commits: dict[str, ShelfCommit] = {}
        self._settings = settings or MappingSettings()

    def mapping(self, repository: Repository) -> Mapping:
        """The mapping to a repository."""
        return Mapping(self.trees, Layout(self.store, repository, self._settings, self.size_of))

    def size_of(self, content: str) -> int | None:
        """The size of what the store holds."""
        return self.store.size(content) if self.store.has(content) else None

    def entry(self, name: str, data: bytes) -> Entry:
        """A file, its bytes stored."""
        info = self.store.put(data)
        return Entry(name, "artifact", info.id, info.size)

    def add(self, data: CommitData, recorded: datetime) -> str:
        """Record a commit and return its id."""
        uid, _ = encode_commit(data)
        self.commits.setdefault(uid, ShelfCommit(uid, data, recorded))
        return uid

    def fetch(self, folder: Path) -> dict[str, str]:
        """Take in everything; gives the shelf's commit for each of Git."""
        pairs: dict[str, str] = {}
        with Repository(folder) as repository:
            mapping = self.mapping(repository)
            for git in repository.line(repository.refs("refs/heads").values()):
                parents = parse_commit_object(repository.commit(git)).parents
                here = [pairs[parent] for parent in parents]
                joined = zip(here, parents, strict=True)
                found = mapping.from_git(git, [Parent(self.commits[h].data.root, g) for h, g in joined])
                data = CommitData(
                    root=found.root,
                    parents=here,
                    author=found.author,
                    time=found.time.isoformat(timespec="microseconds"),
                    summary=found.summary,
                    description=found.description,
                    labels=found.labels,
                    tasks=found.tasks,
                    moves=[Move("artifact", old, new) for old, new in found.moves],
                )
                kept = found.kept(encode_commit(data)[0])
                if kept:
                    data = msgspec.structs.replace(data, git=self.store.put(kept).id)
                pairs[git] = self.add(data, found.recorded)
        return pairs

    def send(self, folder: Path) -> dict[str, str]:
        """Send everything; gives the commit of Git for each of the shelf, and lets a branch name each last one."""
        pairs: dict[str, str] = {}
        with Repository.made(folder) as repository:
            mapping = self.mapping(repository)
            for uid, commit in self.commits.items():
                parents = [Parent(self.commits[p].data.root, pairs[p]) for p in commit.data.parents]
                pairs[uid] = mapping.to_git(commit, parents)
            repository.flush()
            inner = {parent for commit in self.commits.values() for parent in commit.data.parents}
            tips = [pairs[uid] for uid in self.commits if uid not in inner]
            repository.move_refs({f"refs/heads/b{n}": ("0" * 40, tip) for n, tip in enumerate(dict.fromkeys(tips))})
        return pairs
