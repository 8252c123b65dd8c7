"""What merging two states of a shelf gives: worked out artifact by artifact, each kept for the next time."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import orjson

from everyshelf.core.history import Entry
from everyshelf.core.history.merging import Combine, Combined, Trio, merge_trees
from everyshelf.core.history.trees import Change
from everyshelf.core.merge import Side
from everyshelf.service.base.acts import aside
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_trees, reader
from everyshelf.service.jobs.actions import Run
from everyshelf.service.shelves.actions.contents import as_file, get_size, take_in
from everyshelf.service.shelves.actions.merge_pace import Pace, Progress
from everyshelf.service.shelves.actions.moves import recorded_moves
from everyshelf.service.shelves.actions.recording import marked, rules_at
from everyshelf.service.shelves.models import Commit, MergedContent, Shelf

# Raised when the same three contents would be merged otherwise.
_MERGER_VERSION = 1

# path -> conflict id -> {"take", "value", "by"}
Decided = Mapping[str, Mapping[str, Mapping[str, Any]]]


@dataclass(frozen=True)
class ArtifactMerge:
    """One artifact both sides changed: contents (None: not there), and what came of it (``result``)."""

    path: str
    kind: str
    base: str | None
    this: str | None
    other: str | None
    open: bool
    conflicts: list[dict[str, Any]]
    notes: list[str]
    combined: int
    result: str | None = None


@dataclass(frozen=True)
class Plan:
    """What a merge gives on top of a branch's head: the new root, or what is to be settled before."""

    root: str
    this_root: str
    taken: int
    moves: dict[str, str]
    artifacts: list[ArtifactMerge]

    @property
    def open(self) -> list[ArtifactMerge]:
        """Artifacts with something to settle."""
        return [a for a in self.artifacts if a.open]

    @property
    def open_count(self) -> int:
        """Conflicts nobody has settled."""
        return sum(1 for a in self.open for c in a.conflicts if "decision" not in c)


@dataclass(frozen=True)
class Wish:
    """What is to be merged into a branch: the state to bring in, and the one both grew from."""

    base_root: str
    other_root: str
    base_commit: Commit | None = None
    other_commit: Commit | None = None
    moves: list[tuple[str, str]] = field(default_factory=list)
    source: str = ""
    drop: bool = False


def plan_merge(
    person: Any,
    shelf: Shelf,
    wish: Wish,
    this: Commit | None,
    decided: Decided | None = None,
    prefer: Side | None = None,
    *,
    progress: Progress | None = None,
) -> Plan:
    """What merging gives on top of ``this``; no commit is made.

    What takes longer than an answer may is left to a job of ``person``: raises ``MergeReadingError`` then. With
    ``progress`` it is worked out here, however long it takes.
    """
    trees = get_trees()
    this_root = this.root if this is not None else trees.empty
    ours: list[Change] = list(trees.changes(wish.base_root, this_root))
    theirs: list[Change] = list(trees.changes(wish.base_root, wish.other_root))
    recorded = (
        recorded_moves(shelf, wish.base_commit, this, ours),
        {**recorded_moves(shelf, wish.base_commit, wish.other_commit, theirs), **dict(wish.moves)},
    )
    pace = Pace(total=len({c.path for c in ours} & {c.path for c in theirs}), progress=progress)
    combine = _combine_by_meaning(shelf, this_root, decided or {}, prefer, pace)
    merged = merge_trees(trees, wish.base_root, this_root, wish.other_root, combine, recorded)
    pace.finish(person, shelf, _as_parameters(wish, this, decided or {}, prefer))
    told = {conflict.path for conflict in merged.conflicts}
    artifacts = [_told(trio, found) for trio, found in merged.artifacts]
    known = {a.path for a in artifacts}
    artifacts += [_shadowed(c.path, c.base, c.this, c.other) for c in merged.conflicts if c.path not in known]
    root = marked(this_root, trees.apply(this_root, merged.changes)) if not told else this_root
    return Plan(root, this_root, len(merged.changes), merged.moves, artifacts)


def _as_parameters(wish: Wish, this: Commit | None, decided: Decided, prefer: Side | None) -> dict[str, Any]:
    return {
        "base_root": wish.base_root,
        "other_root": wish.other_root,
        "base": wish.base_commit.uid if wish.base_commit else None,
        "other": wish.other_commit.uid if wish.other_commit else None,
        "moves": [list(m) for m in wish.moves],
        "this": this.uid if this else None,
        "decided": {path: dict(found) for path, found in decided.items()},
        "prefer": prefer,
    }


def work_out(run: Run) -> dict[str, Any]:
    """A merge somebody waits for, artifact by artifact; each is kept, so that a restart goes on where it was."""
    given, shelf = run.parameters, run.job.shelf
    commits = {name: Commit.objects.filter(shelf=shelf, uid=given[name]).first() for name in ("base", "other", "this")}
    moves = [(old, new) for old, new in given["moves"]]
    wish = Wish(given["base_root"], given["other_root"], commits["base"], commits["other"], moves)
    decided, prefer = given["decided"], given["prefer"]
    plan = plan_merge(run.job.person, shelf, wish, commits["this"], decided, prefer, progress=run.progress)
    return {"artifacts": len(plan.artifacts), "open": plan.open_count}


