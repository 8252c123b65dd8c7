"""Addresses to choose from when an environment is made: folders and files this installation may write to, and that
belong to nobody."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Literal

from everyshelf.core.answers.environments import FreePlace
from everyshelf.core.errors import InvalidError
from everyshelf.service.base.config import get_config
from everyshelf.service.claims.actions.steps import Steps, file_steps, touches
from everyshelf.service.claims.actions.taking import taken_for
from everyshelf.service.environments.actions.environments import is_environment_name
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.models import Shelf

MOST_FREE = 200
_DEEPEST = 3
_MOST_LOOKED_AT = 5_000  # entries of the places: a share with a million files must not keep a request
_DATABASE_HEAD = b"SQLite format 3"


def free_places(caller: Caller, shelf: Shelf, destination: str, name: str) -> list[FreePlace]:
    """List at most ``MOST_FREE`` addresses for an environment called ``name``: one that is made in each of the places,
    then what lies there already, empty folders for a folder and SQLite files for a database."""
    require(caller, shelf, "make trial environments")
    if destination not in ("folder", "database"):
        raise InvalidError(
            f"the address of a {destination} cannot be chosen from a list",
            code="environment.destination",
            pointer="/destination",
            hint="Ask for folder or database.",
        )
    taken = taken_for(shelf)
    found: list[FreePlace] = []
    for place in get_config().places:
        new = place.resolve() / shelf.key / (f"{name}.sqlite" if destination == "database" else name)
        if is_environment_name(name) and not new.exists() and _free(new, taken):
            found.append(FreePlace(address=str(new), what="new"))
    what: Literal["empty", "database"] = "empty" if destination == "folder" else "database"
    fits = _is_empty if destination == "folder" else _is_database
    for place in get_config().places:
        for entry in _below(place.resolve()):
            if len(found) >= MOST_FREE:
                return found
            if fits(entry) and _free(Path(entry.path), taken):
                found.append(FreePlace(address=entry.path, what=what))
    return found


def _free(path: Path, taken: list[Steps]) -> bool:
    wanted = file_steps(path)
    return not any(touches(wanted, claim) for claim in taken)


def _below(place: Path) -> Iterator[os.DirEntry[str]]:
    """The entries of a place in the order of their names, the nearer ones first; links are not followed."""
    level, looked_at = [str(place)], 0
    for _ in range(_DEEPEST):
        deeper: list[str] = []
        for folder in level:
            for entry in _entries(folder):
                looked_at += 1
                if looked_at > _MOST_LOOKED_AT:
                    return
                if entry.name.startswith(".") or entry.is_symlink():
                    continue
                yield entry
                if entry.is_dir(follow_symlinks=False):
                    deeper.append(entry.path)
        level = deeper


def _entries(folder: str) -> list[os.DirEntry[str]]:
    try:
        with os.scandir(folder) as entries:
            return sorted(entries, key=lambda entry: entry.name)
    except OSError:  # removed meanwhile, or not to be read: nothing to choose there
        return []


def _is_empty(entry: os.DirEntry[str]) -> bool:
    try:
        if not entry.is_dir(follow_symlinks=False) or not os.access(entry.path, os.W_OK):
            return False
        with os.scandir(entry.path) as inside:
            return next(inside, None) is None
    except OSError:
        return False


def _is_database(entry: os.DirEntry[str]) -> bool:
    try:
        if not entry.is_file(follow_symlinks=False):
            return False
        with open(entry.path, "rb") as file:
            return file.read(len(_DATABASE_HEAD)) == _DATABASE_HEAD
    except OSError:
        return False
