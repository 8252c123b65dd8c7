"""What merging two states of a shelf gives: worked out artifact by artifact, each kept for the next time."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import orjson

from everyshelf.core.answers.base import as_builtins
from everyshelf.core.answers.merges import ArtifactMerge, ConflictAnswer, DecisionAnswer, MergeAnswer, Take
from everyshelf.core.errors import LimitError
from everyshelf.core.history.merging import Combined, Trio, merge_trees
from everyshelf.core.history.trees import Change, Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.merge.model import Decision, Side, SideNames
from everyshelf.decoding import converted
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
_MERGER_VERSION = 3

# path -> conflict id -> {"take", "value", "by"}
Decided = Mapping[str, Mapping[str, Mapping[str, Any]]]


@dataclass(frozen=True)
class Plan:
    """What a merge gives on top of a branch's head: the new root, or what is to be settled before."""

    root: str
    target_root: str
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
        return sum(1 for a in self.open for c in a.conflicts if c.decision is None)


@dataclass(frozen=True)
class MergeRequest:
    """What is to be merged into the branch ``target``: the state to merge in, and the one both grew from.

    ``source`` is a branch, or words for what is not a branch ("a commit of maren").
    """

    base_root: str
    source_root: str
    base_commit: Commit | None = None
    source_commit: Commit | None = None
    moves: list[tuple[str, str]] = field(default_factory=list)
    target: str = ""
    source: str = ""
    delete_source: bool = False

    @property
    def names(self) -> SideNames:
        """What both sides are called in sentences."""
        of_branch = self.source_commit is not None
        return SideNames(f"on {self.target}", f"{'on' if of_branch else 'in'} {self.source}")


def plan_merge(
    person: Any,
    shelf: Shelf,
    request: MergeRequest,
    target: Commit | None,
    decided: Decided | None = None,
    prefer: Side | None = None,
    *,
    progress: Progress | None = None,
) -> Plan:
    """What merging gives on top of the commit ``target``; no commit is made.

    What takes longer than an answer may is left to a job of ``person``: raises ``MergeReadingError`` then. With
    ``progress`` it is worked out here, however long it takes.
    """
    trees = get_trees()
    target_root = target.root if target is not None else trees.empty
    on_target: list[Change] = list(trees.changes(request.base_root, target_root))
    on_source: list[Change] = list(trees.changes(request.base_root, request.source_root))
    recorded = (
        recorded_moves(shelf, request.base_commit, target, on_target),
        {**recorded_moves(shelf, request.base_commit, request.source_commit, on_source), **dict(request.moves)},
    )
    pace = Pace(total=len({c.path for c in on_target} & {c.path for c in on_source}), progress=progress)
    combine = Combining(shelf, target_root, decided or {}, prefer, request.names, pace)
    merged = merge_trees(trees, request.base_root, target_root, request.source_root, combine, recorded)
    pace.finish(person, shelf, _as_parameters(request, target, decided or {}, prefer))
    told = {conflict.path for conflict in merged.conflicts}
    artifacts = [_artifact(trio, found) for trio, found in merged.artifacts]
    known = {a.path for a in artifacts}
    artifacts += [_shadowed(c.path, c.base, c.target, c.source) for c in merged.conflicts if c.path not in known]
    root = marked(target_root, trees.apply(target_root, merged.changes)) if not told else target_root
    return Plan(root, target_root, len(merged.changes), merged.moves, artifacts)


def _as_parameters(
    request: MergeRequest, target: Commit | None, decided: Decided, prefer: Side | None
) -> dict[str, Any]:
    return {
        "base_root": request.base_root,
        "source_root": request.source_root,
        "base": request.base_commit.uid if request.base_commit else None,
        "source": request.source_commit.uid if request.source_commit else None,
        "moves": [list(m) for m in request.moves],
        "target": target.uid if target else None,
        "decided": {path: dict(found) for path, found in decided.items()},
        "prefer": prefer,
        "names": [request.target, request.source],
    }


def work_out(run: Run) -> dict[str, Any]:
    """A merge somebody waits for, artifact by artifact; each is kept, so that a restart goes on where it was."""
    given, shelf = run.parameters, run.shelf
    commits = {
        name: Commit.objects.filter(shelf=shelf, uid=given[name]).first() for name in ("base", "source", "target")
    }
    moves = [(old, new) for old, new in given["moves"]]
    called = given["names"]
    request = MergeRequest(given["base_root"], given["source_root"], commits["base"], commits["source"], moves, *called)
    decided, prefer = given["decided"], given["prefer"]
    plan = plan_merge(run.job.person, shelf, request, commits["target"], decided, prefer, progress=run.progress)
    return {"artifacts": len(plan.artifacts), "open": plan.open_count}


def _artifact(trio: Trio, found: Combined) -> ArtifactMerge:
    base, target, source = (e.id if e is not None else None for e in (trio.base, trio.target, trio.source))
    return ArtifactMerge(
        path=trio.path,
        kind=found.kind,
        base=base,
        target=target,
        source=source,
        open=found.open,
        conflicts=found.conflicts,
        notes=found.notes,
        combined=found.combined,
        result=found.entry.id if found.entry is not None and not found.open else None,
    )


def _shadowed(path: str, base: str | None, target: str | None, source: str | None) -> ArtifactMerge:
    why = f"artifact “{path}”: a file on one side, a folder of the same name on the other"
    return ArtifactMerge(
        path=path,
        kind="",
        base=base,
        target=target,
        source=source,
        open=True,
        conflicts=[_whole_conflict(path, why, [])],
        notes=["move one of them, then merge again"],
        combined=0,
        result=None,
    )


