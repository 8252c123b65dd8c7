"""Trees of Git changed path by path, and where two of them differ; folders that are equal are never read."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from everyshelf.gitside.objects import EMPTY_TREE, FOLDER, GitEntry, GitFolder, entry_of, in_order, row_of
from everyshelf.gitside.repository import Repository

Edits = Mapping[bytes, GitEntry | None]
_Edits = dict[tuple[bytes, ...], "GitEntry | None"]


def find(repository: Repository, tree: str, path: bytes) -> GitEntry | None:
    """What is at ``path`` below a tree."""
    *folders, name = path.split(b"/")
    for folder in folders:
        row = repository.tree(tree).get(folder)
        entry = entry_of(row) if row is not None else None
        if entry is None or not entry.is_folder:
            return None
        tree = entry.id
    row = repository.tree(tree).get(name)
    return entry_of(row) if row is not None else None


def edited(repository: Repository, tree: str, edits: Edits) -> str:
    """The tree with entries set at paths, or removed where None; folders that become empty go."""
    if not edits:
        return tree
    return _edited(repository, tree, {tuple(path.split(b"/")): entry for path, entry in edits.items()})


def _edited(repository: Repository, tree: str, edits: _Edits) -> str:
    before = repository.tree(tree)
    rows = dict(before)
    below: dict[bytes, _Edits] = {}
    for path, entry in edits.items():
        name = path[0]
        if len(path) > 1:
            below.setdefault(name, {})[path[1:]] = entry
        elif entry is None:
            if name in rows and not entry_of(rows[name]).is_folder:
                del rows[name]
        else:
            rows[name] = row_of(name, entry)
    for name, inner in below.items():
        old = entry_of(rows[name]) if name in rows else None
        if old is not None and not old.is_folder:
            if edits.get((name,)) is not None:
                continue  # a file takes the folder's place
            old = None
        folder = _edited(repository, old.id if old is not None else EMPTY_TREE, inner)
        if folder != EMPTY_TREE:
            rows[name] = row_of(name, GitEntry(old.mode if old is not None else FOLDER, folder))
        elif old is not None:
            del rows[name]
    if not rows:
        return EMPTY_TREE
    return repository.put_tree(_ordered(before, rows, {path[0] for path in edits}), tree)


def _ordered(before: GitFolder, rows: GitFolder, touched: Iterable[bytes]) -> GitFolder:
    """In Git's order, which rows keep that only say something else than before."""
    for name in touched:
        old, new = before.get(name), rows.get(name)
        if (old is None) != (new is None):
            return in_order(rows)
        if old is not None and new is not None and entry_of(old).is_folder != entry_of(new).is_folder:
            return in_order(rows)
    return rows


def replaced(repository: Repository, tree: str, path: bytes, written: bytes) -> str:
    """The tree with the bytes ``written`` for the folder at ``path`` (empty: for itself)."""
    if not path:
        return repository.put_raw_tree(written)
    name, _, rest = path.partition(b"/")
    rows = dict(repository.tree(tree))
    old = entry_of(rows[name]) if name in rows else None
    is_folder = old is not None and old.is_folder
    inner = replaced(repository, old.id if old is not None and is_folder else EMPTY_TREE, rest, written)
    rows[name] = row_of(name, GitEntry(old.mode if old is not None and is_folder else FOLDER, inner))
    return repository.put_tree(in_order(rows))


def differing(
    repository: Repository, before: str, after: str, prefix: bytes = b""
) -> Iterator[tuple[bytes, GitEntry | None, GitEntry | None]]:
    """Path, entry before and entry after of each file, link or submodule that differs, by name."""
    if before == after:
        return
    old, new = repository.tree(before), repository.tree(after)
    apart = [name for name, row in new.items() if old.get(name) != row] + [name for name in old if name not in new]
    pairs = {name: [entry_of(rows[name]) if name in rows else None for rows in (old, new)] for name in sorted(apart)}
    repository.load_trees(e.id for both in pairs.values() for e in both if e is not None and e.is_folder)
    for name, (one, other) in pairs.items():
        path = prefix + name
        here = one if one is not None and not one.is_folder else None
        there = other if other is not None and not other.is_folder else None
        if here != there:
            yield path, here, there
        folders = [e.id if e is not None and e.is_folder else EMPTY_TREE for e in (one, other)]
        yield from differing(repository, folders[0], folders[1], path + b"/")


def odd_folders(repository: Repository, made: str, wanted: str, prefix: bytes = b"") -> Iterator[tuple[bytes, bytes]]:
    """The folders, deepest first, that are written otherwise in ``wanted`` than of their entries, with their bytes.

    ``made`` is the same tree where it was made of entries; every file in it is the same already.
    """
    if made == wanted:
        return
    ours, theirs = repository.tree(made), repository.tree(wanted)
    for name, row in theirs.items() - ours.items():
        entry = entry_of(row)
        if entry.is_folder:
            mine = entry_of(ours[name]) if name in ours else None
            inner = mine.id if mine is not None and mine.is_folder else EMPTY_TREE
            yield from odd_folders(repository, inner, entry.id, prefix + name + b"/")
    yield prefix.rstrip(b"/"), repository.raw_tree(wanted)
