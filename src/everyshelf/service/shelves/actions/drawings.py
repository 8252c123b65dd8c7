"""Drawings of pipelines and workflows, of one version or of two in one; kept like comparisons are."""

from __future__ import annotations

from typing import Any

from everyshelf.core.drawing import NOTHING
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.service.base.context import reader
from everyshelf.service.shelves.actions.comparison import remembered
from everyshelf.service.shelves.actions.contents import as_file

_MOST_BYTES = 20 * 1024 * 1024


def drawing_of(path: str, entry: Entry, rules: Rules) -> dict[str, Any]:
    """One version; without nodes where its kind has no drawing."""
    if entry.size > _MOST_BYTES or entry.type == "whole":
        return NOTHING

    def work() -> dict[str, Any]:
        with as_file(entry.id) as file, reader() as worker:
            return worker.drawing(None, (path, file), rules_text=rules.source)

    return remembered(("drawing", path, entry.id, rules.source), work) or NOTHING


def drawing_between(old_path: str, before: Entry, path: str, after: Entry, rules: Rules) -> dict[str, Any]:
    """Both versions in one drawing."""
    if max(before.size, after.size) > _MOST_BYTES:
        return NOTHING

    def work() -> dict[str, Any]:
        with as_file(before.id) as old, as_file(after.id) as new, reader() as worker:
            return worker.drawing((old_path, old), (path, new), rules_text=rules.source)

    return remembered(("drawing", old_path, before.id, path, after.id, rules.source), work) or NOTHING
