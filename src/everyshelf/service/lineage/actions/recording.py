"""What runs and commits read and wrote, written down once for each.

A run says it itself. A commit says it by its labels, which also come through Git: ``made-from`` lists what it was made
from (paths, with ``@REF`` where they are of another state than the one before it), ``made-with`` is the command,
``made-by`` the code or the build.
"""

from __future__ import annotations

import re

import msgspec
from django.db import transaction

from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.decoding import from_json
from everyshelf.service.base.acts import aside
from everyshelf.service.base.context import get_trees
from everyshelf.service.experiments.models import Run
from everyshelf.service.lineage.models import MakingPart, MakingStep
from everyshelf.service.shelves.actions.copying import LABEL as COPIED_FROM
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.models import Artifact, Commit, CommitParent, Shelf

MADE_FROM, MADE_WITH, MADE_BY = "made-from", "made-with", "made-by"
_MOST_PARTS = 2000
_MOST_INPUTS = 500
_AT_ONCE = 200


def record_makings(shelf: Shelf) -> None:
    """Write down what is not written down yet: runs, and commits that say what they were made from."""
    known = MakingStep.objects.filter(shelf=shelf)
    runs = Run.objects.filter(experiment__shelf=shelf, state="done").exclude(
        pk__in=known.filter(run__isnull=False).values("run")
    )
    for run in runs.select_related("base", "commit").order_by("pk").iterator():
        reads = {path: (read.get("artifact") or "", read["content"]) for path, read in run.reads.items()}
        uids = {uid for uid, _ in reads.values() if uid}
        artifacts = dict(Artifact.objects.filter(uid__in=uids).values_list("uid", "pk"))
        held = [(artifacts.get(uid), path, content) for path, (uid, content) in reads.items()]
        _write(shelf, MakingStep(shelf=shelf, run=run), held, _written(shelf, run.base, run.commit))
    said = shelf.commits.filter(labels__has_key=MADE_FROM) | shelf.commits.filter(labels__has_key=COPIED_FROM)
    commits = said.exclude(pk__in=known.filter(commit__isnull=False).values("commit"))
    for commit in commits.order_by("pk").iterator():
        record_commit(commit)


def record_commit(commit: Commit) -> None:
    """Write down what a commit says it was made from, in the job after it: a branch it names may move later."""
    if not {MADE_FROM, COPIED_FROM} & commit.labels.keys():
        return
    shelf, parent = commit.shelf, _parent(commit)
    reads, missing = _inputs(shelf, commit, parent)
    # What it brought for its own making, such as a script, was not made by it.
    writes = [held for held in _written(shelf, parent, commit) if held not in reads]
    _write(shelf, MakingStep(shelf=shelf, commit=commit, missing=missing), reads, writes)


def _parent(commit: Commit) -> Commit | None:
    link = CommitParent.objects.filter(commit=commit, position=0).select_related("parent").first()
    return link.parent if link is not None else None


Held = tuple[int | None, str, str]


def _written(shelf: Shelf, before: Commit | None, commit: Commit) -> list[Held]:
    """Artifact, path and content of what a commit has that another did not."""
    trees = get_trees()
    changes = trees.changes(before.root if before is not None else trees.empty, commit.root)
    after = {change.path: change.after.id for change in changes if change.after is not None}
    some = dict(list(after.items())[:_MOST_PARTS])
    versions = versions_at(shelf, commit, some)
    return [(versions[p].artifact_id if p in versions else None, p, content) for p, content in some.items()]


def _inputs(shelf: Shelf, commit: Commit, parent: Commit | None) -> tuple[list[Held], list[str]]:
    """What the label of a commit names, as it was; and what of it was not there."""
    found: list[Held] = []
    missing = []
    for text in inputs_of(commit.labels.get(MADE_FROM, ""))[:_MOST_INPUTS]:
        path, _, ref = text.rpartition("@") if "@" in text.strip("@") else (text, "", "")
        held = _at(shelf, commit, parent, path, ref)
        if held is None:
            missing.append(text)
        else:
            found.append(held)
    return found, missing


def _at(shelf: Shelf, commit: Commit, parent: Commit | None, path: str, ref: str) -> Held | None:
    """An input at the state it names, or at that before the commit; what the commit itself brought counts too."""
    states = [state for state in (parent, commit) if state is not None]
    if ref:
        try:
            named = resolve(shelf, ref).commit
        except (MissingError, InvalidError):  # the name means nothing here, and is told as missing
            return None
        states = [named] if named is not None else []
    for state in states:
        entry = get_trees().find(state.root, path)
        if entry is not None and entry.type != "folder":
            version = versions_at(shelf, state, {path: entry.id}).get(path)
            return (version.artifact_id if version is not None else None, path, entry.id)
    return None


def inputs_of(label: str) -> list[str]:
    """The inputs a label lists: JSON, or texts between commas or line ends."""
    if label.lstrip().startswith("["):
        try:
            return [one for one in from_json(label, list[str]) if one]
        except msgspec.DecodeError:
            pass
    return [one.strip() for one in re.split(r"[,\n]", label) if one.strip()]


def _write(shelf: Shelf, step: MakingStep, reads: list[Held], writes: list[Held]) -> None:
    with aside(), transaction.atomic():
        owner = {"run": step.run} if step.run_id else {"commit": step.commit}
        row, made = MakingStep.objects.get_or_create(**owner, defaults={"shelf": shelf, "missing": step.missing})
        if made:  # another request may have been quicker
            parts = [(held, False) for held in reads] + [(held, True) for held in writes]
            MakingPart.objects.bulk_create(
                (
                    MakingPart(step=row, artifact_id=artifact, path=path, content=content, wrote=wrote)
                    for (artifact, path, content), wrote in parts
                ),
                batch_size=_AT_ONCE,
            )
