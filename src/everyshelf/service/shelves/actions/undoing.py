"""Undoing one commit while what came later stays.

It is a merge in which the commit is the base and the state before it the source, so that an artifact that was changed
since loses only what the commit did to it.
"""

from __future__ import annotations

from dataclasses import replace

from everyshelf.core.answers.commits import Undoing
from everyshelf.core.errors import InvalidError
from everyshelf.core.history.trees import Change
from everyshelf.core.merge.model import Side
from everyshelf.service.base.context import get_trees
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.merge_plan import MergeRequest, plan_merge
from everyshelf.service.shelves.actions.merging import prepare_merge_or_wait
from everyshelf.service.shelves.actions.moves import recorded_moves
from everyshelf.service.shelves.actions.recording import CommitMessage, checked_message, may_commit, require_branch
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import Branch, Commit, Shelf

LABEL = "undoes"
_MOST_LISTED = 200


def look_at_undoing(caller: Caller, shelf: Shelf, branch_name: str, commit: Commit) -> Undoing:
    """What undoing a commit would do on a branch now; nothing is written."""
    branch = get_branch(shelf, branch_name)
    request = _request(shelf, branch, commit)
    plan = plan_merge(caller.person, shelf, request, branch.head)
    trees = get_trees()
    wanted = {c.path: _content(c) for c in trees.changes(request.base_root, request.source_root)}
    since = {c.path: _content(c) for c in trees.changes(request.base_root, plan.target_root)}
    both = {a.path for a in plan.artifacts}
    already = [path for path, content in wanted.items() if path in since and since[path] == content]
    back = sorted(wanted.keys() - both - set(already))
    combined = sorted(a.path for a in plan.artifacts if not a.open and a.result != a.target)
    already += [a.path for a in plan.artifacts if not a.open and a.result == a.target]
    assert branch.head is not None
    return Undoing(
        commit=commit.uid,
        branch=branch.name,
        head=branch.head.uid,
        allowed=may_commit(caller, shelf, branch),
        back_count=len(back),
        back=back[:_MOST_LISTED],
        combined_count=len(combined),
        combined=combined[:_MOST_LISTED],
        already=len(already),
        open=plan.open[:_MOST_LISTED],
        open_count=plan.open_count,
    )


def undo(
    caller: Caller, shelf: Shelf, branch_name: str, commit: Commit, message: CommitMessage, prefer: Side | None
) -> Commit:
    """Undo on a branch what a commit changed, as a new commit with the label ``undoes``.

    Raises ``MergeConflictError`` where what it changed was changed again since; the merge waits until that is settled.
    """
    branch = get_branch(shelf, branch_name)
    require_branch(caller, shelf, branch)
    request = _request(shelf, branch, commit)
    checked = checked_message(caller, message)
    labelled = replace(checked, labels={**checked.labels, LABEL: commit.uid[:12]})
    prepared, plan = prepare_merge_or_wait(caller, shelf, branch, request, labelled, prefer)
    if prepared is None or plan.root == plan.target_root:
        raise InvalidError(
            f"nothing of commit {commit.uid[:8]} is left on {branch.name} to undo",
            code="commit.empty",
            hint=f"See what it changed: everyshelf history --commit {commit.uid[:8]}",
        )
    return prepared.record()


def _request(shelf: Shelf, branch: Branch, commit: Commit) -> MergeRequest:
    """The merge that undoes the commit: from its state to the one of its first parent."""
    if branch.head is None or commit.pk not in lineage_of(shelf).ancestors(branch.head.pk):
        raise InvalidError(
            f"commit {commit.uid[:8]} is not part of {branch.name}, so it cannot be undone there",
            code="undo.elsewhere",
            hint="Choose a branch that has it: --into BRANCH",
        )
    link = commit.parent_links.select_related("parent").order_by("position").first()
    before = link.parent if link is not None else None
    root = before.root if before is not None else get_trees().empty
    changes = list(get_trees().changes(root, commit.root))
    moves = [(new, old) for old, new in recorded_moves(shelf, before, commit, changes).items()]
    return MergeRequest(
        commit.root, root, commit, None, moves, target=branch.name, source=f"the state before {commit.uid[:8]}"
    )


def _content(change: Change) -> str | None:
    return change.after.id if change.after is not None else None
