"""Who uses what: parts asked for, the places that use them, and what a file names."""

from __future__ import annotations

from dataclasses import dataclass

from everyshelf.core.answers.base import Answer


@dataclass(frozen=True)
class WantedPart:
    """A part of the artifact at ``target`` that breaks: its type and name, and whether it only just came.

    What uses the artifact at all is hit by a part that every user now has to give.
    """

    target: str
    type: str
    name: str
    came: bool = False


@dataclass(frozen=True)
class UsePlace:
    """One place that uses a part of another artifact; ``exact`` or a guess."""

    place: str
    label: str
    exact: bool


@dataclass(frozen=True)
class Reference:
    """One name found in an artifact: the text, where, and whether that is exact; ``by_id`` if no file is meant."""

    text: str
    place: str
    label: str
    exact: bool
    by_id: bool = False


class FileReferences(Answer):
    """What a file names, and the ids it offers others."""

    names: list[Reference]
    offers: list[str]


NO_REFERENCES = FileReferences(names=[], offers=[])
