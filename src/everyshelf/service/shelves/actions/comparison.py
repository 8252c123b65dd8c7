"""Comparing two states of a shelf: which artifacts differ, then each by what it means.

Results are kept under both content ids, the rules and the reader's version. What is not kept yet is worked out within
a budget of time; the rest is left to a job, and the answer says so.
"""

from __future__ import annotations

import functools
import hashlib
import time
import uuid
import zlib
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

import orjson
from django.db import DatabaseError

from everyshelf.core.compare.artifact import READER_VERSION
from everyshelf.core.compare.known import compare_known
from everyshelf.core.compare.sentences import effect_of, headline, is_judged, rank_of, states_sentence
from everyshelf.core.errors import InvalidError, LimitError
from everyshelf.core.formats.text import decode
from everyshelf.core.history.merging import find_moves
from everyshelf.core.history.names import distinct_names, file_name
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.beside import belonging, keeps_elsewhere, may_have_beside, may_hold_weights
from everyshelf.core.kinds.registry import packages
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.reading.worker import WHOLE_SECONDS, Worker
from everyshelf.service.base.acts import aside
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store, get_trees, reader
from everyshelf.service.base.room import is_no_room
from everyshelf.service.shelves.actions import kept_rows
from everyshelf.service.shelves.actions.contents import as_file, as_given
from everyshelf.service.shelves.actions.listing import entry_of
from everyshelf.service.shelves.actions.moves import recorded_moves
from everyshelf.service.shelves.actions.recognising import kinds_of
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen import SeenVersion, versions_at
from everyshelf.service.shelves.models import ArtifactVersion, CachedComparison, Shelf

Tick = Callable[[], None]
# How much work a comparison that is not known yet may take: none, what fits into a request, or what a job may do.
Effort = Literal["none", "request", "job"]
BUDGET_SECONDS = 0.8
READ_LIMIT_BYTES = 200 * 1024 * 1024  # of an outline
HEAVY_BYTES = 48 * 1024 * 1024  # beyond, nobody tries in a request what only a job can do
_HEAVY_MEMORY = 1024 * 1024 * 1024
_REQUEST_SECONDS = 5.0  # of processor time; what takes longer goes on as a job
_MOST_SLOW = 10_000
# Comparisons that took longer than a request may: nobody tries them in one again.
_slow: dict[str, None] = {}
FINGERPRINT_BYTES = 4 * 1024 * 1024  # smaller tables are read as quickly as their fingerprints are looked up
SHOWN_FINDINGS = 50
_MOST_BESIDE = 1 << 30
_MOST_DESCRIBED = 2000  # a commit of more is told by its comparison, not by a line for each artifact


# For both sides, files of the same folder that belong to an artifact, by name.
Beside = tuple[dict[str, Entry], dict[str, Entry]]


@dataclass(frozen=True)
class Pairing:
    """One artifact that differs: where it was and is, both contents (None: not there), and what lies beside them."""

    path: str
    old_path: str
    before: Entry | None
    after: Entry | None
    beside: Beside = field(default=({}, {}))

    @property
    def state(self) -> str:
        """new, gone, moved or edited: the words for an artifact on a desk and in a draft."""
        if self.before is None:
            return "new"
        if self.after is None:
            return "gone"
        return "moved" if self.path != self.old_path else "edited"


def pair_changes(shelf: Shelf, before: Resolved, after: Resolved) -> list[Pairing]:
    """Changed paths, with an artifact that went from one path to another told as one."""
    changes = list(get_trees().changes(before.root, after.root))
    moves = {**find_moves(changes), **recorded_moves(shelf, before.commit, after.commit, changes)}
    targets = {new: old for old, new in moves.items()}
    by_path = {c.path: c for c in changes}
    result = []
    for change in changes:
        if change.path in moves and change.after is None:
            continue
        old_path = targets.get(change.path, change.path)
        entries = by_path[old_path].before, change.after
        beside = beside_of(before.root, old_path, entries[0]), beside_of(after.root, change.path, entries[1])
        result.append(Pairing(change.path, old_path, *entries, beside))
    return result + _models_changed_beside(before, after, {p.path for p in result if p.before and p.after})


