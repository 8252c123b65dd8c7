"""What was found by the words in it."""

from __future__ import annotations

from datetime import datetime

import msgspec

from everyshelf.core.answers.base import Answer


class PlaceText(msgspec.Struct, array_like=True):
    """A place words are looked for in: the part's path, type and label, the field (or line of it), and the text."""

    path: str
    type: str
    label: str
    field: str
    text: str


class Places(Answer):
    """The places of one artifact."""

    places: list[PlaceText]


class FoundPlace(Answer):
    """A place that holds words that were looked for; ``marks``: where they begin and end in ``text``."""

    part: str
    type: str
    label: str
    field: str
    text: str
    marks: list[tuple[int, int]]


class FoundArtifact(Answer):
    """An artifact that holds what was looked for. ``branches``: on which it is like that now, none for an earlier
    version; ``places``: the first of ``place_count``; ``marks``: of the words in its path; ``first`` and ``last``: the
    first and the newest version with it, where earlier versions were looked through."""

    shelf: str
    shelf_name: str
    path: str
    name: str
    kind: str
    version: int | None
    author: str
    recorded: datetime
    summary: str
    effect: str
    size: int
    branches: list[str]
    marks: list[tuple[int, int]]
    places: list[FoundPlace]
    place_count: int
    first: int | None = None
    last: int | None = None


class FindAnswer(Answer):
    """What was found, best match first. ``total`` artifacts (``more``: and others, where very many do), of ``shelves``
    looked through; ``by_kind``, ``by_person``, ``by_label``: how many
    of them are of each; ``commits``: how many commits say all of the words; ``unread``: artifacts still to be read."""

    words: str
    total: int
    more: bool
    shelves: int
    items: list[FoundArtifact]
    next: str | None
    by_kind: dict[str, int]
    by_person: dict[str, int]
    by_label: dict[str, int]
    commits: int
    unread: int
