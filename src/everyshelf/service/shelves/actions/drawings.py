"""Drawings of pipelines and workflows, of one version or of two in one; kept like comparisons are."""

from __future__ import annotations

from everyshelf.core.answers.drawings import NO_DRAWING, Drawing
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.context import reader
from everyshelf.service.shelves.actions.contents import as_file
from everyshelf.service.shelves.actions.remembered import remembered

_MOST_BYTES = 20 * 1024 * 1024


def drawing_of(path: str, entry: Entry, rules: Rules) -> Drawing:
    """One version; without nodes where its kind has no drawing."""
    if entry.size > _MOST_BYTES or entry.type == "whole":
        return NO_DRAWING

    def work() -> Drawing:
        with as_file(entry.id) as file, reader() as worker:
            return worker.drawing(None, FileAt(path, str(file)), rules=rules.source)

    return remembered(("drawing", path, entry.id, rules.source), Drawing, work)


def drawing_between(old_path: str, before: Entry, path: str, after: Entry, rules: Rules) -> Drawing:
    """Both versions in one drawing."""
    if max(before.size, after.size) > _MOST_BYTES:
        return NO_DRAWING

    def work() -> Drawing:
        with as_file(before.id) as old, as_file(after.id) as new, reader() as worker:
            return worker.drawing(FileAt(old_path, str(old)), FileAt(path, str(new)), rules=rules.source)

    return remembered(("drawing", old_path, before.id, path, after.id, rules.source), Drawing, work)
