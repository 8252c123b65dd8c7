"""Editing a content by field or by cell: the result is a new content of the shelf; nothing is committed by it."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path

from everyshelf.core.answers.files import CellsAnswer
from everyshelf.core.content.store import ContentInfo
from everyshelf.core.editing.edits import CellEdit, FieldEdit
from everyshelf.core.editing.fields import MOST_BYTES
from everyshelf.core.errors import LimitError
from everyshelf.core.history.trees import Entry
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import reader
from everyshelf.service.shelves.actions.contents import as_file, get_size, take_in
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.models import Shelf

_PIECE_BYTES = 1 << 20
_SMALL_BYTES = 2 << 20


def edit_content(
    shelf: Shelf,
    root: str,
    path: str,
    identity: str,
    *,
    text: str | None = None,
    fields: Sequence[FieldEdit] = (),
    cells: Sequence[CellEdit] = (),
) -> ContentInfo:
    """The content with its text, these fields and cells changed, read under its path and the rules at ``root``.

    Raises ``InvalidError`` for what cannot be changed by itself, ``ConflictError`` for a cell that changed meanwhile.
    """
    if get_size(shelf, identity) > MOST_BYTES:
        raise LimitError(
            f"{path} is larger than {MOST_BYTES >> 20} MB", code="edit.too_large", hint="Edit it on a desk."
        )
    with tempfile.TemporaryDirectory(dir=get_config().scratch, prefix="edit-") as folder:
        output = Path(folder, "edited")
        with as_file(identity) as file, reader() as worker:
            worker.edit(
                FileAt(path, str(file)), output, text=text, fields=fields, cells=cells, rules=rules_at(root).source
            )
        with output.open("rb") as opened:
            return take_in(shelf, iter(lambda: opened.read(_PIECE_BYTES), b""), None)


def cells_of(path: str, entry: Entry) -> CellsAnswer:
    """Columns and rows of a small table, for editing it by cell; ``note`` says why there are none."""
    if entry.type == "whole" or entry.size > _SMALL_BYTES:
        note = f"only tables up to {_SMALL_BYTES >> 20} MB are edited by cell"
        return CellsAnswer(columns=[], forms=[], rows=[], note=note)
    with as_file(entry.id) as file, reader() as worker:
        return worker.cells(FileAt(path, str(file)))
