"""Packing a state of a shelf, or a selection of it with what it needs, as a parcel."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from everyshelf.core.answers.uses import NO_REFERENCES
from everyshelf.core.errors import InvalidError
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import FILE_NAME
from everyshelf.core.parcel import Packed, pack
from everyshelf.core.promotion.bindings import needed, rules_for
from everyshelf.core.uses.names import PathsOf, files_meant
from everyshelf.core.uses.places import NAMING_KINDS
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.shelves.actions.naming import names_of
from everyshelf.service.shelves.actions.outside import outside_addresses
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.actions.seen_shapes import SeenVersion
from everyshelf.service.shelves.models import Shelf

FORMAT = 1
_MOST_NAMING_BYTES = 1 << 20


def pack_state(
    shelf: Shelf, at: Resolved, paths: list[str], target: Path, *, dependencies: bool, name: str
) -> dict[str, Any]:
    """Write a parcel into ``target``; gives what its ``packed.json`` says. ``dependencies`` adds what the selected
    artifacts name, and what that names."""
    files = dict(get_trees().files(at.root))
    chosen = _selected(files, paths)
    if dependencies:
        chosen = _with_what_they_need(shelf, at, files, chosen)
    outside = outside_addresses(files[path].id for path in chosen)
    in_place = {path: outside[files[path].id] for path in sorted(chosen) if files[path].id in outside}
    chosen -= in_place.keys()
    if not chosen:
        raise InvalidError("there is nothing to pack", code="parcel.empty", hint="Name a tag, or artifacts on it.")
    versions = versions_at(shelf, at.commit, {path: files[path].id for path in chosen})
    commit = at.commit
    about = {
        "format": FORMAT,
        "shelf": shelf.key,
        "name": shelf.name,
        "ref": at.ref,
        "commit": commit.uid if commit else None,
        "author": commit.author if commit else None,
        "time": commit.time.isoformat() if commit else None,
        "summary": commit.summary if commit else None,
        "selection": sorted(paths) or None,
        "dependencies": dependencies,
        "artifacts": len(chosen),
        **({"in_place": in_place} if in_place else {}),
    }
    rules = rules_at(at.root)
    packed = [
        Packed(path, lambda i=files[path].id: get_store().iter_range(i), _about(path, files[path], versions, rules))  # type: ignore[misc]
        for path in sorted(chosen)
    ]
    with target.open("wb") as file:
        pack(file, name, packed, about)
    return about


def _about(path: str, entry: Entry, versions: dict[str, SeenVersion], rules: Any) -> dict[str, Any]:
    """The sidecar of an artifact."""
    version = versions.get(path)
    told: dict[str, Any] = {
        "path": path,
        "sha256": entry.id,
        "size": entry.size,
        "bindings": _bindings(path, entry, rules),
    }
    if version is not None:
        told |= {
            "kind": version.kind,
            "artifact": version.artifact.uid,
            "version": version.number,
            "commit": version.commit.uid,
            "author": version.commit.author,
            "time": version.commit.time.isoformat(),
            "summary": version.commit.summary,
        }
    return told


def _bindings(path: str, entry: Entry, rules: Any) -> list[str]:
    if not rules_for(path, rules) or entry.size > _MOST_NAMING_BYTES:
        return []
    return needed(path, get_store().read(entry.id), rules)


def _selected(files: dict[str, Entry], paths: list[str]) -> set[str]:
    """The files that are named, or lie in a folder that is; everything without names."""
    if not paths:
        return set(files)
    found = set()
    for path in paths:
        meant = {p for p in files if p == path or p.startswith(f"{path.rstrip('/')}/")}
        if not meant:
            raise InvalidError(f"{path} is not there", code="parcel.missing", hint="See everyshelf browse.")
        found |= meant
    return found


def _with_what_they_need(shelf: Shelf, at: Resolved, files: dict[str, Entry], chosen: set[str]) -> set[str]:
    """The chosen, what they name, what that names, and the rules of the shelf."""
    rules, entries = rules_at(at.root), dict(get_trees().walk(at.root))
    kinds = {p: v.kind for p, v in versions_at(shelf, at.commit, {p: e.id for p, e in entries.items()}).items()}
    paths, found, waiting = PathsOf(entries), set(chosen), list(chosen)
    while waiting:
        for target in _named(waiting.pop(), entries, kinds, rules, paths):
            inside = {p for p in files if p == target or p.startswith(f"{target}/")} - found
            found |= inside
            waiting += inside
    return found | ({FILE_NAME} & files.keys())


def _named(path: str, entries: dict[str, Entry], kinds: dict[str, str], rules: Any, paths: PathsOf) -> Iterator[str]:
    entry = entries.get(path)
    if entry is None or kinds.get(path) not in NAMING_KINDS or entry.size > _MOST_NAMING_BYTES:
        return
    for named in (names_of(path, entry, rules) or NO_REFERENCES).names:
        if named.what == "file":
            yield from files_meant(named, path, paths)
