"""Artifacts as readable parts, and parts as a content again; in a reading process, because files come from anywhere."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

from everyshelf.core.answers.files import FoldedAnswer, UnfoldedAnswer
from everyshelf.core.content.store import ContentInfo
from everyshelf.core.errors import InvalidError, LimitError
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import reader
from everyshelf.service.shelves.actions.contents import as_file, get_size, take_in
from everyshelf.service.shelves.models import Shelf

_MOST_BYTES = 200 * 1024 * 1024
_PIECE_BYTES = 1024 * 1024


def unfold_artifact(path: str, entry: Entry, rules: Rules) -> tuple[UnfoldedAnswer, bytes]:
    """Files with their texts and notes, and all of them as one zip; raises ``InvalidError`` or ``LimitError``."""
    if entry.type == "whole":
        raise InvalidError(
            f"{path} is a folder kept whole: its files lie open already", code="unfold.impossible", hint="Download it."
        )
    _check_size(path, entry.size)
    with as_file(entry.id) as file, _scratch() as output, reader() as worker:
        unfolded = worker.unfold(FileAt(path.rpartition("/")[2], str(file)), output, rules=rules.source)
        return unfolded, output.read_bytes()


def fold_content(shelf: Shelf, identity: str) -> tuple[ContentInfo, FoldedAnswer]:
    """The content that a zip of parts, stored before, folds to; its name and notes."""
    _check_size("the zip", get_size(shelf, identity))
    with as_file(identity) as file, _scratch() as output, reader() as worker:
        folded = worker.fold(file, output)
        return take_in(shelf, _pieces(output), output.stat().st_size), folded


def _check_size(what: str, size: int) -> None:
    if size > _MOST_BYTES:
        hint = "Use everyshelf unfold and everyshelf fold on your own machine."
        raise LimitError(f"{what} is larger than {_MOST_BYTES >> 20} MB", code="unfold.size", hint=hint)


class _scratch:  # noqa: N801 - used like a function
    """A place for what a reading process writes; gone at the end."""

    def __enter__(self) -> Path:
        self._folder = tempfile.TemporaryDirectory(dir=get_config().scratch, prefix="unfold-")
        return Path(self._folder.name) / "out"

    def __exit__(self, *_: object) -> None:
        self._folder.cleanup()


def _pieces(file: Path) -> Iterator[bytes]:
    with file.open("rb") as opened:
        while piece := opened.read(_PIECE_BYTES):
            yield piece
