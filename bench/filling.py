"""Commits recorded in one go, as a fetch from Git records them, in a process with the records of a service.

What is said of each, the job after a commit would take an hour for: they count as described.
"""

from __future__ import annotations

import random
from datetime import timedelta

from django.contrib.auth.models import User

from everyshelf.core.history.trees import Change, Entry
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.contents import hold
from everyshelf.service.shelves.actions.recording import CommitMessage
from everyshelf.service.shelves.actions.recording_lines import LineCommit, record_line
from everyshelf.service.shelves.models import ArtifactVersion, Branch, Commit, Shelf

_AT_ONCE = 1_000


def record_many(key: str, count: int, seed: int) -> None:
    """Commits on the main branch of a shelf, each of which changes one of its artifacts."""
    shelf, caller = Shelf.objects.get(key=key), Caller(User.objects.get(username="owner"))
    rng = random.Random(seed)
    head = Branch.objects.select_related("head").get(shelf=shelf, name=shelf.main_branch).head
    assert head is not None
    paths = [path for path, _ in get_trees().walk(head.root)]
    for start in range(0, count, _AT_ONCE):
        line = _line(head, [rng.choice(paths) for _ in range(min(_AT_ONCE, count - start))], rng)
        get_store().sync()
        with one_act():
            made = record_line(caller, shelf, line)
            hold(shelf, {c.after.id: c.after.size for one in line for c in one.changes if c.after is not None})
            Branch.objects.filter(shelf=shelf, name=shelf.main_branch).update(head=made[-1])
            rows = ArtifactVersion.objects.filter(commit__in=made)
            rows.update(headline="number changed", effect="alters")
        head = made[-1]


def _line(head: Commit, paths: list[str], rng: random.Random) -> list[LineCommit]:
    trees, root, at = get_trees(), head.root, head.recorded
    line: list[LineCommit] = []
    for path in paths:
        info = get_store().put(b'{"number": %d}\n' % rng.randrange(10**12))
        old = trees.find(root, path)
        new = Entry(path.rpartition("/")[2], "artifact", info.id, info.size)
        root, at = trees.apply(root, {path: new}), at + timedelta(microseconds=1)
        message = CommitMessage("Set the number", author="owner")
        parents: list[Commit | int] = [len(line) - 1 if line else head]
        line.append(LineCommit(parents, root, message, at, at, [Change(path, old, new)], {path: "settings"}, {}, _none))
    return line


def _none(_uid: str) -> bytes:
    return b""
