"""What an artifact is made of."""

from __future__ import annotations

from typing import Any

from everyshelf.core.answers.base import Answer
from everyshelf.core.answers.models import ModelPreview
from everyshelf.core.answers.tables import TablePreview


class PartAnswer(Answer):
    """A part with its path, its scalars, and the parts below it."""

    path: str
    type: str
    label: str
    fields: dict[str, Any]
    parts: list[PartAnswer]


class OutlineAnswer(Answer):
    """What an artifact is made of; ``truncated`` where it has more parts than are listed. Tables give columns, profiles
    and first rows in place of parts; ``read_as`` and ``note`` as in a comparison; ``size`` in bytes."""

    kind: str
    format: str
    read_as: str
    note: str
    size: int
    parts: list[PartAnswer]
    truncated: bool
    fields: dict[str, Any] | None = None
    table: TablePreview | None = None
    tables: dict[str, TablePreview] | None = None
    model: ModelPreview | None = None
