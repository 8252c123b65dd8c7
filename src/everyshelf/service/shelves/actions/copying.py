"""Copying an artifact from one shelf to another, as of a version, with the versions it comes from.

Each version becomes a commit of its own that holds nothing but the artifact, with the author and the time it had there.
They are made of one another as the versions were, and one commit brings them into the branch: so the artifact's history
here is what it was there, while the branch gains a single step.
"""

from __future__ import annotations

from typing import Any

from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.trees import Entry
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_trees
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.contents import hold
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.listing import entry_of, find_version, get_artifact
from everyshelf.service.shelves.actions.recording import (
    CommitMessage,
    checked_message,
    moved,
    record_commit,
    require_branch,
)
from everyshelf.service.shelves.actions.refs import get_branch, resolve
from everyshelf.service.shelves.actions.shelves import get_shelf
from everyshelf.service.shelves.actions.version_parents import parents_of
from everyshelf.service.shelves.models import ArtifactVersion, Branch, Commit, Shelf

LABEL = "copied-from"
_MOST_VERSIONS = 2000


def copy_artifact(
    caller: Caller, target: Shelf, shelf: str, path: str, version: int | None, to: str, branch: str, summary: str
) -> tuple[dict[str, Any], Commit]:
    """Copy the artifact at ``path`` of ``shelf`` into ``target``; what was done, and the commit that brought it in."""
    source = get_shelf(caller, shelf)
    line = get_branch(target, branch or target.main_branch)
    require_branch(caller, target, line)
    where = check_path(to or path)
    here = line.head.root if line.head else get_trees().empty
    if get_trees().find(here, where) is not None:
        raise ConflictError(
            f"{where} is on {line.name} already", code="copy.taken", hint="Give another path: --output PATH"
        )
    versions = _ancestry(source, path, version)
    told = f"{source.key}/{versions[-1].path} version {versions[-1].number}"
    tip = _replay(caller, source, versions, target, where)
    if line.head is None:
        _begin(caller, target, line, tip)
        return {"commit": tip.uid, "path": where, "versions": len(versions), "copied_from": told}, tip
    entry = get_trees().find(tip.root, where)
    root = get_trees().apply(here, {where: entry})
    message = CommitMessage(summary or f"Copy {told}", f"Copied from {told}, with its versions.", {LABEL: told}, [])
    said = checked_message(caller, message)
    made = record_commit(caller, target, line, [line.head, tip], root, said)
    return {"commit": made.uid, "path": where, "versions": len(versions), "copied_from": told}, made


def _ancestry(source: Shelf, path: str, number: int | None) -> list[ArtifactVersion]:
    """The versions in the line of the one that is copied, oldest first."""
    state = resolve(source, source.main_branch)
    if number is None:
        _, newest = get_artifact(source, state, path)
        if newest is None:
            raise InvalidError(f"{path} has no version to copy", code="copy.none")
        commit, artifact = newest.commit_id, newest.artifact_id
    else:
        wanted = find_version(source, state, path, number)
        commit, artifact = wanted.commit_id, wanted.artifact_id
    ancestors = lineage_of(source).ancestors(commit)
    rows = ArtifactVersion.objects.filter(artifact=artifact, content__gt="").select_related("commit")
    found = [r for r in rows.order_by("id") if r.commit_id in ancestors]
    if len(found) > _MOST_VERSIONS:
        raise InvalidError(f"{path} has more than {_MOST_VERSIONS} versions", code="copy.too_large")
    return found


def _replay(caller: Caller, source: Shelf, versions: list[ArtifactVersion], target: Shelf, where: str) -> Commit:
    """Versions as commits that were made of one another as the versions were; gives the last one."""
    rows = list(ArtifactVersion.objects.filter(artifact=versions[0].artifact_id).order_by("-pk"))
    lineage, made = lineage_of(source), dict[int, Commit]()
    for version in versions:
        parents = [made[parent.pk] for parent in parents_of(version, rows, lineage) if parent.pk in made]
        made[version.pk] = _replayed(caller, source, version, target, where, parents)
    start_job(caller, "describe", target, {"commits": [commit.uid for commit in made.values()]})
    return made[versions[-1].pk]


def _begin(caller: Caller, target: Shelf, line: Branch, tip: Commit) -> None:
    """On a branch without a commit the copied line becomes the branch's own."""
    with one_act():
        branch = Branch.objects.select_related("head").get(pk=line.pk)
        if branch.head_id is not None:
            raise moved(branch, None)
        branch.head = tip
        branch.save(update_fields=["head"])
        note(caller, "commit.made", tip.summary, target, commit=tip.uid, branch=branch.name)


def _replayed(
    caller: Caller, source: Shelf, version: ArtifactVersion, target: Shelf, where: str, parents: list[Commit]
) -> Commit:
    trees = get_trees()
    held = entry_of(version)
    entry = Entry(where.rpartition("/")[2], held.type, held.id, held.size)
    _give_contents(target, entry)
    root = trees.apply(trees.empty, {where: entry})
    if len(parents) == 1 and parents[0].root == root:
        return parents[0]
    commit = version.commit
    labels = {**commit.labels, LABEL: f"{source.key}/{version.path} version {version.number}"}
    message = CommitMessage(commit.summary, commit.description, labels, list(commit.tasks), commit.author, commit.time)
    return record_commit(caller, target, None, parents, root, message, recorded=timezone.now())


def _give_contents(target: Shelf, entry: Entry) -> None:
    """Whoever may read one shelf and write another may bring contents over: note that the other holds them."""
    files = [e for _, e in get_trees().files(entry.id)] if entry.type == "whole" else [entry]
    with one_act():
        hold(target, {file.id: file.size for file in files})