def _whole_conflict(path: str, why: str, options: list[Take]) -> ConflictAnswer:
    return ConflictAnswer(id="/", part="/", type="artifact", label=path, field=None, why=why, options=options)


def _is_of(decision: Mapping[str, Any], trio: Trio) -> bool:
    """Whether an artifact was put together from these three versions. Of others it would lack what changed since."""
    of = [e.id if e is not None else None for e in (trio.base, trio.target, trio.source)]
    return bool(decision.get("of", of) == of)


# --- one artifact -------------------------------------------------------------------


@dataclass(frozen=True)
class Combining:
    """Merges one artifact after the other, as ``merge_trees`` asks for it."""

    shelf: Shelf
    target_root: str
    decided: Decided
    prefer: Side | None
    names: SideNames
    pace: Pace

    @cached_property
    def _rules(self) -> Rules:
        return rules_at(self.target_root)

    def __call__(self, trio: Trio) -> Combined:
        decisions = self.decided.get(trio.path, {})
        whole = decisions.get("/", {})
        if not _is_of(whole, trio):
            whole = {}
        if whole.get("take") == "edited" and whole.get("content"):
            content = str(whole["content"])
            entry = Entry(trio.path.rpartition("/")[2], "artifact", content, get_size(self.shelf, content))
            return Combined(entry, False, [self._whole(trio, whole)], kind="")
        if any(e is None or e.type != "artifact" for e in (trio.base, trio.target, trio.source)):
            return self._one_side(trio, whole)
        merged = self.merged_contents(trio, decisions)
        if merged is None:
            return Combined(trio.target)
        answer, content, size = merged
        made = Entry(trio.path.rpartition("/")[2], "artifact", content, size) if content else trio.target
        return Combined(made, not answer.merged, answer.conflicts, answer.notes, answer.combined, answer.kind)

    def _one_side(self, trio: Trio, given: Mapping[str, Any]) -> Combined:
        """One side removed it, or both added it, or one has a folder: only one state can be taken."""
        conflict = self._whole(trio, given)
        take = conflict.decision.take if conflict.decision is not None else None
        return Combined(trio.source if take == "source" else trio.target, take is None, [conflict])

    def _whole(self, trio: Trio, given: Mapping[str, Any]) -> ConflictAnswer:
        on_target, on_source = self.names.target, self.names.source
        if trio.base is None:
            why = "added on both sides with different content"
        elif trio.target is None:
            why = f"removed {on_target}, changed {on_source}"
        elif trio.source is None:
            why = f"changed {on_target}, removed {on_source}"
        else:
            why = f"changed {on_target} and {on_source}; only one change can be kept"
        conflict = _whole_conflict(trio.path, f"artifact “{trio.path}”: {why}", ["target", "source"])
        for side in ("base", "target", "source"):
            entry: Entry | None = getattr(trio, side)
            if entry is not None:
                setattr(conflict, side, f"{entry.size:,} bytes")
        take = given.get("take") or self.prefer
        if take:
            conflict.decision = DecisionAnswer(take=take)
        return conflict

    def merged_contents(
        self, trio: Trio, decisions: Mapping[str, Mapping[str, Any]]
    ) -> tuple[MergeAnswer, str, int] | None:
        """The answer, and the content it gave ("" while something is to be settled); kept for the next time. None if
        that is left to a job."""
        assert trio.base is not None and trio.target is not None and trio.source is not None
        plain = {n: {"take": d["take"], "value": d.get("value")} for n, d in decisions.items() if "content" not in d}
        ids = trio.base.id, trio.target.id, trio.source.id
        rules_text, kind = self._rules.source, self._rules.kind_for(trio.path)
        called = [self.names.target, self.names.source]
        basis = [_MERGER_VERSION, ids, trio.path, rules_text, kind, self.prefer, called, plain, self.shelf.pk]
        key = hashlib.sha256(orjson.dumps(basis, option=orjson.OPT_SORT_KEYS)).hexdigest()
        known = MergedContent.objects.filter(key=key).first()
        if known is not None:
            return converted(known.answer, MergeAnswer), known.content, known.size
        if not self.pace.may_run(trio):
            return None
        try:
            settled = {name: Decision(d["take"], d["value"]) for name, d in plain.items()}
            answer, content, size = self._read(trio, rules_text, kind, settled)
        except LimitError:
            self.pace.left += 1  # a job has the time it takes
            return None
        with aside():
            # The same merge in parallel gives the same.
            row = MergedContent(key=key, answer=as_builtins(answer), content=content, size=size)
            MergedContent.objects.bulk_create([row], ignore_conflicts=True)
        return answer, content, size

    def _read(
        self, trio: Trio, rules_text: str, kind: str | None, decisions: Mapping[str, Decision]
    ) -> tuple[MergeAnswer, str, int]:
        """Merge in a reading process and store the result. Raises ``LimitError`` in a request that takes long."""
        assert trio.base is not None and trio.target is not None and trio.source is not None
        ids = trio.base.id, trio.target.id, trio.source.id
        with TemporaryDirectory(dir=get_config().scratch, prefix="merge-") as folder:
            output = Path(folder, "merged")
            with as_file(ids[0]) as base, as_file(ids[1]) as target, as_file(ids[2]) as source, reader() as worker:
                answer = worker.merge(
                    trio.path,
                    (base, target, source),
                    output,
                    rules=rules_text,
                    kind=kind,
                    prefer=self.prefer,
                    decisions=decisions,
                    names=self.names,
                    seconds=self.pace.seconds,
                    patient=self.pace.is_job,
                )
            content, size = "", 0
            if answer.merged:
                with output.open("rb") as file:
                    info = take_in(self.shelf, iter(lambda: file.read(1 << 20), b""), None)
                content, size = info.id, info.size
        return answer, content, size
