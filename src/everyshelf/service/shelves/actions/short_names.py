"""What artifacts of a state are called, told apart from all others there; see ``core.history.names``.

A name is as long as it must be to differ from the two paths beside it, where paths are in the order of their last part,
then the one before it and so on (``tail``). An index keeps the versions of a shelf in that order, so that a page of a
large shelf asks for the neighbours of what is on it, and for nothing else. A small state is gone through whole, which
is quicker than asking.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

from django.db.models import Max, OuterRef, Subquery

from everyshelf.core.history.names import distinct_names, file_name, path_of_tail, tail_of
from everyshelf.core.history.trees import Trees
from everyshelf.service.base.context import get_trees
from everyshelf.service.shelves.actions.known_versions import Beside, known_versions
from everyshelf.service.shelves.actions.seen_shapes import SeenVersion
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

_MOST_GONE_THROUGH = 2_000  # artifacts; more would take longer than a dozen queries
_AT_ONCE = 500
_MOST_ROUNDS = 3
_MOST_ONE_BY_ONE = 20
_MOST_LOOKED_AT = 1_000
_ALL_PARTS = 1_000
_MOST_WITHOUT_VERSION = 100


def short_names(shelf: Shelf, root: str, paths: Iterable[str], versions: dict[str, SeenVersion]) -> dict[str, str]:
    """A name for each of these paths that no other artifact in the state ``root`` has.

    In a large state, paths that are only in a draft have no version to be looked up by; of many of these the whole
    path is the name.
    """
    trees = get_trees()
    if trees.count(root) <= _MOST_GONE_THROUGH:
        names = distinct_names(path for path, _ in trees.walk(root))
        return {path: names.get(path, path) for path in paths}
    shared = dict.fromkeys(paths, 0)
    fresh = [path for path in shared if path not in versions]
    for path in fresh[:_MOST_WITHOUT_VERSION]:
        shared[path] = max(_shared_behind(shelf, root, path, backwards=backwards) for backwards in (True, False))
    shared.update(dict.fromkeys(fresh[_MOST_WITHOUT_VERSION:], _ALL_PARTS))
    for backwards in (True, False):
        asked = {versions[path].pk: path for path in shared if path in versions}
        for path, parts in _shared_with_neighbours(shelf, root, asked, backwards=backwards).items():
            shared[path] = max(shared[path], parts)
    return {path: "/".join(path.split("/")[-1 - parts :]) for path, parts in shared.items()}


def _shared_with_neighbours(shelf: Shelf, root: str, asked: dict[int, str], *, backwards: bool) -> dict[str, int]:
    """How many of its last parts each path shares with the next one there; asked by record number of a version."""
    trees, known = get_trees(), set(asked.values())  # what is asked for is there: mostly its neighbours are too
    result: dict[str, int] = {}
    waiting = {key: [path] for key, path in asked.items()}
    for round_number in range(_MOST_ROUNDS):
        passed: dict[str, list[str]] = defaultdict(list)  # what was removed or has moved away, or is on another branch
        for key, beside in _neighbours(shelf, list(waiting), backwards=backwards):
            there = None
            for path in waiting[key]:
                parts = shared_parts(path, beside.path) if round_number else beside.shared
                if parts and there is None:
                    there = beside.path in known or _is_there(trees, root, beside.path)
                if parts and not there:
                    passed[tail_of(beside.path)].append(path)
                else:
                    result[path] = parts
        waiting = _versions_with(shelf, passed)
        if not waiting:
            break
    left = [path for paths in waiting.values() for path in paths]
    for path in left[:_MOST_ONE_BY_ONE]:
        result[path] = _shared_behind(shelf, root, path, backwards=backwards)
    result.update(dict.fromkeys(left[_MOST_ONE_BY_ONE:], _ALL_PARTS))
    return result


def _neighbours(shelf: Shelf, keys: list[int], *, backwards: bool) -> Iterator[tuple[int, Beside]]:
    """For each version, by number, what is beside its own path in the order of their tails; none at the end."""
    until = known_versions.bring_up_to_date(shelf.pk)
    found = known_versions.beside(shelf.pk, until, keys, backwards=backwards)
    if missing := [key for key in keys if key not in found]:
        read = _read_neighbours(shelf, missing, backwards=backwards)
        known_versions.keep_beside(shelf.pk, until, read, backwards=backwards)
        found |= read
    return ((key, beside) for key, beside in found.items() if beside is not None)


def _read_neighbours(shelf: Shelf, keys: list[int], *, backwards: bool) -> dict[int, Beside | None]:
    of_shelf = ArtifactVersion.objects.filter(shelf=shelf)
    if backwards:
        beside = of_shelf.filter(tail__lt=OuterRef("tail")).order_by("-tail")
    else:
        beside = of_shelf.filter(tail__gt=OuterRef("tail")).order_by("tail")
    read: dict[int, Beside | None] = {}
    for start in range(0, len(keys), _AT_ONCE):
        rows = ArtifactVersion.objects.filter(pk__in=keys[start : start + _AT_ONCE])
        found = rows.annotate(beside=Subquery(beside.values("tail")[:1])).values_list("pk", "path", "beside")
        for key, path, tail in found:
            other = path_of_tail(tail) if tail is not None else None
            read[key] = Beside(other, shared_parts(path, other)) if other is not None else None
    return read


def _versions_with(shelf: Shelf, passed: dict[str, list[str]]) -> dict[int, list[str]]:
    """A version with each of these tails, by number."""
    tails, result = list(passed), {}
    for start in range(0, len(tails), _AT_ONCE):
        rows = ArtifactVersion.objects.filter(shelf=shelf, tail__in=tails[start : start + _AT_ONCE])
        for tail, key in rows.values_list("tail").annotate(key=Max("pk")).order_by():
            result[key] = passed[tail]
    return result


def _shared_behind(shelf: Shelf, root: str, path: str, *, backwards: bool) -> int:
    """As for neighbours, for one path: all with its file name are gone through, up to a thousand."""
    trees, tail, name = get_trees(), tail_of(path), file_name(path)
    rows = ArtifactVersion.objects.filter(shelf=shelf)
    if backwards:
        rows = rows.filter(tail__gte=f"{name}/", tail__lt=tail).order_by("-tail")
    else:
        rows = rows.filter(tail__gt=tail, tail__lt=f"{name}0").order_by("tail")  # "0" is what comes after "/"
    for count, other in enumerate(rows.values_list("tail", flat=True).distinct()[:_MOST_LOOKED_AT]):
        if _is_there(trees, root, path_of_tail(other)):
            return shared_parts(path, path_of_tail(other))
        if count == _MOST_LOOKED_AT - 1:
            return _ALL_PARTS
    return 0


def _is_there(trees: Trees, root: str, path: str) -> bool:
    entry = trees.find(root, path)
    return entry is not None and entry.type != "folder"


def shared_parts(path: str, other: str) -> int:
    """How many of their last parts two paths have in common."""
    count = 0
    for one, two in zip(reversed(path.split("/")), reversed(other.split("/")), strict=False):
        if one != two:
            break
        count += 1
    return count
