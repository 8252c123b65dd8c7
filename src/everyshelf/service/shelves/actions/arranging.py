"""The artifacts of a state filtered and sorted: an index of each state that is looked at, kept in memory.

An index holds what a list is filtered and sorted by, not what it shows: a page is read from the records. That of a
state which differs little from one that is kept is made from that one.
"""

from __future__ import annotations

import threading
import time
from collections import Counter, OrderedDict
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from functools import partial
from typing import Any

import msgspec

from everyshelf.core.errors import InvalidError
from everyshelf.core.history.commit_sets import CommitSet
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.core.history.trees import Entry
from everyshelf.core.outline.model import EFFECTS
from everyshelf.service.base.context import get_trees
from everyshelf.service.shelves.actions.histories import has_label
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.listing import describe
from everyshelf.service.shelves.actions.recognising import kinds_of
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.actions.seen_shapes import SeenVersion
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

MAX_PAGE = 1000
SORTS = ("path", "kind", "version", "summary", "who", "when", "size", "effect")
_MOST_KEPT = 6
_MOST_ARTIFACTS_KEPT = 300_000
_MOST_APART, _MOST_COMMITS_APART = 2000, 200  # up to which an index is made from an earlier one
_SHOWN_OF_KIND = 40
_MOST_FOLDERS = 500
_MOST_LABELS = 100
_AT_ONCE = 500
_LOOK_AGAIN_SECONDS = 0.5


class Line(msgspec.Struct, gc=False):
    """What one artifact is filtered and sorted by. ``text`` is in lower case; ``when`` the microseconds since 1970."""

    path: str
    entry: Entry
    version: int
    number: int
    kind: str
    author: str
    summary: str
    when: float
    effect: str
    text: str
    labels: dict[str, str] = {}


@dataclass(frozen=True)
class Wanted:
    """Which artifacts: in a folder, of a kind, by an author, of an effect, with all of these words in path, last
    commit or author, last changed by a commit with a label (KEY or KEY=VALUE) or since a moment, ``only`` these
    paths, or ``without`` these; sorted by one of ``SORTS``, with a minus the other way round."""

    folder: str = ""
    kind: str = ""
    by: str = ""
    effect: str = ""
    words: str = ""
    label: str = ""
    since: datetime | None = None
    only: frozenset[str] | None = None
    without: frozenset[str] = frozenset()
    sort: str = "path"


class StateIndex:
    """All artifacts of one state, by path; orders are kept once they were asked for."""

    def __init__(self, at: Resolved, lines: dict[str, Line]) -> None:
        self.root, self.commit = at.root, at.commit.pk if at.commit else 0
        self.lines = lines
        self._orders: dict[str, list[Line]] = {}
        self._look_again = 0.0
        self._undescribed = {line.version: line for line in lines.values() if line.version and not line.effect}

    def refresh(self) -> None:
        """Take in what a job has meanwhile said of versions; of a large commit some are never described, so that
        looking for them takes a small part of the time only."""
        begun = time.monotonic()
        if not self._undescribed or begun < self._look_again:
            return
        waiting = list(self._undescribed)
        for start in range(0, len(waiting), _AT_ONCE):
            rows = ArtifactVersion.objects.filter(pk__in=waiting[start : start + _AT_ONCE]).exclude(headline="")
            for key, effect in rows.values_list("pk", "effect"):
                line = self._undescribed.pop(key, None)
                if line is not None:  # another thread may have been quicker
                    line.effect = effect
                    self._orders.pop("effect", None)
        now = time.monotonic()
        self._look_again = now + _LOOK_AGAIN_SECONDS + 20 * (now - begun)

    def arranged(self, wanted: Wanted) -> list[Line]:
        """The artifacts that are wanted, in order."""
        down, key = wanted.sort.startswith("-"), wanted.sort.removeprefix("-")
        if key not in self._orders:
            self._orders[key] = sorted(self.lines.values(), key=_KEYS[key])
        lines: Iterable[Line] = reversed(self._orders[key]) if down else self._orders[key]
        for fits in _conditions(wanted):
            lines = filter(fits, lines)
        return list(lines)