def _models_changed_beside(before: Resolved, after: Resolved, changed: set[str]) -> list[Pairing]:
    """Models whose own file stayed as it was while weights kept in files beside it did not."""
    trees, result = get_trees(), []
    by_folder: dict[str, set[str]] = {}
    for path in changed:
        folder, _, name = path.rpartition("/")
        if may_hold_weights(name):
            by_folder.setdefault(folder, set()).add(name)
    for folder, names in by_folder.items():
        node = trees.folder(after.root, folder)
        for entry in trees.children(node)[1] if node is not None else []:
            path = f"{folder}/{entry.name}" if folder else entry.name
            if path in changed or not keeps_elsewhere(entry.name, names) or trees.find(before.root, path) != entry:
                continue
            beside = beside_of(before.root, path, entry), beside_of(after.root, path, entry)
            result.append(Pairing(path, path, entry, entry, beside))
    return result


def beside_of(root: str, path: str, entry: Entry | None) -> dict[str, Entry]:
    """What belongs to a model at that state; the sizes of all of it stay below what may be held."""
    folder, _, name = path.rpartition("/")
    if entry is None or not may_have_beside(name):
        return {}
    trees = get_trees()
    node = trees.folder(root, folder)
    entries = {e.name: e for e in trees.children(node)[1]} if node is not None else {}
    found = {sibling: entries[sibling] for sibling in belonging(name, entries)}
    return found if sum(e.size for e in found.values()) <= _MOST_BESIDE else {}


def compare_states(
    shelf: Shelf,
    before: Resolved,
    after: Resolved,
    *,
    budget: float | None = BUDGET_SECONDS,
    progress: Any = None,
    shown: int = SHOWN_FINDINGS,
) -> dict[str, Any]:
    """The whole comparison; with a budget, artifacts that would take longer are marked ``pending``.

    ``shown``: most findings given for each artifact; the counts are exact.
    """
    pairs = pair_changes(shelf, before, after)
    rules = rules_at(after.root)
    old_versions = versions_at(shelf, before.commit, {p.old_path: p.before.id for p in pairs if p.before})
    new_versions = versions_at(shelf, after.commit, {p.path: p.after.id for p in pairs if p.after})
    end = None if budget is None else time.monotonic() + budget
    artifacts = []
    for done, pair in enumerate(pairs):
        if progress is not None:
            progress(done, len(pairs), pair.path)
        tick = None if progress is None else functools.partial(progress, done, len(pairs), pair.path)
        effort: Effort = "job" if end is None else "request" if time.monotonic() < end else "none"
        found = compare_pair(shelf, pair, rules, effort, tick=tick)
        artifacts.append(_artifact(pair, old_versions.get(pair.old_path), new_versions.get(pair.path), found, shown))
    _name(artifacts, pairs, rules)
    artifacts.sort(key=lambda a: (rank_of(a), a["path"]))
    return {
        "from": before.as_json(),
        "to": after.as_json(),
        "artifacts": artifacts,
        "counts": _state_counts(pairs),
        "effects": _effects(artifacts),
        "sentence": states_sentence(artifacts),
        "pending": sum(a["pending"] for a in artifacts),
        "same": get_trees().count(after.root) - sum(p.after is not None for p in pairs),
    }


def _name(artifacts: list[dict[str, Any]], pairs: list[Pairing], rules: Rules) -> None:
    """Give them names that tell them apart, and kinds where they have no version yet."""
    names = distinct_names(pair.path for pair in pairs)
    entries = {pair.path: pair.after or pair.before for pair in pairs}
    fresh = {a["path"]: e for a in artifacts if a["kind"] == "" and (e := entries[a["path"]]) is not None}
    kinds = kinds_of(fresh, rules)
    for artifact in artifacts:
        artifact["name"] = names[artifact["path"]]
        artifact["kind"] = artifact["kind"] or kinds[artifact["path"]]


def _state_counts(pairs: list[Pairing]) -> dict[str, int]:
    counts = dict.fromkeys(("new", "edited", "moved", "gone"), 0)
    for pair in pairs:
        counts[pair.state] += 1
    return counts


def _effects(artifacts: list[dict[str, Any]]) -> dict[str, int]:
    totals = dict.fromkeys(("breaks", "alters", "cosmetic"), 0)
    for artifact in artifacts:
        for effect, count in artifact["effects"].items():
            totals[effect] += count
    return totals


