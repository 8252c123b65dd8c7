"""Who uses what on a shelf: what each artifact names, kept by its content, joined over one state."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from everyshelf.core.answers.uses import NO_REFERENCES, FileReferences, Reference
from everyshelf.core.errors import MissingError
from everyshelf.core.history.names import path_of_tail
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.naming import PathsOf, Targets, is_missed
from everyshelf.core.kinds.references import NAMING_KINDS
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.context import get_trees, reader
from everyshelf.service.shelves.actions.contents import as_file
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.remembered import known_answer, remembered
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf

_MOST_BYTES = 1024 * 1024
_BUDGET_SECONDS = 2.0
_MOST_TOLD = 200
_MOST_ARTIFACTS = 20_000
_MOST_ALIKE = 500
_KEPT_STATES = 2
_KEPT_ANSWERS = 500


@dataclass(frozen=True)
class _State:
    """What the artifacts of one state name: ``names`` by path, their kinds, and what names can mean there."""

    names: dict[str, FileReferences]
    kinds: dict[str, str]
    targets: Targets
    complete: bool


_states: OrderedDict[tuple[int, str, str], _State] = OrderedDict()
_answers: OrderedDict[tuple[int, str, str, str], dict[str, Any]] = OrderedDict()  # of large shelves
_lock = threading.Lock()


def references_of(shelf: Shelf, at: Resolved, path: str) -> dict[str, Any]:
    """What the artifact uses, who uses it, and what it names that is not there.

    ``complete`` is False where some artifacts could not be looked through in two seconds (ask again, what was read is
    kept), and on shelves of over 20,000 artifacts, where only this one is looked through.
    """
    trees = get_trees()
    entry = trees.find(at.root, path)
    if entry is None or entry.type == "folder":
        raise MissingError(f"{path} is not there", code="artifact.missing", hint="See everyshelf browse.")
    if trees.count(at.root) <= _MOST_ARTIFACTS:
        return _told(shelf, at, path, _state_of_all(shelf, at, path))
    key = (shelf.pk, at.root, at.commit.uid if at.commit else "", path)
    with _lock:
        known = _answers.get(key)
    if known is None:
        known = _told(shelf, at, path, _state_of_one(shelf, at, path, entry))
        with _lock:
            _answers[key] = known
            while len(_answers) > _KEPT_ANSWERS:
                _answers.popitem(last=False)
    return known


def _told(shelf: Shelf, at: Resolved, path: str, state: _State) -> dict[str, Any]:
    kinds, targets = state.kinds, state.targets
    uses, missing = _uses(path, state.names.get(path, NO_REFERENCES).names, targets)
    used_by = [
        _use(one, kinds, named)
        for one, found in sorted(state.names.items())
        if one != path
        for named in found.names
        if targets.may_mean(named, path) and path in targets.of(named, one)
    ]
    if not state.complete:
        kinds = {**kinds, **_kinds_of(shelf, at, {target for target, _ in uses} - kinds.keys())}
    return {
        "uses": [_use(target, kinds, named) for target, named in uses][:_MOST_TOLD],
        "used_by": used_by[:_MOST_TOLD],
        "missing": [{"name": n.text, "place": n.place, "label": n.label} for n in missing][:_MOST_TOLD],
        "complete": state.complete,
    }


def _state_of_all(shelf: Shelf, at: Resolved, first: str) -> _State:
    """All artifacts looked through, ``first`` before the others; kept once it is complete."""
    key = (shelf.pk, at.root, at.commit.uid if at.commit else "")
    with _lock:
        known = _states.get(key)
        if known is not None:
            _states.move_to_end(key)
            return known
    entries = dict(get_trees().walk(at.root))
    kinds = {p: v.kind for p, v in versions_at(shelf, at.commit, {p: e.id for p, e in entries.items()}).items()}
    names, complete = _looked_through(at, dict(sorted(entries.items(), key=lambda item: item[0] != first)), kinds)
    state = _State(names, kinds, Targets(PathsOf(entries), _offers(names)), complete)
    if complete:
        with _lock:
            _states[key] = state
            while len(_states) > _KEPT_STATES:
                _states.popitem(last=False)
    return state


def _state_of_one(shelf: Shelf, at: Resolved, path: str, entry: Entry) -> _State:
    """Only one artifact looked through; what it names is found by the index of paths."""
    kinds = _kinds_of(shelf, at, {path})
    names, _ = _looked_through(at, {path: entry}, kinds)
    return _State(names, kinds, Targets(_PathsAt(shelf, at.root), _offers(names)), False)


def _kinds_of(shelf: Shelf, at: Resolved, paths: Iterable[str]) -> dict[str, str]:
    entries = {path: get_trees().find(at.root, path) for path in paths}
    contents = {path: entry.id for path, entry in entries.items() if entry is not None}
    return {path: version.kind for path, version in versions_at(shelf, at.commit, contents).items()}


def _looked_through(
    at: Resolved, entries: dict[str, Entry], kinds: dict[str, str]
) -> tuple[dict[str, FileReferences], bool]:
    """What each artifact names; of those that could not be read in time nothing is known, and that is told. The first
    is read however long it takes."""
    rules, end, complete, first = rules_at(at.root), time.monotonic() + _BUDGET_SECONDS, True, True
    names = {}
    for path, entry in entries.items():
        if kinds.get(path) in NAMING_KINDS and entry.type == "artifact" and entry.size <= _MOST_BYTES:
            found = names_of(path, entry, rules, allowed=first or time.monotonic() < end)
            complete = complete and found is not None
            names[path] = found or NO_REFERENCES
        first = False
    return names, complete


def _offers(names: dict[str, FileReferences]) -> dict[str, list[str]]:
    offers: dict[str, list[str]] = {}
    for path, found in names.items():
        for offered in found.offers:
            offers.setdefault(offered, []).append(path)
    return offers


class _PathsAt:
    """The paths of a state of a large shelf, asked for one by one."""

    def __init__(self, shelf: Shelf, root: str) -> None:
        self._shelf, self._root = shelf, root

    def has(self, path: str) -> bool:
        """Whether an artifact is at this path."""
        entry = get_trees().find(self._root, path) if path and not path.startswith(("/", "..")) else None
        return entry is not None and entry.type != "folder"

    def ending(self, name: str) -> list[str]:
        """The paths with this file name, in order; of very many, some."""
        of_shelf = ArtifactVersion.objects.filter(shelf=self._shelf)
        # A range and no LIKE, for which SQLite would not use the index; "0" is what comes after "/".
        rows = of_shelf.filter(tail__gte=f"{name}/", tail__lt=f"{name}0").order_by("tail")
        tails = rows.values_list("tail", flat=True).distinct()[:_MOST_ALIKE]
        return sorted(path for tail in tails if self.has(path := path_of_tail(tail)))


def _uses(path: str, names: list[Reference], targets: Targets) -> tuple[list[tuple[str, Reference]], list[Reference]]:
    found: list[tuple[str, Reference]] = []
    missing = []
    for named in names:
        meant = targets.of(named, path)
        found += [(target, named) for target in meant]
        own = targets.may_mean(named, path)
        if not meant and not own and is_missed(named):
            missing.append(named)
    return found, missing


def _use(artifact: str, kinds: dict[str, str], named: Reference) -> dict[str, Any]:
    where = {"place": named.place, "label": named.label, "exact": named.exact}
    return {"artifact": artifact, "kind": kinds.get(artifact, "opaque"), **where}


def names_of(path: str, entry: Entry, rules: Rules, *, allowed: bool = True) -> FileReferences | None:
    """What one artifact names and offers, from the records or read now; None if that is not allowed."""

    def work() -> FileReferences:
        with as_file(entry.id) as file, reader() as worker:
            return worker.names(FileAt(path, str(file)), rules=rules.source)

    basis = "names", path, entry.id, rules.source
    return remembered(basis, FileReferences, work) if allowed else known_answer(basis, FileReferences)


def read_names(commit: Commit) -> None:
    """Read what the artifacts of a commit name, so that nobody has to wait for it (the work of a job)."""
    rules = rules_at(commit.root)
    for version in commit.versions.filter(content__gt="", kind__in=NAMING_KINDS, size__lte=_MOST_BYTES)[:2000]:
        names_of(version.path, Entry(version.path, "artifact", version.content, version.size), rules)