def _conditions(wanted: Wanted) -> Iterator[Callable[[Line], bool]]:
    """What a line has to meet, of what was asked for only: each is tried on every artifact of a state at each letter
    that is typed into a list."""
    if (only := wanted.only) is not None:
        yield lambda line: line.path in only
    if wanted.without:
        yield lambda line: line.path not in wanted.without
    if wanted.label:
        yield lambda line: has_label(line.labels, wanted.label)
    if wanted.kind:
        yield lambda line: line.kind == wanted.kind
    if wanted.by:
        yield lambda line: line.author == wanted.by
    if wanted.effect:
        yield lambda line: line.effect == wanted.effect
    if below := wanted.folder and f"{wanted.folder}/":
        yield lambda line: line.path.startswith(below)
    if (since := wanted.since.timestamp() if wanted.since else None) is not None:
        yield lambda line: line.when >= since
    yield from (partial(_has_word, word) for word in wanted.words.casefold().split())


def _has_word(word: str, line: Line) -> bool:
    return word in line.text


_RANKS: dict[str, int] = {effect: rank for rank, effect in enumerate(EFFECTS)}
_KEYS: dict[str, Callable[[Line], Any]] = {
    "path": lambda line: line.path,
    "kind": lambda line: (line.kind, line.path),
    "version": lambda line: (line.number, line.path),
    "summary": lambda line: (line.summary.casefold(), line.path),
    "who": lambda line: (line.author.casefold(), line.path),
    "when": lambda line: (line.when, line.path),
    "size": lambda line: (line.entry.size, line.path),
    "effect": lambda line: (_RANKS.get(line.effect, len(_RANKS)), line.path),
}

Edited = Callable[[Any, Shelf, str], frozenset[str]]
_edited: list[Edited] = []


def register_edited(edited: Edited) -> None:
    """Let ``edited`` say which paths a person has changed on a branch and not committed yet; it gets person, shelf and
    branch."""
    _edited.append(edited)


def edited_by(person: Any, shelf: Shelf, branch: str) -> frozenset[str]:
    """The paths a person has changed on a branch and not committed yet."""
    return frozenset().union(*(edited(person, shelf, branch) for edited in _edited))


_lock = threading.Lock()
_kept: OrderedDict[tuple[int, str, str], StateIndex] = OrderedDict()


def index_of(shelf: Shelf, at: Resolved) -> StateIndex:
    """The index of a state, made unless it is kept."""
    key = (shelf.pk, at.commit.uid if at.commit else "", at.root)
    with _lock:
        found = _kept.get(key)
        near = [one for (kept, _, _), one in reversed(_kept.items()) if kept == shelf.pk] if found is None else []
        if found is not None:
            _kept.move_to_end(key)
    if found is None:
        found = _made_from(shelf, at, near) or StateIndex(at, _lines(shelf, at, get_trees().walk(at.root)))
        with _lock:
            _kept[key] = found
            while len(_kept) > 1 and (
                len(_kept) > _MOST_KEPT or sum(len(one.lines) for one in _kept.values()) > _MOST_ARTIFACTS_KEPT
            ):
                _kept.popitem(last=False)
    found.refresh()
    return found


def _made_from(shelf: Shelf, at: Resolved, near: list[StateIndex]) -> StateIndex | None:
    """The index of a state that comes from one that is kept, and differs little from it."""
    if at.commit is None:
        return None
    lineage = lineage_of(shelf)
    line = lineage.ancestors(at.commit.pk)
    for other in near:
        since = line - lineage.ancestors(other.commit) if other.commit in line else None
        if since is None or len(since) > _MOST_COMMITS_APART:
            continue
        touched = _touched(shelf, other, at, since)
        if touched is not None:
            trees = get_trees()
            entries = ((path, trees.find(at.root, path)) for path in touched)
            lines = {path: msgspec.structs.replace(line) for path, line in other.lines.items() if path not in touched}
            lines.update(_lines(shelf, at, ((p, e) for p, e in entries if e is not None and e.type != "folder")))
            return StateIndex(at, lines)
    return None


