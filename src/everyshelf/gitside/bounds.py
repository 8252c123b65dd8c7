"""How much work a commit would be, counted before it is done.

A dozen trees can name the same folders again and again, and stand for more files than could ever be listed. How many
files differ between two trees is the sum over what they hold; of two folders it is worked out once, however many paths
lead to them, so counting takes as long as there are different trees.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from everyshelf.core.errors import LimitError
from everyshelf.gitside.objects import EMPTY_TREE, entry_of
from everyshelf.gitside.repository import Repository

MOST_OF_COMMIT = 500_000  # files that one commit changes
MOST_DEPTH = 200  # folders in folders
_FLOOR, _FOR_EACH_OBJECT = 2_000_000, 100
_MOST_KNOWN = 500_000


@dataclass
class Bounds:
    """What the commits of one push or fetch may change together. ``objects``: how many came with them."""

    repository: Repository
    objects: int = 0
    _counted: int = 0
    _looked_at: int = 0
    _known: dict[tuple[str, str], int] = field(default_factory=dict)

    def check(self, before: str, after: str, named: str) -> None:
        """Return if what differs between two trees may be gone through; raises ``LimitError`` (git.size)."""
        files = self._differing(before, after, named, 0)
        self._counted += min(files, MOST_OF_COMMIT)
        most = _FLOOR + self.objects * _FOR_EACH_OBJECT
        if files > MOST_OF_COMMIT or self._counted > most:
            more = f"more than {MOST_OF_COMMIT:,} files" if files > MOST_OF_COMMIT else f"{files:,} files"
            raise LimitError(
                f"{named} changes {more}, and the commits that came with it {self._counted:,} or more",
                code="git.size",
                hint="Nothing was taken. Commit fewer files at a time.",
            )

    def _differing(self, before: str, after: str, named: str, depth: int) -> int:
        if before == after:
            return 0
        if depth > MOST_DEPTH:
            raise LimitError(
                f"{named} has folders more than {MOST_DEPTH} deep",
                code="git.depth",
                hint="Nothing was taken. Put its files less deep.",
            )
        pair = (before, after)
        known = self._known.get(pair)
        if known is None:
            self._looked_at += 1
            if self._looked_at > _FLOOR + self.objects * _FOR_EACH_OBJECT:
                raise LimitError(f"{named} has too many folders", code="git.size", hint="Commit fewer at a time.")
            known = self._count(before, after, named, depth)
            if len(self._known) > _MOST_KNOWN:
                self._known.clear()
            self._known[pair] = known
        return known

    def _count(self, before: str, after: str, named: str, depth: int) -> int:
        old, new = self.repository.tree(before), self.repository.tree(after)
        found = 0
        apart = [name for name, row in new.items() if old.get(name) != row] + [name for name in old if name not in new]
        for name in apart:
            pair = [entry_of(rows[name]) if name in rows else None for rows in (old, new)]
            folders = [e.id if e is not None and e.is_folder else EMPTY_TREE for e in pair]
            found += any(e is not None and not e.is_folder for e in pair)
            found += self._differing(folders[0], folders[1], named, depth + 1)
        return found
