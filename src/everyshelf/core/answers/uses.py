"""Who uses what: parts asked for, the places that use them, and what a file names."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

import msgspec

from everyshelf.core.answers.base import Answer

Naming = Literal["file", "id", "name", "table", "message", "call", "address"]
"""How a reference names its target: by a file name, by the id of a process or decision, by the name an artifact gives
itself, as a table, by the name of a message, by the path of a call, or by the address of an artifact on a shelf."""


class _Said(msgspec.Struct, frozen=True, gc=False):
    """What is read of files by the ten thousand: outside the collector of garbage, whose rounds took most of the time
    (none of them can be part of a cycle)."""


class WantedPart(_Said, frozen=True, gc=False):
    """A part of the artifact at ``target`` that breaks: its type and name, and whether it only just came.

    What uses the artifact at all is hit by a part that every user now has to give.
    """

    target: str
    type: str
    name: str
    came: bool = False


class UsePlace(_Said, frozen=True, gc=False):
    """One place that uses a part of another artifact; ``exact`` or a guess."""

    place: str
    label: str
    exact: bool


class UsedPart(_Said, frozen=True, gc=False):
    """A part of a target that is used: its name ("*" for all), its type where that is known, and where it is used."""

    name: str
    type: str
    place: str
    label: str
    exact: bool


class Reference(_Said, frozen=True, gc=False):
    """One name found in an artifact: the text, where, and whether that is exact.

    ``writes``: the target is made, not read. ``parts``: which parts of the target are used; None where only the words
    of the file can tell. ``shelf``: key of another shelf, where one is named.
    """

    text: str
    place: str
    label: str
    exact: bool
    what: Naming = "file"
    writes: bool = False
    parts: tuple[UsedPart, ...] | None = None
    shelf: str = ""


class Flow(_Said, frozen=True, gc=False):
    """What of a target that is read goes on into one that is written. Both "*": every column, under its own name, but
    for those that become "", which do not go on."""

    source: str
    column: str
    target: str
    becomes: str


class FileReferences(Answer):
    """What a file names, the keys under which others may name it, what flows through it, and its words, each with the
    numbers of its ``places``. ``read`` is False where it could not be read."""

    names: list[Reference]
    offers: list[str]
    flows: list[Flow] = []
    words: dict[str, list[int]] = {}
    places: list[UsePlace] = []
    read: bool = True


NO_REFERENCES = FileReferences(names=[], offers=[], read=False)


class RunsIn(Answer):
    """The version of a user in an environment; ``version`` is None where it is not there, ``uses`` tells whether that
    version uses the part too, None where it was not read."""

    environment: str
    version: int | None
    uses: bool | None = None


class UsingArtifact(Answer):
    """An artifact that uses another, or what was asked about.

    ``level``: 1 for those that use it themselves. ``through``: the artifacts of the level before. ``verb``: how it is
    connected to those: it uses them, or is made by them. ``part``: the part of it that passes on what was asked about.
    ``effect``: what removing it does. ``places``: how many places use it; the first is told.
    """

    level: int
    shelf: str
    artifact: str
    kind: str
    place: str
    label: str
    places: int
    verb: Literal["uses", "made by"]
    effect: Literal["breaks", "alters"]
    exact: bool
    through: list[str]
    part: str = ""
    runs_in: list[RunsIn] = []


class UsedArtifact(Answer):
    """An artifact that is used, or made from: its place in the user, how far away, through what."""

    level: int
    shelf: str
    artifact: str
    kind: str
    place: str
    label: str
    verb: Literal["uses", "made by"]
    exact: bool
    through: list[str]


class MissedName(Answer):
    """A name that leads nowhere."""

    name: str
    place: str
    label: str


class PartAsked(Answer):
    """The part that was asked about; ``found`` is False where the artifact has none of that name, None where
    not all of its parts are known."""

    part: str
    type: str
    label: str
    found: bool | None


class UsesAnswer(Answer):
    """Who uses an artifact or a part of it, what it uses, and what it names that is not there.

    ``depth``: up to which level it was looked. ``more``: there are further levels. ``cut``: on these levels there are
    more artifacts than are listed, and the counts are of those that are. ``unread``: how many artifacts of the state
    could not be looked through, so that what they use is not known. ``counts``: of the users by effect. ``hit``: of
    those that break, how many run in each environment.
    """

    artifact: str
    shelf: str
    kind: str
    version: int | None
    commit: str
    at: datetime | None
    part: PartAsked | None
    depth: int
    used_by: list[UsingArtifact]
    uses: list[UsedArtifact]
    missing: list[MissedName]
    counts: dict[str, int]
    hit: dict[str, int]
    environments: list[str]
    more: bool
    cut: bool
    unread: int
    sentence: str
