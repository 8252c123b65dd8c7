"""Which changes made in an environment would be lost, and which are part of what is put there.

What somebody changed there is not lost if the tag has it: if merging it into what is to be put there, from what was put
there before, changes nothing. Where nothing was put there before, it is not lost if it is a version the tag descends
from: that is how what was there first came onto the shelf.
"""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.errors import InvalidError
from everyshelf.core.promotion.destination import Destination
from everyshelf.core.promotion.rehearsal import Drift
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import reader
from everyshelf.service.environments.actions.manifests import Aim, Record, Row
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.models import ArtifactVersion

_MOST_MERGED = 100
_BUDGET_SECONDS = 8.0


def judged(destination: Destination, aim: Aim, record: Record, drift: list[Drift]) -> list[Drift]:
    """The same with ``brought`` and ``lost`` set for what the tag has. What could not be looked at in the time of an
    answer is taken for lost."""
    end, found = time.monotonic() + _BUDGET_SECONDS, []
    for number, one in enumerate(drift):
        row = record.get(one.path)
        looked_at = one.lost and number < _MOST_MERGED and time.monotonic() < end and one.found and one.path in aim.put
        if looked_at and (_has_merged(destination, aim, one, row) if row is not None else _descends(aim, one)):
            one = replace(one, lost=False, brought=True)  # noqa: PLW2901
        found.append(one)
    return found


def _descends(aim: Aim, drift: Drift) -> bool:
    shelf = aim.environment.shelf
    rows = ArtifactVersion.objects.filter(shelf=shelf, path=drift.path, content=drift.found)
    line = lineage_of(shelf).ancestors(aim.commit.pk)
    return any(commit in line for commit in rows.values_list("commit_id", flat=True))


def _has_merged(destination: Destination, aim: Aim, drift: Drift, row: Row) -> bool:
    if not row.source or drift.where != "changed there":
        return False
    with TemporaryDirectory(dir=get_config().scratch, prefix="drifted-") as folder:
        base, goal, there, result = (Path(folder, name) for name in ("base", "goal", "there", "result"))
        try:
            base.write_bytes(aim.shown(drift.path, row.source))
            goal.write_bytes(aim.shown(drift.path, aim.put[drift.path][0].source))
        except InvalidError:
            return False
        with destination.as_file(drift.path) as file:
            there.write_bytes(aim.values.masked(file.read_bytes()))
        with reader() as worker:
            merged = worker.merge(drift.path, (base, goal, there), result, rules=aim.rules.source)
            if not merged.merged:
                return False
            if result.read_bytes() == goal.read_bytes():
                return True
            sides = FileAt(drift.path, str(goal)), FileAt(drift.path, str(result))
            left = worker.compare(*sides, CompareOptions(aim.rules))
            return left.equal and left.kind == left.read_as
