"""What a promotion would do, computed from three manifests without touching anything."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from everyshelf.core.promotion.destination import Manifest

Where = Literal["changed there", "removed there", "added there"]


@dataclass(frozen=True)
class Drift:
    """An artifact that is not what the last deployment put there; ``lost`` if promoting would overwrite it,
    ``brought`` if what is put there has it. ``by`` whom it was changed, where the place tells."""

    path: str
    where: Where
    recorded: str | None
    found: str | None
    lost: bool
    by: str = ""
    brought: bool = False


@dataclass(frozen=True)
class Rehearsal:
    """Paths by what would happen to them, and drift."""

    added: list[str]
    changed: list[str]
    removed: list[str]
    same: list[str]
    drift: list[Drift]


def rehearse(present: Manifest, target: Manifest, recorded: Manifest) -> Rehearsal:
    """Compare what is really there (``present``) with what would be there (``target``).

    ``recorded`` is what the last deployment put there: what differs from it was changed by somebody else.
    """
    added = sorted(p for p in target if p not in present)
    removed = sorted(p for p in present if p not in target)
    shared = sorted(p for p in target if p in present)
    changed = [p for p in shared if present[p].id != target[p].id]
    same = [p for p in shared if present[p].id == target[p].id]
    return Rehearsal(added, changed, removed, same, _drift(present, target, recorded))


def _drift(present: Manifest, target: Manifest, recorded: Manifest) -> list[Drift]:
    result = []
    for path in sorted(present.keys() | recorded.keys()):
        there, was = present.get(path), recorded.get(path)
        if there == was:
            continue
        where: Where = "removed there" if there is None else "added there" if was is None else "changed there"
        goal = target.get(path)
        lost = (goal.id if goal else None) != (there.id if there else None)
        result.append(
            Drift(path, where, was.id if was else None, there.id if there else None, lost, there.by if there else "")
        )
    return result