def _artifact(
    pair: Pairing,
    old: SeenVersion | None,
    new: SeenVersion | None,
    found: dict[str, Any] | None,
    shown: int,
) -> dict[str, Any]:
    known = new or old
    result: dict[str, Any] = {
        "path": pair.path,
        "old_path": pair.old_path,
        "name": file_name(pair.path),
        "state": pair.state,
        "kind": known.kind if known else "",
        "before": _side(pair.before, old),
        "after": _side(pair.after, new),
        "pending": found is None,
        "effect": None,
        "headline": "",
        "effects": {},
        "judged": True,
        "counts": {},
        "findings": [],
        "read_as": "",
        "note": "",
        "truncated": False,
    }
    if found is None:
        return result
    for name in ("effects", "judged", "counts", "read_as", "note", "kind", "table", "tables", "lines"):
        if name in found:
            result[name] = found[name]
    if "table" in found:
        # Rows and profiles belong to the page of one artifact.
        result["table"] = {**found["table"], "details": [], "profiles": []}
    if "tables" in found:
        bare: dict[str, Any] = {"details": [], "profiles": []}
        result["tables"] = {n: {**t, **bare, "grid": None} for n, t in found["tables"].items()}
    if "model" in found:
        result["model"] = {**found["model"], "tensors": []}
    if "picture" in found:
        result["picture"] = {**found["picture"], "difference": None}
    result["findings"] = found["findings"][:shown]
    result["truncated"] = found["truncated"] or len(found["findings"]) > shown
    result["effect"] = effect_of(found) or ("alters" if pair.state in ("new", "gone") else None)
    result["headline"] = headline(found)
    return result


def _side(entry: Entry | None, version: SeenVersion | None) -> dict[str, Any] | None:
    if entry is None:
        return None
    return {"version": version.number if version else None, "content": entry.id, "size": entry.size}


# --- one artifact ----------------------------------------------------------------


def _is_heavy(before: Entry, after: Entry) -> bool:
    """True for contents so large that comparing them cannot end within a request."""
    return max(before.size, after.size) > HEAVY_BYTES


def compare_pair(
    shelf: Shelf, pair: Pairing, rules: Rules, effort: Effort, *, tick: Tick | None = None
) -> dict[str, Any] | None:
    """The findings of one artifact, from the records or worked out; None if that takes more than ``effort``."""
    if pair.before is None or pair.after is None:
        return _whole(pair)
    if pair.before.id == pair.after.id and pair.beside[0] == pair.beside[1]:
        return _moved_only(pair)
    sides = (pair.old_path, pair.before, pair.path, pair.after)
    return compare_contents(*sides, rules, effort, tick=tick, beside=pair.beside)


def _whole(pair: Pairing) -> dict[str, Any]:
    """An artifact that came or went is one finding, whatever it holds."""
    entry = pair.after or pair.before
    assert entry is not None
    action = "added" if pair.after else "removed"
    finding = {
        "action": action,
        "part": "/",
        "type": "artifact",
        "label": file_name(pair.path),
        "before": None,
        "after": None,
        "effect": "alters",
    }
    return _result([finding], f"{entry.size} bytes")


def _moved_only(pair: Pairing) -> dict[str, Any]:
    finding = {
        "action": "moved",
        "part": "/",
        "type": "artifact",
        "label": file_name(pair.path),
        "before": pair.old_path,
        "after": pair.path,
        "effect": "alters",
    }
    return _result([finding], "")


def _result(findings: list[dict[str, Any]], note: str) -> dict[str, Any]:
    counts = dict.fromkeys(("added", "removed", "changed", "moved", "renamed", "reordered"), 0)
    counts[findings[0]["action"]] = 1
    return {
        "equal": False,
        "counts": counts,
        "effects": {"breaks": 0, "alters": 1, "cosmetic": 0},
        "judged": True,
        "findings": findings,
        "read_as": "",
        "note": note,
        "identity": {},
        "truncated": False,
    }


def compare_contents(
    old_name: str,
    before: Entry,
    new_name: str,
    after: Entry,
    rules: Rules,
    effort: Effort,
    *,
    kind: str | None = None,
    tick: Tick | None = None,
    beside: Beside = ({}, {}),
) -> dict[str, Any] | None:
    """As ``compare_pair`` for two contents under their names. ``tick`` may raise to give up."""
    parts = _parts(old_name, before, new_name, after, rules, kind, beside)
    rows = kept_rows.file_of(_key(parts))
    if kind is None and (same := _known_same(old_name, before, new_name, after, rules)) is not None:
        return same
    key = _key(parts)
    may_work = effort == "job" or (effort == "request" and key not in _slow and not _is_heavy(before, after))

    def work() -> dict[str, Any]:
        return _worked_out(old_name, before, new_name, after, rules, kind, rows, tick, beside, effort)

    try:
        return remembered(parts, work if may_work else None)
    except LimitError:
        if len(_slow) >= _MOST_SLOW:
            _slow.clear()
        _slow[key] = None
        return None


