"""Two states of a shelf, or a state and a desk, compared artifact by artifact; one artifact among its versions."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

import msgspec

from everyshelf.core.answers.base import Answer
from everyshelf.core.answers.comparisons import Compared, ComparisonAnswer
from everyshelf.core.outline.model import Effect

ArtifactState = Literal["new", "edited", "moved", "gone", "same"]


class ArtifactAt(msgspec.Struct, kw_only=True):
    """An artifact at a moment; ``size`` in bytes. ``whole``: a folder, all of whose files are this one artifact;
    ``within``: the folder kept whole in which a file lies; ``in_place``: where its bytes lie, if not in the store."""

    path: str
    name: str
    artifact: str | None
    version: int | None
    kind: str
    content: str
    size: int
    commit: str | None
    summary: str
    author: str
    recorded: datetime | None
    effect: str
    headline: str
    whole: bool = False
    within: str = ""
    in_place: str = ""


class ArtifactComparison(ComparisonAnswer, kw_only=True):
    """Two versions of one artifact. ``pending``: large contents are being compared by ``job``."""

    headline: str
    before: ArtifactAt | None
    after: ArtifactAt | None
    pending: bool
    job: str | None


class Side(Answer):
    """One side's version of an artifact (null where no commit made it), its content and its size in bytes."""

    version: int | None
    content: str
    size: int


class ComparedArtifact(Compared, kw_only=True):
    """An artifact that differs between two states; ``pending`` if its findings are still being worked out. Its sides
    are null where it is not there, and left out where a desk or a folder is compared."""

    path: str
    old_path: str
    name: str
    state: ArtifactState
    before: Side | msgspec.UnsetType | None = msgspec.UNSET
    after: Side | msgspec.UnsetType | None = msgspec.UNSET
    pending: bool
    effect: Effect | None
    headline: str

    @property
    def versions(self) -> tuple[int | None, int | None]:
        """Numbers of the versions before and after, where they are known."""
        before, after = (side.version if isinstance(side, Side) else None for side in (self.before, self.after))
        return before, after


class CommitLine(Answer):
    """A commit that touched an artifact, and the version it made (null: removed)."""

    commit: str
    version: int | None
    author: str
    recorded: datetime
    summary: str


class RefAnswer(Answer, omit_defaults=False):
    """What a ref stood for; of a desk only its name is known."""

    ref: str
    kind: str = ""
    commit: str | None = None
    recorded: datetime | None = None


class Parted(Answer):
    """Where two lines parted: ``head`` is where the first is now, ``newer`` how many commits it has since."""

    ref: str
    head: str | None
    commit: str | None
    newer: int


class StateComparison(Answer):
    """The comparison of two states; ``counts`` of artifacts by state; ``same``: how many are equal (null for a desk);
    ``job`` works out what is pending; ``parted``: from where the second was compared, if not from the first."""

    from_: RefAnswer = msgspec.field(name="from")
    to: RefAnswer
    artifacts: list[ComparedArtifact]
    counts: dict[ArtifactState, int]
    effects: dict[str, int]
    sentence: str
    pending: int
    same: int | None
    job: str | None
    parted: Parted | None