def _told(trio: Trio, found: Combined) -> ArtifactMerge:
    base, this, other = (e.id if e is not None else None for e in (trio.base, trio.this, trio.other))
    result = found.entry.id if found.entry is not None and not found.open else None
    told = found.conflicts, found.notes, found.combined, result
    return ArtifactMerge(trio.path, found.kind, base, this, other, found.open, *told)


def _shadowed(path: str, base: str | None, this: str | None, other: str | None) -> ArtifactMerge:
    why = f"artifact “{path}”: one side has a file where the other has a folder of that name"
    conflict = {"id": "/", "part": "/", "type": "artifact", "label": path, "field": None, "why": why, "options": []}
    return ArtifactMerge(path, "", base, this, other, True, [conflict], ["move one of them, then merge again"], 0)


# --- one artifact -------------------------------------------------------------------


def _combine_by_meaning(shelf: Shelf, this_root: str, decided: Decided, prefer: Side | None, pace: Pace) -> Combine:
    rules = rules_at(this_root)

    def combine(trio: Trio) -> Combined:
        decisions = decided.get(trio.path, {})
        entries = trio.base, trio.this, trio.other
        given = decisions.get("/", {})
        if given.get("take") == "edited" and given.get("content"):
            content = str(given["content"])
            entry = Entry(trio.path.rpartition("/")[2], "artifact", content, get_size(shelf, content))
            return Combined(entry, False, [_whole(trio, given, prefer)], kind="")
        if any(e is None or e.type != "artifact" for e in entries):
            return _one_or_the_other(trio, given, prefer)
        kind = rules.kind_for(trio.path)
        found = _merged_contents(shelf, trio, decisions, prefer, rules.source, kind, pace)
        if found is None:
            return Combined(trio.this)
        answer, content, size = found
        entry = Entry(trio.path.rpartition("/")[2], "artifact", content, size) if content else trio.this
        return Combined(
            entry, not answer["merged"], answer["conflicts"], answer["notes"], answer["combined"], answer["kind"]
        )

    return combine


def _one_or_the_other(trio: Trio, given: Mapping[str, Any], prefer: Side | None) -> Combined:
    """One side removed it, or both added it, or one has a folder: only one state can be taken."""
    conflict = _whole(trio, given, prefer)
    take = conflict.get("decision", {}).get("take")
    return Combined(trio.other if take == "other" else trio.this, take is None, [conflict])


def _whole(trio: Trio, given: Mapping[str, Any], prefer: Side | None) -> dict[str, Any]:
    name = trio.path
    if trio.base is None:
        why = f"artifact “{name}”: both sides added it, each with other content"
    elif trio.this is None:
        why = f"artifact “{name}”: this side removed it, the other side changed it"
    elif trio.other is None:
        why = f"artifact “{name}”: the other side removed it, this side changed it"
    else:
        why = f"artifact “{name}”: both sides changed it in ways that do not go together"
    told: dict[str, Any] = {"id": "/", "part": "/", "type": "artifact", "label": name, "field": None, "why": why}
    told["options"] = ["this", "other"]
    for side in ("base", "this", "other"):
        entry: Entry | None = getattr(trio, side)
        if entry is not None:
            told[side] = f"{entry.size:,} bytes"
    take = given.get("take") or prefer
    if take:
        told["decision"] = {"take": take}
    return told


def _merged_contents(
    shelf: Shelf,
    trio: Trio,
    decisions: Mapping[str, Mapping[str, Any]],
    prefer: Side | None,
    rules_text: str,
    kind: str | None,
    pace: Pace,
) -> tuple[dict[str, Any], str, int] | None:
    """The answer, and the content it gave ("" while something is to be settled); kept for the next time. None if that
    is left to a job."""
    assert trio.base is not None and trio.this is not None and trio.other is not None
    plain = {name: {"take": d["take"], "value": d.get("value")} for name, d in decisions.items()}
    ids = [trio.base.id, trio.this.id, trio.other.id]
    basis = [_MERGER_VERSION, ids, trio.path, rules_text, kind, prefer, plain, shelf.pk]
    key = hashlib.sha256(orjson.dumps(basis, option=orjson.OPT_SORT_KEYS)).hexdigest()
    known = MergedContent.objects.filter(key=key).first()
    if known is not None:
        return known.answer, known.content, known.size
    if not pace.may_run(trio):
        return None
    with TemporaryDirectory(dir=get_config().scratch, prefix="merge-") as folder:
        output = Path(folder, "merged")
        with as_file(ids[0]) as base, as_file(ids[1]) as this, as_file(ids[2]) as other, reader() as worker:
            answer = worker.merge(
                trio.path,
                (base, this, other),
                output,
                rules_text=rules_text,
                kind=kind,
                prefer=prefer,
                decisions=plain,
            )
        content, size = "", 0
        if answer["merged"]:
            with output.open("rb") as file:
                info = take_in(shelf, iter(lambda: file.read(1 << 20), b""), None)
            content, size = info.id, info.size
    with aside():
        # The same merge in parallel gives the same.
        row = MergedContent(key=key, answer=answer, content=content, size=size)
        MergedContent.objects.bulk_create([row], ignore_conflicts=True)
    return answer, content, size