def _known_same(old_name: str, before: Entry, new_name: str, after: Entry, rules: Rules) -> dict[str, Any] | None:
    """The answer for two tables whose fingerprints agree, which nobody need read again."""
    if min(before.size, after.size) < FINGERPRINT_BYTES:
        return None
    told = [fingerprint_at(*side, rules) for side in ((old_name, before), (new_name, after))]
    found = compare_known(*told) if all(told) else None
    return found.as_json() if found is not None else None


def fingerprint_at(
    path: str, entry: Entry, rules: Rules, *, make: bool = False, tick: Tick | None = None
) -> dict[str, Any]:
    """The fingerprint of a table, with an empty digest where there is none; ``make``: if nobody made it yet."""

    def work() -> dict[str, Any]:
        with as_given(entry) as file, _reader_for(entry) as worker:
            return worker.fingerprint(path, file, rules_text=rules.source, tick=tick)

    return remembered(("fingerprint", path, entry.id, rules.source), work if make else None) or {}


@contextmanager
def _reader_for(*entries: Entry) -> Iterator[Worker]:
    """A process that may take as long as contents of this size need."""
    if max(entry.size for entry in entries) > HEAVY_BYTES:
        worker = Worker(deadline_seconds=WHOLE_SECONDS, memory_bytes=_HEAVY_MEMORY, scratch=get_config().scratch)
        try:
            yield worker
        finally:
            worker.close()
    else:
        with reader() as worker:
            yield worker


def _parts(
    old_name: str, before: Entry, new_name: str, after: Entry, rules: Rules, kind: str | None, beside: Beside
) -> tuple[str, ...]:
    """All that a result depends on."""
    near = [f"{side}{name}={entry.id}" for side, held in enumerate(beside) for name, entry in sorted(held.items())]
    return (old_name, before.id, new_name, after.id, rules.source, kind or "", *near)


def rows_between(pair: Pairing, rules: Rules, start: int, count: int, **wanted: str) -> dict[str, Any]:
    """A page of the rows of a table that differ; none for what is no table or is not compared yet.

    ``wanted``: an action, a column, the table where the artifact holds several.
    """
    nothing: dict[str, Any] = {"rows": [], "total": 0, "start": start}
    if pair.before is None or pair.after is None:
        return nothing
    parts = _parts(pair.old_path, pair.before, pair.path, pair.after, rules, None, pair.beside)
    file = kept_rows.file_of(_key(parts))
    if not kept_rows.files_at(file):
        sides = (pair.old_path, pair.before, pair.path, pair.after)
        if (
            _is_heavy(pair.before, pair.after)
            or _known_same(*sides, rules) is not None
            or _differs_nowhere(remembered(parts, None))
        ):
            return nothing
        try:
            _worked_out(
                pair.old_path, pair.before, pair.path, pair.after, rules, None, file, None, pair.beside, "request"
            )
        except LimitError:
            return nothing  # the job that compares them keeps their rows
    kept_rows.mark_used(file)
    with reader() as worker:
        return worker.page(file, start, count, **wanted)


def _differs_nowhere(told: dict[str, Any] | None) -> bool:
    """True for a comparison of tables, known already, in which no row differs: then none was kept."""
    rows = ((told or {}).get("table") or {}).get("rows")
    return rows is not None and not (rows["added"] or rows["removed"] or rows["changed"])


def _key(parts: tuple[str, ...]) -> str:
    whole = "\0".join((*parts, str(READER_VERSION), packages()))
    return hashlib.sha256(whole.encode("utf-8", "surrogatepass")).hexdigest()


def remembered(parts: tuple[str, ...], work: Callable[[], dict[str, Any]] | None) -> dict[str, Any] | None:
    """What was worked out from ``parts`` before by these readers, or else by ``work``; None if neither."""
    key = _key(parts)
    cached = CachedComparison.objects.filter(key=key).values_list("result", flat=True).first()
    if cached is not None:
        result: dict[str, Any] = orjson.loads(zlib.decompress(cached))
        return result
    if work is None:
        return None
    result = work()
    _remember(key, result)
    return result


