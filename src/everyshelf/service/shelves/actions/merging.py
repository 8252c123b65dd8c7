"""Merging branches, and merges that wait until their conflicts are settled."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from datetime import datetime
from typing import Any

from django.utils import timezone

from everyshelf.core.answers.merges import ArtifactMerge
from everyshelf.core.errors import ConflictError, InvalidError, MissingError, RefusedError
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.merge.model import TAKES, Side, SideNames
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_trees
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.branches import delete_branch
from everyshelf.service.shelves.actions.by_hand import ByHand
from everyshelf.service.shelves.actions.contents import get_size
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.merge_plan import Decided, MergeRequest, Plan, plan_merge
from everyshelf.service.shelves.actions.recording import (
    CommitMessage,
    PreparedCommit,
    checked_message,
    prepare_commit,
    require_branch,
    rules_at,
)
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import Branch, Commit, Merge, Shelf

_TOLD = 1


class MergeConflictError(ConflictError):
    """Something is to be settled; ``facts["merge"]`` names the merge that waits, ``facts["conflicts"]`` what."""

    code = "merge.conflict"
    keeps = True  # the merge it names
    hint = "Settle them: everyshelf settle"

    def __init__(self, merge: Merge, plan: Plan) -> None:
        told = [c.why for a in plan.open for c in a.conflicts if c.decision is None]
        more = f" (and {len(told) - _TOLD} more)" if len(told) > _TOLD else ""
        super().__init__(
            f"{plan.open_count} conflict{'s' if plan.open_count != 1 else ''} to settle: "
            + "; ".join(told[:_TOLD])
            + more,
            merge=merge.uid,
            conflicts=[{"path": a.path, "base": a.base, "target": a.target, "source": a.source} for a in plan.open],
        )


def keep_merge(caller: Caller, shelf: Shelf, target: str, request: MergeRequest, message: CommitMessage) -> Merge:
    """Keep a merge on the server until it is settled; one that waits for the same already is taken up again."""
    with one_act():
        return _known_merge(shelf, target, request) or _new_merge(caller, shelf, target, request, message)


def _known_merge(shelf: Shelf, target: str, request: MergeRequest) -> Merge | None:
    return Merge.objects.filter(
        shelf=shelf, target=target, state="open", base_root=request.base_root, source_root=request.source_root
    ).first()


def _new_merge(caller: Caller, shelf: Shelf, target: str, request: MergeRequest, message: CommitMessage) -> Merge:
    waiting = Merge.objects.create(
        uid=uuid.uuid4().hex[:12],
        shelf=shelf,
        target=target,
        source=request.source,
        base_root=request.base_root,
        base_commit=request.base_commit,
        source_root=request.source_root,
        source_commit=request.source_commit,
        delete_source=request.delete_source,
        moves=[list(m) for m in request.moves],
        message={
            **asdict(_unclaimed(caller, message)),
            "time": message.time.isoformat() if message.time else None,
        },
        created=timezone.now(),
        created_by=caller.person,
    )
    note(caller, "merge.waiting", f"{request.source} into {target}", shelf, merge=waiting.uid)
    return waiting


def get_merge(shelf: Shelf, uid: str) -> Merge:
    """A merge by its id; raises ``MissingError``."""
    found = Merge.objects.filter(shelf=shelf, uid=uid).select_related("source_commit", "base_commit").first()
    if found is None:
        raise MissingError(
            f"there is no merge {uid[:20]!r} here", code="merge.missing", hint="List them: everyshelf settle"
        )
    return found


def list_merges(shelf: Shelf) -> list[dict[str, Any]]:
    """Merges that wait, newest first."""
    rows = Merge.objects.filter(shelf=shelf, state="open").select_related("created_by").order_by("-id")
    return [merge_json(row) for row in rows]


def merge_json(merge: Merge) -> dict[str, Any]:
    """A merge without its artifacts."""
    return {
        "id": merge.uid,
        "target": merge.target,
        "source": merge.source,
        "state": merge.state,
        "summary": merge.message.get("summary", ""),
        "delete_source": merge.delete_source,
        "created": merge.created,
        "created_by": merge.created_by.username,
        "decided": sum(len(found) for found in merge.decisions.values()),
        "commit": merge.finished.uid if merge.finished else None,
    }


def merge_detail(merge: Merge) -> dict[str, Any]:
    """A merge with every artifact both sides changed, its conflicts and what was decided."""
    plan = _plan_of(merge)
    for artifact in plan.artifacts:
        for conflict in artifact.conflicts:
            decided = merge.decisions.get(artifact.path, {}).get(conflict.id)
            if decided and conflict.decision is not None:
                conflict.decision.by = decided.get("by", "")
    return {**merge_json(merge), "open": plan.open_count, "artifacts": plan.artifacts}


def result_of(merge: Merge, path: str) -> tuple[str, Entry, Entry, Rules] | None:
    """An artifact as the target has it and as it becomes, with the rules in force; None while something is open."""
    if merge.state != "open":
        return None
    branch = get_branch(merge.shelf, merge.target)
    found = next((a for a in _plan_of(merge).artifacts if a.path == path), None)
    if found is None or found.result is None or found.target is None:
        return None
    before, result = (Entry(path, "artifact", i, get_size(merge.shelf, i)) for i in (found.target, found.result))
    return path, before, result, rules_at(branch.head.root if branch.head else get_trees().empty)


def _plan_of(merge: Merge) -> Plan:
    branch = get_branch(merge.shelf, merge.target)
    return plan_merge(merge.created_by, merge.shelf, _request_of(merge), branch.head, merge.decisions)


def _request_of(merge: Merge) -> MergeRequest:
    return MergeRequest(
        merge.base_root,
        merge.source_root,
        merge.base_commit,
        merge.source_commit,
        [(old, new) for old, new in merge.moves],
        merge.target,
        merge.source,
        merge.delete_source,
    )


@dataclass(frozen=True)
class Settling:
    """How a conflict is settled: of one artifact by its id, of all its open ones, or of the whole merge.

    ``path`` None: all artifacts; ``conflict`` None: all that is open there. ``content``: a whole artifact that was put
    together elsewhere.
    """

    path: str | None
    conflict: str | None
    take: str | None
    value: Any = None
    content: str = ""


def settle(caller: Caller, merge: Merge, wanted: list[Settling]) -> Merge:
    """Note how conflicts are settled; ``take`` None takes a decision back."""
    require_branch(caller, merge.shelf, get_branch(merge.shelf, merge.target))
    _check_open(merge)
    plan = _plan_of(merge)
    by_path = {a.path: a for a in plan.artifacts}
    checked = {
        one.path: _check_content(merge, by_path, one.path, one.content) for one in wanted if one.path and one.content
    }
    with one_act():
        # Read again: somebody else may have settled something while this was planned.
        merge.refresh_from_db(fields=["decisions", "state"])
        _check_open(merge)
        decisions: dict[str, dict[str, Any]] = {p: dict(found) for p, found in merge.decisions.items()}
        for one in wanted:
            _note(caller, merge, one, by_path, decisions, checked)
        merge.decisions = {path: found for path, found in decisions.items() if found}
        merge.save(update_fields=["decisions"])
        note(caller, "merge.settled", f"{merge.source} into {merge.target}", merge.shelf, merge=merge.uid)
    return merge


def so_far(merge: Merge, path: str) -> str | None:
    """The content of an artifact with all that is merged and settled by now; None if it is gone on the target."""
    _check_open(merge)
    found = next((a for a in _plan_of(merge).artifacts if a.path == path), None)
    if found is None:
        raise _nothing_to_settle(path)
    entry = _by_hand(merge, found).so_far()
    return entry.id if entry is not None else None


def _check_content(merge: Merge, artifacts: dict[str, ArtifactMerge], path: str, content: str) -> list[str | None]:
    """Return of which three versions a content was put together, if it may take the place of the artifact."""
    if path not in artifacts:
        raise _nothing_to_settle(path)
    get_size(merge.shelf, content)
    found = _by_hand(merge, artifacts[path])
    found.require_held(content)
    return found.of


def _by_hand(merge: Merge, artifact: ArtifactMerge) -> ByHand:
    branch = get_branch(merge.shelf, merge.target)
    return ByHand(merge.shelf, _request_of(merge), branch.head, merge.decisions, artifact)


def _nothing_to_settle(path: str) -> InvalidError:
    return InvalidError(
        f"{path} has nothing to settle", code="settle.artifact", hint="See everyshelf settle for what has."
    )


def _note(
    caller: Caller,
    merge: Merge,
    one: Settling,
    artifacts: dict[str, ArtifactMerge],
    decisions: dict[str, dict[str, Any]],
    checked: dict[str, list[str | None]],
) -> None:
    if one.path is not None and one.path not in artifacts:
        raise _nothing_to_settle(one.path)
    paths = [one.path] if one.path is not None else list(artifacts)
    by = caller.person.username
    for path in paths:
        held = decisions.setdefault(path, {})
        if one.content:
            held["/"] = {"take": "edited", "content": one.content, "by": by, "of": checked[path]}
            continue
        known = {c.id: c for c in artifacts[path].conflicts}
        names = [one.conflict] if one.conflict is not None else [i for i, c in known.items() if c.decision is None]
        for name in names:
            if name not in known:
                raise InvalidError(
                    f"{path} has no conflict {name!r}", code="settle.conflict", hint="See everyshelf settle."
                )
            if one.take is None:
                held.pop(name, None)
                continue
            if one.take not in TAKES or one.take not in known[name].options:
                options = ", ".join(known[name].options) or "nothing"
                raise InvalidError(
                    f"{known[name].why}: it can be settled with {options}, not {one.take}", code="settle.take"
                )
            held[name] = {"take": one.take, "by": by}
            if one.take == "edited":
                held[name]["value"] = one.value


def _check_open(merge: Merge) -> None:
    if merge.state != "open":
        raise ConflictError(f"this merge is {merge.state} already", code="merge.closed", hint="Merge again.")


def finish_merge(caller: Caller, merge: Merge, summary: str = "") -> Commit:
    """Make the commit of a merge that is settled; raises ``MergeConflictError`` while it is not."""
    shelf = merge.shelf
    branch = get_branch(shelf, merge.target)
    require_branch(caller, shelf, branch)
    _check_open(merge)
    plan = _plan_of(merge)
    if plan.open:
        raise MergeConflictError(merge, plan)
    said = dict(merge.message)
    said["time"] = datetime.fromisoformat(said["time"]) if said.get("time") else None
    message = CommitMessage(**said)
    if summary:
        message = replace(message, summary=summary)
    prepared = prepare_merge(caller, shelf, branch, _request_of(merge), plan, message, merge.decisions)
    settled = merge.decisions
    with one_act():
        merge.refresh_from_db(fields=["decisions", "state"])
        _check_open(merge)
        if merge.decisions != settled:
            raise ConflictError(
                "someone changed a decision meanwhile", code="merge.changed", hint="Check them, then finish again."
            )
        commit = prepared.record()
        merge.state, merge.finished = "finished", commit
        merge.save(update_fields=["state", "finished"])
        for follow in _after_merging:
            follow(merge, commit)
        if merge.delete_source:
            delete_branch(caller, shelf, merge.source)
    return commit


_after_merging: list[Callable[[Merge, Commit], None]] = []


def after_merging(follow: Callable[[Merge, Commit], None]) -> None:
    """Register what else a finished merge brings about; it runs in the transaction that finishes it."""
    _after_merging.append(follow)


def abandon_merge(caller: Caller, merge: Merge) -> None:
    """Give a merge up: who began it may, and who may commit to its branch."""
    if merge.created_by_id != caller.person.pk:
        require_branch(caller, merge.shelf, get_branch(merge.shelf, merge.target))
    else:
        require(caller, merge.shelf, "commit")
    with one_act():
        merge.refresh_from_db(fields=["state"])
        _check_open(merge)
        merge.state = "abandoned"
        merge.save(update_fields=["state"])
        note(caller, "merge.abandoned", f"{merge.source} into {merge.target}", merge.shelf, merge=merge.uid)


# --- recording ---------------------------------------------------------------------------


def prepare_merge_or_wait(
    caller: Caller, shelf: Shelf, branch: Branch, request: MergeRequest, message: CommitMessage, prefer: Side | None
) -> tuple[PreparedCommit | None, Plan]:
    """The commit that merges into the branch; None if there is nothing to do. ``MergeConflictError`` names the merge
    that waits."""
    plan = plan_merge(caller.person, shelf, request, branch.head, prefer=prefer)
    if plan.open:
        raise MergeConflictError(keep_merge(caller, shelf, branch.name, request, message), plan)
    if plan.root == plan.target_root and request.source_commit is None:
        return None, plan
    settled = {
        a.path: {c.id: {"take": c.decision.take} for c in a.conflicts if c.decision is not None} for a in plan.artifacts
    }
    return prepare_merge(caller, shelf, branch, request, plan, message, settled), plan


def merge_or_wait(
    caller: Caller, shelf: Shelf, branch: Branch, request: MergeRequest, message: CommitMessage, prefer: Side | None
) -> tuple[Commit | None, Plan]:
    """As ``prepare_merge_or_wait``, recorded."""
    prepared, plan = prepare_merge_or_wait(caller, shelf, branch, request, message, prefer)
    return prepared.record() if prepared is not None else None, plan


def prepare_merge(
    caller: Caller,
    shelf: Shelf,
    branch: Branch,
    request: MergeRequest,
    plan: Plan,
    message: CommitMessage,
    decided: Decided,
) -> PreparedCommit:
    """The merge commit; what was decided is written into its description."""
    decisions = _decisions_told(decided, plan, request.names)
    if decisions:
        message = replace(message, description=f"{message.description}\n\n{decisions}".strip())
    parents = [c for c in (branch.head, request.source_commit) if c is not None]
    moves = {**dict(request.moves), **plan.moves}
    trees = get_trees()
    kept = [(old, new) for old, new in moves.items() if trees.find(plan.root, new) and not trees.find(plan.root, old)]
    checked = checked_message(caller, _unclaimed(caller, message))
    return prepare_commit(caller, shelf, branch, parents, plan.root, checked, kept)


def _unclaimed(caller: Caller, message: CommitMessage) -> CommitMessage:
    """Without an author that nobody claimed: whoever asks is it anyway."""
    return replace(message, author=None) if message.author == caller.person.username else message


def _decisions_told(decided: Decided, plan: Plan, names: SideNames) -> str:
    lines = []
    for artifact in plan.artifacts:
        for conflict in artifact.conflicts:
            said = decided.get(artifact.path, {}).get(conflict.id)
            if said:
                how = {"target": names.target, "source": names.source, "both": "both", "edited": "edited"}[said["take"]]
                by = f", by {said['by']}" if said.get("by") else ""
                lines.append(f"- {artifact.path}: {conflict.why} — settled: {how}{by}")
    return "\n".join(["Settled:", *lines]) if lines else ""


@dataclass(frozen=True)
class PreparedMerge:
    """A merge of two branches that only is to be recorded."""

    caller: Caller
    shelf: Shelf
    source: str
    base: Commit | None
    plan: Plan | None
    commit: PreparedCommit | None
    delete_source: bool

    def record(self) -> dict[str, Any]:
        """Write it, and delete the source if wanted, in one transaction.

        Returns commit (None if there was nothing to merge), base, the number of artifacts taken over, and how many of
        them both sides had changed.
        """
        with one_act():
            commit = self.commit.record() if self.commit is not None else None
            if self.delete_source:
                delete_branch(self.caller, self.shelf, self.source)
        return {
            "commit": commit.uid if commit else None,
            "base": self.base.uid if self.base else None,
            "taken": self.plan.taken if self.plan else 0,
            "combined": len(self.plan.artifacts) if self.plan else 0,
        }


def prepare_branch_merge(
    caller: Caller,
    shelf: Shelf,
    source: str,
    target: str,
    message: CommitMessage,
    prefer: Side | None,
    *,
    delete_source: bool,
) -> PreparedMerge:
    """Work out what merging branch ``source`` into ``target`` gives; with ``drop`` the source is dropped in the same
    act. Raises ``MergeConflictError`` for what is to be settled first."""
    into, merged_in = get_branch(shelf, target), get_branch(shelf, source)
    require_branch(caller, shelf, into)
    if delete_source and (merged_in.guarded or merged_in.name == shelf.main_branch):
        raise RefusedError(f"{source} cannot be deleted", code="branch.guarded", hint="Merge without --delete.")
    request = replace(request_between(shelf, into, merged_in), delete_source=delete_source)
    base = request.base_commit
    commit, plan = None, None
    if base is None or base.pk != merged_in.head_id:
        commit, plan = prepare_merge_or_wait(caller, shelf, into, request, checked_message(caller, message), prefer)
    return PreparedMerge(caller, shelf, source, base, plan, commit, delete_source)


def merge_branch(
    caller: Caller,
    shelf: Shelf,
    source: str,
    target: str,
    message: CommitMessage,
    prefer: Side | None,
    *,
    delete_source: bool,
    reason: str = "",
) -> dict[str, Any]:
    """Merge branch ``source`` into ``target``. ``reason``: why, where something asks for one first."""
    require_branch(caller, shelf, get_branch(shelf, target))
    passed = [said for ask in _before_merging if (said := ask(shelf, source, target))]
    if passed and not reason.strip():
        raise RefusedError(
            f"{passed[0]}: merging past it needs a reason",
            code="merge.proposed",
            hint="Merge the proposal instead, or give a reason: --anyway --reason TEXT",
        )
    if passed:
        told = "\n".join(f"Merged past it, {said}: {reason.strip()}" for said in passed)
        message = replace(message, description=f"{message.description}\n\n{told}".strip())
    prepared = prepare_branch_merge(caller, shelf, source, target, message, prefer, delete_source=delete_source)
    with one_act():
        if passed:
            note(caller, "proposal.passed", f"{source} into {target}", shelf, reason=reason.strip())
        return prepared.record()


_before_merging: list[Callable[[Shelf, str, str], str]] = []


def before_merging(ask: Callable[[Shelf, str, str], str]) -> None:
    """Register what may ask for a reason before ``source`` is merged into ``target``: it gives what stands in the way,
    or nothing."""
    _before_merging.append(ask)


def request_between(shelf: Shelf, target: Branch, source: Branch) -> MergeRequest:
    """The request to merge all of one branch into another."""
    if source.head is None:
        raise InvalidError(f"{source.name} has no commit to merge", code="merge.empty")
    found = lineage_of(shelf).base(target.head.pk, source.head.pk) if target.head else None
    base = Commit.objects.get(pk=found) if found else None
    root = base.root if base else get_trees().empty
    return MergeRequest(root, source.head.root, base, source.head, [], target.name, source.name)
