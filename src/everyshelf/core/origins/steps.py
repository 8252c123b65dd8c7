"""What a version carried over from the version before: a step, as a tree that is as large as the change.

Parts are named by their places among all children of their parents, never by keys, because keys change: a step says at
which places of the older version the children of the newer one were. A step without anything in it says that nothing
changed.
"""

from __future__ import annotations

import zlib
from typing import Any, Literal

import msgspec

from everyshelf.decoding import from_msgpack

Places = list[int]
Touch = Literal["set", "looks", "removed"]
# Raised when steps say something else, so that those of an older time are not used.
STEP_VERSION = 2
_MOST_TEXT = 300


class FieldStep(msgspec.Struct, array_like=True, omit_defaults=True):
    """What became of a field: set (or added), changed in looks only, or removed; its value before and after, cut."""

    touch: Touch
    before: Any = None
    after: Any = None


class Gone(msgspec.Struct, array_like=True):
    """A part the newer version does not have: its place among its siblings, type, label, and path."""

    place: int
    type: str
    label: str
    path: str


class Kept(msgspec.Struct, array_like=True, omit_defaults=True):
    """A part that is in both versions and changed: its place before, and what became of it."""

    place: int
    step: Step


class Came(msgspec.Struct, array_like=True, omit_defaults=True):
    """A part that had another parent: its places before, from the root down, and what became of it."""

    places: Places
    step: Step


class Step(msgspec.Struct, omit_defaults=True, rename={"fields": "f", "runs": "r", "kept": "k", "came": "c"}):
    """How one part became another.

    ``fields``: by name; the empty name is the part's own name or key. ``runs``: (place before, place after, how many)
    of children carried as they were; empty where all that is not named elsewhere is at its old place. ``kept``,
    ``came`` and ``added`` name children by their places in the newer version. ``whole``: changed without fields or
    children that could say how. ``looks``: changed as a whole in looks only. ``moved``: stands elsewhere among its
    siblings. ``columns``: of a table in an outline, new name -> old name; without one the column is new.
    """

    fields: dict[str, FieldStep] = {}
    runs: list[tuple[int, int, int]] = []
    kept: dict[int, Kept] = {}
    came: dict[int, Came] = {}
    added: list[int] = []
    gone: list[Gone] = []
    whole: bool = False
    looks: bool = False
    moved: bool = False
    columns: dict[str, str | None] = {}

    @property
    def is_empty(self) -> bool:
        """True where nothing changed."""
        return not (
            self.fields
            or self.runs
            or self.kept
            or self.came
            or self.added
            or self.gone
            or self.whole
            or self.looks
            or self.moved
            or self.columns
        )


class LineStep(msgspec.Struct, omit_defaults=True):
    """How the lines of one text became those of another.

    ``runs``: (line before, line after, how many) carried as they were; ``looks``: lines after, of those in ``runs``,
    whose spaces changed; ``changed``: line after -> the line before it was made of; ``moved``: lines after, of those in
    ``runs``, that stood elsewhere. All count from 0; ``lines``: how many there are after, ``before``: how many before.
    """

    lines: int
    before: int
    runs: list[tuple[int, int, int]]
    changed: dict[int, int] = {}
    looks: list[int] = []
    moved: list[int] = []


def packed(value: Step | LineStep | Any) -> bytes:
    """As bytes to be kept."""
    return zlib.compress(msgspec.msgpack.encode(value), 6)


def unpacked(data: bytes, form: type[Any]) -> Any:
    """What ``packed`` made bytes of. Raises ``msgspec.ValidationError`` for another form."""
    return from_msgpack(zlib.decompress(data), form)


def clipped(value: Any) -> Any:
    """A value as a step keeps it: texts are cut."""
    if isinstance(value, str) and len(value) > _MOST_TEXT:
        return value[:_MOST_TEXT] + "…"
    return value if value is None or isinstance(value, str | int | float | bool) else clipped(str(value))