def _remember(key: str, result: dict[str, Any]) -> None:
    row = CachedComparison(key=key, result=zlib.compress(orjson.dumps(result), 3))
    try:
        with aside():
            # Another request may have been quicker with the same answer.
            CachedComparison.objects.bulk_create([row], ignore_conflicts=True)
    except DatabaseError as error:
        if not is_no_room(error):
            raise  # on a full disk the answer is given all the same, and worked out again the next time


def _worked_out(
    old_name: str,
    before: Entry,
    new_name: str,
    after: Entry,
    rules: Rules,
    kind: str | None,
    rows: Path,
    tick: Tick | None,
    beside: Beside,
    effort: Effort,
) -> dict[str, Any]:
    """Raises ``LimitError`` where ``effort`` is a request's and its time runs out."""
    part = rows.with_suffix(f".{uuid.uuid4().hex[:8]}")
    with ExitStack() as stack:
        old, new = (stack.enter_context(as_given(entry)) for entry in (before, after))
        one, other = ({n: stack.enter_context(as_file(e.id)) for n, e in side.items()} for side in beside)
        worker = stack.enter_context(_reader_for(before, after))
        sides = (old_name, old), (new_name, new)
        try:
            in_request = effort == "request"
            found = worker.compare(
                *sides,
                rules_text=rules.source,
                kind=kind,
                rows=part,
                tick=tick,
                beside=(one, other),
                seconds=_REQUEST_SECONDS if in_request else WHOLE_SECONDS,
                patient=not in_request,
            )
            kept_rows.take_in(part, rows)
        finally:
            for file in kept_rows.files_at(part):
                file.unlink(missing_ok=True)
    return found


def outline_of(path: str, entry: Entry, rules: Rules) -> dict[str, Any]:
    """The outline of one content under its name."""
    if entry.size > READ_LIMIT_BYTES:
        return {
            "kind": "opaque",
            "format": "",
            "read_as": "bytes",
            "note": "too large to be outlined",
            "parts": [],
            "size": entry.size,
            "truncated": False,
        }
    with as_given(entry) as file, reader() as worker:
        return worker.outline(path, file, rules_text=rules.source)


def text_of(entry: Entry, encoding: str | None, *, limit: int = 2 * 1024 * 1024) -> dict[str, Any]:
    """The beginning of a content as text, in a found or chosen encoding; raises ``UnreadableError`` for bytes."""
    if entry.type == "whole":
        raise InvalidError(
            f"{entry.name} is a folder kept whole, and no text",
            code="artifact.whole",
            hint="Download it, or see its outline.",
        )
    data = b"".join(get_store().iter_range(entry.id, 0, limit))
    if len(data) < entry.size and (end := data.rfind(b"\n")) > 0:
        data = data[: end + 1]
    decoded = decode(data, encoding)
    return {
        "text": decoded.text,
        "encoding": decoded.encoding,
        "newline": decoded.newline,
        "truncated": len(data) < entry.size,
        "size": entry.size,
    }


def describe_commit(commit: Any) -> None:
    """Write into each version a commit made what it changed against the version before (the work of a job)."""
    commit.versions.filter(number=1).update(effect="alters", headline="first version")
    versions = commit.versions.filter(content__gt="", headline="").select_related("artifact", "shelf")
    rules = rules_at(commit.root)
    for version in versions[:_MOST_DESCRIBED]:
        previous = (
            ArtifactVersion.objects.filter(artifact=version.artifact, id__lt=version.pk, content__gt="")
            .order_by("-id")
            .first()
        )
        version.effect, version.headline = _described(version, previous, rules)
        version.save(update_fields=["effect", "headline"])


def _described(version: ArtifactVersion, previous: ArtifactVersion | None, rules: Rules) -> tuple[str, str]:
    if previous is None:
        return "alters", "first version"
    before, after = entry_of(previous), entry_of(version)
    if before.id == after.id:
        return "alters", f"moved from {previous.path}" if previous.path != version.path else "same content again"
    if version.kind == "dataset" and min(before.size, after.size) >= FINGERPRINT_BYTES:
        for path, entry in ((previous.path, before), (version.path, after)):
            fingerprint_at(path, entry, rules, make=True)
    try:
        found = compare_contents(previous.path, before, version.path, after, rules, "job")
    except InvalidError as error:
        return "alters", error.message[:300]
    assert found is not None
    return effect_of(found) or ("cosmetic" if is_judged(found) else ""), headline(found)[:300]