def _touched(shelf: Shelf, other: StateIndex, at: Resolved, since: CommitSet) -> set[str] | None:
    """The paths that differ, or were changed and changed back since; None if there are many."""
    rows = ArtifactVersion.objects.filter(shelf=shelf, commit__in=since).values_list("path", flat=True)
    touched = set(rows[: _MOST_APART + 1])
    for change in get_trees().changes(other.root, at.root):
        touched.add(change.path)
        if len(touched) > _MOST_APART:
            break
    return touched if len(touched) <= _MOST_APART else None


def _lines(shelf: Shelf, at: Resolved, entries: Iterable[tuple[str, Entry]]) -> dict[str, Line]:
    held = dict(entries)
    versions = versions_at(shelf, at.commit, {path: entry.id for path, entry in held.items()})
    fresh = {path: entry for path, entry in held.items() if path not in versions}
    kinds = kinds_of(fresh, rules_at(at.root)) if fresh else {}
    return {path: _line(path, entry, versions.get(path), kinds.get(path, "opaque")) for path, entry in held.items()}


def _line(path: str, entry: Entry, version: SeenVersion | None, kind: str) -> Line:
    if version is None:  # only in a draft
        return Line(path, entry, 0, 0, kind, "", "", 0.0, "", path.casefold())
    commit = version.commit
    text = f"{path} {commit.summary} {commit.author}".casefold()
    when = commit.recorded.timestamp()
    number = version.number or 0
    return Line(
        path,
        entry,
        version.pk,
        number,
        version.kind,
        commit.author,
        commit.summary,
        when,
        version.effect,
        text,
        commit.labels,
    )


def list_arranged(shelf: Shelf, at: Resolved, wanted: Wanted, start: int, limit: int) -> dict[str, Any]:
    """One page of the artifacts that are wanted, from place ``start``: items, how many there are, and their bytes."""
    key = wanted.sort.removeprefix("-")
    if key not in SORTS:
        hint = f"{did_you_mean(nearest(key, SORTS))}Known are {', '.join(SORTS)}."
        raise InvalidError(f"a list cannot be sorted by {key[:40]!r}", code="input.unknown", pointer="/sort", hint=hint)
    wanted = replace(wanted, folder=wanted.folder.strip("/"))
    found = index_of(shelf, at).arranged(wanted)
    page = found[start : start + min(limit, MAX_PAGE)]
    return {
        "items": describe(shelf, at, [(line.path, line.entry) for line in page]),
        "total": len(found),
        "bytes": sum(line.entry.size for line in found),
        "next": None,
    }


def summary_of(shelf: Shelf, at: Resolved) -> dict[str, Any]:
    """A state in short: its kinds with the newest artifacts of each, its folders, its people, and how much there is."""
    lines = index_of(shelf, at).arranged(Wanted(sort="-when"))
    kinds: dict[str, list[Line]] = {}
    for line in lines:
        kinds.setdefault(line.kind, []).append(line)
    shown = [line for own in kinds.values() for line in own[:_SHOWN_OF_KIND]]
    told = {one["path"]: one for one in describe(shelf, at, [(line.path, line.entry) for line in shown])}
    folders = Counter(line.path.rpartition("/")[0] for line in lines)
    return {
        "total": len(lines),
        "bytes": sum(line.entry.size for line in lines),
        "kinds": [
            {
                "kind": kind,
                "count": len(own),
                "bytes": sum(line.entry.size for line in own),
                "newest": [told[line.path] for line in own[:_SHOWN_OF_KIND]],
            }
            for kind, own in sorted(kinds.items(), key=lambda pair: (-len(pair[1]), pair[0]))
        ],
        "folders": [{"folder": name, "count": count} for name, count in sorted(folders.items())[:_MOST_FOLDERS]],
        "folder_count": len(folders),
        "authors": sorted({line.author for line in lines if line.author}),
        "labels": sorted({f"{key}={value}" for line in lines for key, value in line.labels.items()})[:_MOST_LABELS],
    }
