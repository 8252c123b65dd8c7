"""The bare repository beside the service in which a shelf is kept for Git: a cache, made again when it is lost."""

from __future__ import annotations

import fcntl
import shutil
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from everyshelf.core.content.stores import MAIN, in_store
from everyshelf.core.errors import BrokenError, MissingError
from everyshelf.core.history.trees import Trees
from everyshelf.gitside.layout import Layout
from everyshelf.gitside.mapping import Mapping
from everyshelf.gitside.program import GitError
from everyshelf.gitside.repository import Repository
from everyshelf.gitside.settings import MappingSettings
from everyshelf.service.base.acts import aside
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store
from everyshelf.service.base.turns import turns
from everyshelf.service.exchange.models import GitPair
from everyshelf.service.shelves.models import Shelf, ShelfContent

SERVED = MappingSettings()
_READER_SECONDS, _LOOK_SECONDS = 10.0, 0.05
_CACHED_ROWS = 40_000  # a history is gone through once: what it was before is not asked for again
_LOST = ("missing", "corrupt", "bad object", "bad tree", "nonexistent", "not a valid", "unable to read", "not a git")


def folder_of(shelf: Shelf) -> Path:
    """Where the shelf's repository is."""
    return get_config().data / "git" / f"{shelf.pk}.git"


@contextmanager
def locked(shelf: Shelf) -> Iterator[None]:
    """No other process or thread works on the shelf's repository meanwhile."""
    path = folder_of(shelf).with_suffix(".lock")
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("w") as lock, turns.given_back():
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


@contextmanager
def locked_for_reading(shelf: Shelf) -> Iterator[bool]:
    """As ``locked``, for readers: False where another one works on the repository for longer than a reader
    should wait. What it holds is then shown as it is."""
    path = folder_of(shelf).with_suffix(".lock")
    path.parent.mkdir(parents=True, exist_ok=True)
    end = time.monotonic() + _READER_SECONDS
    with path.open("w") as lock, turns.given_back():
        while True:
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                if time.monotonic() > end and _has_been_shown(shelf):
                    yield False
                    return
                time.sleep(_LOOK_SECONDS)
            else:
                yield True
                return


def _has_been_shown(shelf: Shelf) -> bool:
    """Whether the repository holds a state of the shelf: its branches come last."""
    folder = folder_of(shelf)
    if not (folder / "HEAD").exists():
        return False
    with Repository(folder) as repository:
        return bool(repository.refs("refs/heads/"))


@contextmanager
def opened(shelf: Shelf) -> Iterator[Repository]:
    """The shelf's repository, made if there is none; call it ``locked``."""
    folder = folder_of(shelf)
    if not (folder / "HEAD").exists():
        forget(shelf)
    _unlock(folder)
    with Repository.made(folder, shelf.main_branch) as repository:
        yield repository


def _unlock(folder: Path) -> None:
    """Remove what a process that was killed left of Git's own locks: nothing else works on the repository now."""
    for lock in (*folder.glob("*.lock"), *(folder / "refs").rglob("*.lock")):
        lock.unlink(missing_ok=True)


def forget(shelf: Shelf) -> None:
    """Throw the repository away, and what is known of it: the next look makes it again from the shelf."""
    with aside():
        GitPair.objects.filter(shelf=shelf, mapping="").delete()
    shutil.rmtree(folder_of(shelf), ignore_errors=True)


def trees_for_history() -> Trees:
    """Folder trees for going through a history, which would fill the memory of this process otherwise."""
    with in_store(MAIN):
        return Trees(get_store(), _CACHED_ROWS)


def mapping_of(shelf: Shelf, repository: Repository, trees: Trees) -> Mapping:
    """The mapping between the shelf and its repository."""

    def held(content: str) -> int | None:
        return ShelfContent.objects.filter(shelf=shelf, content=content).values_list("size", flat=True).first()

    return Mapping(trees, Layout(get_store(), repository, SERVED, held))


def is_lost(error: Exception) -> bool:
    """Whether an error says that the repository is not what the records say of it."""
    if isinstance(error, GitError):
        return any(word in error.said for word in _LOST)
    return isinstance(error, (MissingError, BrokenError)) and error.code in ("git.object", "git.tree", "git.commit")
