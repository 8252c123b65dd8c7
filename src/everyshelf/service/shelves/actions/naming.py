"""What each artifact names and offers, kept by its content."""

from __future__ import annotations

from everyshelf.core.answers.uses import FileReferences
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.context import reader
from everyshelf.service.shelves.actions.contents import as_file
from everyshelf.service.shelves.actions.remembered import known_answer, remembered

MOST_NAMING_BYTES = 8 * 1024 * 1024


def names_of(path: str, entry: Entry, rules: Rules, *, allowed: bool = True) -> FileReferences | None:
    """What one artifact names and offers, from the records or read now; None if that is not allowed."""

    def work() -> FileReferences:
        with as_file(entry.id) as file, reader() as worker:
            return worker.names(FileAt(path, str(file)), rules=rules.source)

    basis = "names", path, entry.id, rules.source
    return remembered(basis, FileReferences, work) if allowed else known_answer(basis, FileReferences)
