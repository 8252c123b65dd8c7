"""Which folders are kept whole: one artifact each, whatever their number of files.

The rules of a shelf say it. Where they are silent, a folder that is a partitioned table the first time it is seen is
kept whole; after that it stays as it is until somebody says otherwise.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import PurePosixPath
from typing import Protocol

from everyshelf.core.history.trees import Entry, Trees
from everyshelf.core.tables.formats import form_of
from everyshelf.core.tables.markers import is_marker

_MOST_FILES = 10_000
# What writers of tables in many files leave beside them when they are done.
_MARKS = ("_SUCCESS", "_metadata", "_common_metadata")
_PART_NAMES = ("part-", "part_", "part.")


class Said(Protocol):
    """What somebody says of a folder."""

    def is_whole(self, path: str) -> bool | None:
        """True or False where it is said, None where nothing is."""


def keep_whole(
    trees: Trees,
    before: str,
    after: str,
    said: Said,
    *,
    everywhere: bool = False,
    changed: Iterable[str] | None = None,
) -> str:
    """``after`` with its folders marked: those that came or changed since ``before``, or all of them.

    ``changed``: the files that are new or other than before, where they are known.
    """
    if everywhere:
        paths: Iterable[str] = {path for path, _ in trees.files(after)}
    else:
        paths = _changed(trees, before, after) if changed is None else changed
    marks: dict[str, Entry | None] = {}
    wholes: list[str] = []
    for folder in sorted({folder for path in paths for folder in _above(path)}, key=lambda f: f.count("/")):
        entry = trees.find(after, folder)
        if entry is None or entry.type == "artifact" or folder.startswith(tuple(wholes)):
            continue
        is_whole = said.is_whole(folder)
        if is_whole is None:
            is_whole = entry.type == "whole" or (trees.find(before, folder) is None and is_partitioned(trees, entry.id))
        if is_whole:
            wholes.append(f"{folder}/")
        if is_whole != (entry.type == "whole"):
            marks[folder] = (trees.whole if is_whole else trees.parted)(entry.name, entry.id)
    return trees.apply(after, marks) if marks else after


def _changed(trees: Trees, before: str, after: str) -> Iterable[str]:
    """Paths of files in changed places; for a folder that is whole already, the folder's own."""
    for change in trees.changes(before, after):
        entry = change.after
        if entry is not None:
            yield f"{change.path}/" if entry.type == "whole" else change.path


def _above(path: str) -> Iterable[str]:
    parts = path.split("/")
    return ("/".join(parts[:depth]) for depth in range(1, len(parts)))


def is_partitioned(trees: Trees, node: str) -> bool:
    """True for a folder all of whose files are named as parts of one table.

    They lie under ``name=value`` folders, are called ``part-…``, or lie beside what a writer of such tables leaves.
    """
    if any(entry.type != "artifact" and "=" not in entry.name for entry in trees.entries(node)):
        return False  # the table is what lies further down, if anything is
    names: list[str] = []
    is_marked = False
    for path, entry in trees.files(node):
        if is_marker(path, entry.size):
            is_marked = is_marked or PurePosixPath(path).name in _MARKS
        elif form_of(path, b"") is None or len(names) == _MOST_FILES:
            return False
        else:
            names.append(path)
    return bool(names) and (is_marked or (len(names) > 1 and all(_is_part(name) for name in names)))


def _is_part(path: str) -> bool:
    *folders, name = PurePosixPath(path).parts
    return name.startswith(_PART_NAMES) or any("=" in folder for folder in folders)
