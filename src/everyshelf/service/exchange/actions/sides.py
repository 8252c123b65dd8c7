"""Links that are not of a shelf as it is: of one folder or one artifact, or with files unfolded. What the repository
holds is the history of a shelf of its own that no person sees.

The side shelf is what the repository is a mapping of, with everything that the repository holds; so sending and
fetching are the same as for a whole shelf. Between the two shelves go commits:

- *out*: a commit that changes the part becomes one of the side, with the part in its place there and all the rest as it
  was; others stand for what their parent stands for.
- *back*: a commit of the side that changes the part becomes one of the shelf, with all the rest as it was.

``SideCommit`` says which commits stand for each other, and is written in the same transaction. ``laying`` says what a
state of the side is once the parts of its files are folded.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

from django.utils import timezone

from everyshelf.core.errors import InvalidError
from everyshelf.core.history.commits import decode_commit
from everyshelf.core.history.trees import Change, Entry
from everyshelf.core.unfolding import FOLDER_SUFFIX, MANIFEST
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.exchange.actions.laying import Laid, keep_states, state_of
from everyshelf.service.exchange.models import GitLink, SideCommit, SideState
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.contents import hold
from everyshelf.service.shelves.actions.recording import CommitMessage
from everyshelf.service.shelves.actions.recording_lines import LineCommit, record_line
from everyshelf.service.shelves.models import (
    Artifact,
    ArtifactVersion,
    Branch,
    Commit,
    CommitParent,
    Shelf,
    Tag,
)

_AT_ONCE = 500
_MANIFEST = f"{FOLDER_SUFFIX}/{MANIFEST}"


def held_by(link: GitLink) -> Shelf:
    """The shelf that the repository is a mapping of: the side of a link that has one, else the shelf itself."""
    return link.side if link.side is not None else link.shelf


def make_side(link: GitLink) -> Shelf:
    """The side shelf of a new link; nobody is a member of it."""
    key = f"side-{secrets.token_hex(12)}"
    part = f"{link.folder} of " if link.folder else ""
    name = f"{part}{link.shelf.name}, for the Git link {link.name}"[:120]
    return Shelf.objects.create(key=key, name=name, main_branch=link.shelf.main_branch, created=timezone.now())


def remove_side(side: Shelf) -> None:
    """Forget a side shelf, in the order in which its records hold each other."""
    SideCommit.objects.filter(side__shelf=side).delete()
    SideState.objects.filter(side__shelf=side).delete()
    Branch.objects.filter(shelf=side).delete()
    Tag.objects.filter(shelf=side).delete()
    ArtifactVersion.objects.filter(shelf=side).delete()
    Artifact.objects.filter(shelf=side).delete()
    CommitParent.objects.filter(commit__shelf=side).delete()
    side.delete()


# --- the part, and its place -------------------------------------------------------------


def state_there(link: GitLink, root: str, before: str) -> str:
    """The state of the side: that before, with the part as the shelf has it."""
    trees = get_trees()
    if not link.folder:
        return root
    part = trees.find(root, link.folder)
    if link.place:
        name = link.place.rpartition("/")[2]
        try:
            return trees.apply(before, {link.place: _called(part, name)})
        except InvalidError as error:
            raise InvalidError(
                f"{link.folder} cannot be at {link.place} in the repository: {error.message}",
                code="git.collides",
                hint="Rename what is in the way there, or make another link with another --place.",
            ) from error
    return part.id if part is not None and part.type != "artifact" else trees.empty


def state_here(link: GitLink, side: str, before: str) -> str:
    """The state of the shelf: that before, with the part as the side has it."""
    trees = get_trees()
    if not link.folder:
        return side
    name = link.folder.rpartition("/")[2]
    if link.place:
        part = _called(trees.find(side, link.place), name)
    else:
        part = trees.parted(name, side) if side != trees.empty else None
    old = trees.find(before, link.folder)
    if old is not None and old.type == "whole" and part is not None and part.type == "folder":
        part = trees.whole(name, part.id)
    return trees.apply(before, {link.folder: part})


def _called(part: Entry | None, name: str) -> Entry | None:
    return Entry(name, part.type, part.id, part.size) if part is not None else None


def _moved_path(path: str, old: str, new: str) -> str | None:
    """A path below ``old`` as one below ``new``; None for any other."""
    if not old:
        return f"{new}/{path}" if new else path
    if path == old:
        return new or None
    if not path.startswith(f"{old}/"):
        return None
    rest = path[len(old) + 1 :]
    return f"{new}/{rest}" if new else rest


# --- recording ---------------------------------------------------------------------------


@dataclass
class Line:
    """Commits on their way to one of the two shelves. ``to_side``: which way they go."""

    link: GitLink
    shelf: Shelf
    to_side: bool
    commits: list[LineCommit] = field(default_factory=list)
    stand_for: list[Commit] = field(default_factory=list)  # what each of them stands for on the other shelf
    laid: list[Laid] = field(default_factory=list)  # of those that go to the side: what each says

    def root_of(self, above: Sequence[Commit | int]) -> str:
        """The state of the first parent."""
        if not above:
            return get_trees().empty
        return self.commits[above[0]].root if isinstance(above[0], int) else above[0].root

    def state_of(self, side: Commit | int) -> Laid:
        """What a commit of the side says."""
        return self.laid[side] if isinstance(side, int) else state_of(side)

    def add(
        self, of: Commit, parents: Sequence[Commit | int], root: str, keep: Callable[[str], bytes] = lambda _uid: b""
    ) -> int:
        """A commit that says what another one says; gives its place in the line."""
        data = decode_commit(get_store().read(of.uid))
        ways = (self.link.folder, self.link.place) if self.to_side else (self.link.place, self.link.folder)
        changes = list(get_trees().changes(self.root_of(parents), root))
        versions = ArtifactVersion.objects.filter(commit=of).values_list("path", "kind")
        kinds = {new: kind for path, kind in versions if (new := _moved_path(path, *ways)) is not None}
        moves = {}
        came = {change.path for change in changes if change.after is not None}
        for move in data.moves:
            old, new = _moved_path(move.before, *ways), _moved_path(move.after, *ways)
            if old is not None and new is not None:
                old, new = self._by_parts(old, new, came)
                moves[new] = old
        self.commits.append(
            LineCommit(
                parents=list(parents),
                root=root,
                message=CommitMessage(data.summary, data.description, data.labels, data.tasks, data.author),
                time=of.time,
                recorded=of.recorded,
                changes=changes,
                kinds={c.path: kinds.get(c.path) or "opaque" for c in changes if c.after is not None},
                moves={new: old for new, old in moves.items() if any(c.path == new for c in changes)},
                keep=keep,
            )
        )
        self.stand_for.append(of)
        return len(self.commits) - 1

    def _by_parts(self, old: str, new: str, came: set[str]) -> tuple[str, str]:
        """A move as the other shelf knows it: where only parts of a file lie on the side, their manifest moves."""
        if not self.to_side:
            return old.removesuffix(_MANIFEST), new.removesuffix(_MANIFEST)
        return (old + _MANIFEST, new + _MANIFEST) if new not in came and new + _MANIFEST in came else (old, new)

    def record(self, caller: Caller) -> list[Commit]:
        """Record them, and that they stand for the others, in one act."""
        if not self.commits:
            return []
        with one_act():
            made = record_line(caller, self.shelf, self.commits)
            pairs = list(zip(self.stand_for, made, strict=True))
            if not self.to_side:
                pairs = [(new, old) for old, new in pairs]
            stand_for(self.link, pairs)
            keep_states(zip(made, self.laid, strict=False))
            _hold(self.shelf, (change for one in self.commits for change in one.changes))
        self.commits, self.stand_for, self.laid = [], [], []
        return made


def stand_for(link: GitLink, pairs: Iterable[tuple[Commit | None, Commit | None]]) -> None:
    """Record that commits of the shelf and of the side stand for each other; None: for nothing."""
    rows = [SideCommit(link=link, commit=commit, side=side) for commit, side in pairs]
    SideCommit.objects.bulk_create(rows, batch_size=_AT_ONCE)


def _hold(shelf: Shelf, changes: Iterable[Change]) -> None:
    """Note that the shelf holds what came."""
    trees = get_trees()
    sizes: dict[str, int] = {}
    for change in changes:
        entry = change.after
        if entry is not None and entry.type == "whole":
            sizes.update({e.id: e.size for _, e in trees.files(entry.id)})
        elif entry is not None:
            sizes[entry.id] = entry.size
    hold(shelf, sizes)


def sides_of(link: GitLink, keys: Iterable[int]) -> dict[int, Commit]:
    """What commits of the shelf stand for on the side; of several the one that was found last."""
    rows = SideCommit.objects.filter(link=link, commit__in=list(keys), side__isnull=False).select_related("side")
    return {row.commit_id: row.side for row in rows.order_by("pk") if row.commit_id and row.side is not None}


def newest_of_side(link: GitLink, side: int) -> Commit | None:
    """The newest commit of the shelf that stands for one of the side."""
    rows = SideCommit.objects.filter(link=link, side=side, commit__isnull=False).select_related("commit")
    row = rows.order_by("-commit").first()
    return row.commit if row is not None else None


def of_side(link: GitLink, side: Commit) -> Commit | None:
    """The newest commit of the shelf that stands for one of the side; itself where the link has no side."""
    return side if link.side is None else newest_of_side(link, side.pk)
