"""Which artifacts differ between two states, each with both contents and what belongs to it."""

from __future__ import annotations

from dataclasses import dataclass, field

from everyshelf.core.answers.states import ArtifactState
from everyshelf.core.history.merging import find_moves
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.beside import belonging, keeps_elsewhere, may_have_beside, may_hold_weights
from everyshelf.service.base.context import get_trees
from everyshelf.service.shelves.actions.moves import recorded_moves
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.models import Shelf

_MOST_BESIDE = 1 << 30

# For both sides, files of the same folder that belong to an artifact, by name.
Beside = tuple[dict[str, Entry], dict[str, Entry]]


@dataclass(frozen=True)
class Pairing:
    """One artifact that differs: where it was and is, both contents (None: not there), and what lies beside them."""

    path: str
    old_path: str
    before: Entry | None
    after: Entry | None
    beside: Beside = field(default=({}, {}))

    @property
    def state(self) -> ArtifactState:
        """new, gone, moved or edited: the words for an artifact on a desk and in a draft."""
        if self.before is None:
            return "new"
        if self.after is None:
            return "gone"
        return "moved" if self.path != self.old_path else "edited"

    @property
    def is_same(self) -> bool:
        """True if both sides and all that belongs to them have the same content."""
        same = self.before is not None and self.after is not None and self.before.id == self.after.id
        return same and self.beside[0] == self.beside[1]


def pair_changes(shelf: Shelf, before: Resolved, after: Resolved) -> list[Pairing]:
    """Changed paths, with an artifact that went from one path to another as one pair."""
    changes = list(get_trees().changes(before.root, after.root))
    moves = {**find_moves(changes), **recorded_moves(shelf, before.commit, after.commit, changes)}
    targets = {new: old for old, new in moves.items()}
    by_path = {c.path: c for c in changes}
    result = []
    for change in changes:
        if change.path in moves and change.after is None:
            continue
        old_path = targets.get(change.path, change.path)
        entries = by_path[old_path].before, change.after
        beside = beside_of(before.root, old_path, entries[0]), beside_of(after.root, change.path, entries[1])
        result.append(Pairing(change.path, old_path, *entries, beside))
    return result + _models_changed_beside(before, after, {p.path for p in result if p.before and p.after})


def _models_changed_beside(before: Resolved, after: Resolved, changed: set[str]) -> list[Pairing]:
    """Models whose own file stayed as it was while weights kept in files beside it did not."""
    trees, result = get_trees(), []
    by_folder: dict[str, set[str]] = {}
    for path in changed:
        folder, _, name = path.rpartition("/")
        if may_hold_weights(name):
            by_folder.setdefault(folder, set()).add(name)
    for folder, names in by_folder.items():
        node = trees.folder(after.root, folder)
        for entry in trees.children(node)[1] if node is not None else []:
            path = f"{folder}/{entry.name}" if folder else entry.name
            if path in changed or not keeps_elsewhere(entry.name, names) or trees.find(before.root, path) != entry:
                continue
            beside = beside_of(before.root, path, entry), beside_of(after.root, path, entry)
            result.append(Pairing(path, path, entry, entry, beside))
    return result


def beside_of(root: str, path: str, entry: Entry | None) -> dict[str, Entry]:
    """What belongs to a model at that state; the sizes of all of it stay below what may be held."""
    folder, _, name = path.rpartition("/")
    if entry is None or not may_have_beside(name):
        return {}
    trees = get_trees()
    node = trees.folder(root, folder)
    entries = {e.name: e for e in trees.children(node)[1]} if node is not None else {}
    found = {sibling: entries[sibling] for sibling in belonging(name, entries)}
    return found if sum(e.size for e in found.values()) <= _MOST_BESIDE else {}
