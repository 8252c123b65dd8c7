"""Of which kind artifacts are: files are looked into by a reading process, many at a time."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence

from everyshelf.core.history.trees import Change, Entry
from everyshelf.core.kinds.recognise import HEAD_BYTES
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.kinds.unread import kind_of_unread
from everyshelf.service.base.context import get_store, get_trees, recogniser

RECOGNISED_BYTES = 1024 * 1024
_BATCH_BYTES = 4 * 1024 * 1024
_MOST_REMEMBERED = 20_000
_remembered: dict[tuple[str, str, str], str] = {}  # kinds by path, content and rules


def recognise_changes(
    rules: Rules, changes: Iterable[Change], looked: Callable[[int, str], None] = lambda _done, _path: None
) -> dict[str, str]:
    """Kind by path of what came or changed. Files are looked into by a reading process, a batch at a time."""
    came = list(changes)
    return dict(zip((change.path for change in came), recognise_each(rules, came, looked), strict=True))


def recognise_each(
    rules: Rules, changes: Sequence[Change], looked: Callable[[int, str], None] = lambda _done, _path: None
) -> list[str]:
    """As ``recognise_changes``, in the order of the changes; a path may occur more than once."""
    kinds = [""] * len(changes)
    waiting: list[tuple[str, bytes, int]] = []
    places: list[int] = []
    held = 0

    def look() -> None:
        if not waiting:
            return
        with recogniser() as worker:
            found = worker.recognise(waiting)
        for place, kind in zip(places, found, strict=True):
            kinds[place] = kind

    for place, change in enumerate(changes):
        assert change.after is not None
        looked(place, change.path)
        declared = rules.kind_for(change.path)
        if declared is not None:
            kinds[place] = declared
        elif change.after.type == "whole":
            kinds[place] = _kind_of_folder(change.path, change.after)
        elif get_store().lies_outside(change.after.id):
            kinds[place] = kind_of_unread(change.path)  # data in place is not read to register it
        else:
            size = change.after.size
            waiting.append((change.path, _beginning(change.after, RECOGNISED_BYTES), size))
            places.append(place)
            held += min(size, RECOGNISED_BYTES)
            if held > _BATCH_BYTES:
                look()
                waiting, places, held = [], [], 0
    look()
    return kinds


def kinds_of(entries: Mapping[str, Entry], rules: Rules) -> dict[str, str]:
    """Kind by path of artifacts that have no version, as they would be recorded; what was recognised is remembered."""
    keys = {path: (path, entry.id, rules.source) for path, entry in entries.items()}
    kinds = {path: kind for path, key in keys.items() if (kind := _remembered.get(key)) is not None}
    fresh = recognise_changes(rules, (Change(path, None, entries[path]) for path in keys.keys() - kinds.keys()))
    if len(_remembered) + len(fresh) > _MOST_REMEMBERED:
        _remembered.clear()  # other threads may be reading: nothing relies on an entry that was seen before
    _remembered.update({keys[path]: kind for path, kind in fresh.items()})
    return kinds | fresh


def _beginning(entry: Entry, most: int) -> bytes:
    """All of a small file, of others how they begin."""
    return b"".join(get_store().iter_range(entry.id, 0, entry.size if entry.size <= most else HEAD_BYTES))


def _kind_of_folder(path: str, entry: Entry) -> str:
    """A table in many files is a dataset; other folders are known for nothing but their files."""
    files: list[tuple[str, bytes, int]] = []
    held_files = list(get_trees().files(entry.id))
    if any(get_store().lies_outside(held.id) for _, held in held_files):
        kinds = {kind_of_unread(inner) for inner, _ in held_files}
        return "dataset" if kinds == {"dataset"} else "opaque"
    for inner, held in held_files:
        # The first file is looked into, of the others only how they begin.
        head = b"".join(get_store().iter_range(held.id, 0, 8)) if files else _beginning(held, RECOGNISED_BYTES)
        files.append((inner, head, held.size))
    with recogniser() as worker:
        return worker.recognise_folder(path, files)
