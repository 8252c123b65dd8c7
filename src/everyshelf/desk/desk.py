"""Taking, committing, discarding: what a desk does with its shelf."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import time
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from everyshelf.desk import naming
from everyshelf.desk.bases import Bases
from everyshelf.desk.errors import DeskError
from everyshelf.desk.merging import follow_merge, remember_merge
from everyshelf.desk.states import RULES_FILE, Item, as_artifacts, find_states, hash_settled, is_left_out, load_rules
from everyshelf.desk.store import (
    FOLDER,
    Entry,
    Home,
    load_entries,
    load_home,
    save_entries,
    save_home,
    trusted_mtime,
)
from everyshelf.desk.unsent import (
    Unsent,
    UnsentCommit,
    drop_unsent,
    has_unsent,
    keep,
    send_unsent,
    unsent_content,
)
from everyshelf.desk.writing import FILES_AT_ONCE, Writer, in_batches, side_by_side

if TYPE_CHECKING:
    from everyshelf.client import Artifact, Commit, CommitMessage, Draft, ShelfClient

Progress = Callable[[int, int, str], None]
_NO_ROOM = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
_SPARE_BYTES = 4 * 1024 * 1024


@dataclass
class Taken:
    """What bringing a state onto the desk did, by path."""

    written: list[str] = field(default_factory=list)
    removed: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    """Edited here and changed there: left as they are."""
    unfolded: list[str] = field(default_factory=list)
    in_place: list[str] = field(default_factory=list)
    """Whose bytes lie outside the shelf: they stay there."""


@dataclass(frozen=True)
class Origin:
    """Where a fresh desk gets its state: a branch to commit to, or a ref to look at."""

    address: str
    shelf: str
    branch: str | None
    ref: str


def _silent(done: int, total: int, note: str) -> None:
    pass


class Desk:
    """The desk at ``root``."""

    def __init__(self, root: Path, home: Home) -> None:
        self.root = root
        self.home = home
        self._writer = Writer(root)

    # --- finding and making ------------------------------------------------

    @classmethod
    def find(cls, start: Path) -> Desk:
        """The desk ``start`` lies on; raises ``DeskError`` if there is none."""
        for folder in (start, *start.parents):
            if (folder / FOLDER).is_dir():
                try:
                    return cls(folder, load_home(folder))
                except (OSError, msgspec.DecodeError) as error:
                    raise DeskError(
                        f"{folder / FOLDER} is damaged",
                        code="desk.broken",
                        hint="Take the shelf again into a new folder; your files stay.",
                    ) from error
        raise DeskError(
            f"{start} is not inside a desk", code="desk.missing", hint="Make one: everyshelf take SHELF FOLDER"
        )

    @classmethod
    def make(cls, root: Path, origin: Origin) -> Desk:
        """A fresh desk in ``root``; files that lie there already become new artifacts on it."""
        if (root / FOLDER).exists():
            raise DeskError(f"{root} is a desk already", code="desk.exists", hint="Work there: everyshelf pending")
        outer = next((folder for folder in root.parents if (folder / FOLDER).is_dir()), None)
        if outer is not None:
            raise DeskError(
                f"{root} lies on the desk {outer}, and a desk inside a desk would be versioned twice",
                code="desk.nested",
                hint="To bring the newest state here: everyshelf take. Another shelf goes into a folder outside it.",
            )
        home = Home(origin.address, origin.shelf, origin.branch, None, origin.ref)
        made = not root.exists()
        try:
            (root / FOLDER).mkdir(parents=True)
            save_home(root, home)
        except OSError:
            # Half a desk would be called damaged by the next command.
            shutil.rmtree(root if made else root / FOLDER, ignore_errors=True)
            raise
        return cls(root, home)

    def states(self) -> list[Item]:
        """The state of every artifact, edited parts of unfolded ones folded back first."""
        items = find_states(self.root, self._level())
        return [self._within_part(item) for item in items] if self.home.only else items

    def _within_part(self, item: Item) -> Item:
        """A desk that has a part of its shelf leaves the rest alone: what is there under such a path is not known."""
        if item.entry is not None or item.state != "new" or self.has_part(item.path):
            return item
        reason = f"it lies outside the part this desk has; add it: everyshelf take --only {item.path}"
        return msgspec.structs.replace(item, state="blocked", content=None, reason=reason)

    def artifacts(self) -> list[Item]:
        """As ``states``, with the files of each folder kept whole told as one artifact."""
        return as_artifacts(self.root, self.states())

    def _level(self) -> dict[str, str]:
        """Unfolded artifacts and their parts say the same again; where that cannot be, why."""
        if not (self.root / FOLDER / "unfolded.json").is_file():
            return {}
        from everyshelf.desk.unfolded import bring_level

        return bring_level(self.root)

    def pending(self) -> list[Item]:
        """What differs from where it came from, and could be committed."""
        return [i for i in self.states() if i.state not in ("same", "blocked")]

    # --- taking ------------------------------------------------------------

    def take(self, shelf: ShelfClient, progress: Progress = _silent) -> Taken:
        """Bring the newest state of the branch (or the ref) here. What was edited here is never overwritten."""
        self._check_all_is_sent()
        follow_merge(self.root, shelf)
        head = shelf.branch(self.home.branch).head if self.home.branch else None
        ref = f"commit:{head}" if head else self.home.ref if self.home.branch is None else None
        there = list(shelf.artifacts(ref, files=True)) if ref is not None else []
        wanted = {a.path: a for a in there if self.is_taken(a)}
        states = {i.path: i for i in self.states()}
        entries = load_entries(self.root)
        result = Taken(in_place=[a.path for a in there if a.in_place and self.has_part(a.path)])
        fresh = [a for a in wanted.values() if self._is_wanted(a, states.get(a.path), entries, result)]
        self._check_room(fresh)
        # The newest rules first: what they leave out stays on the disk when it leaves the shelf.
        fresh.sort(key=lambda artifact: artifact.path != RULES_FILE)
        try:
            for artifact in [a for a in fresh[:1] if a.path == RULES_FILE]:
                self._note(self._writer.write(shelf, artifact), entries)
                result.written.append(artifact.path)
            self._remove_gone(wanted, states, entries, result)
            rest = fresh[len(result.written) :]
            batches = in_batches(rest, lambda artifact: artifact.size)
            for written in side_by_side(lambda batch: self._writer.write_many(shelf, batch), batches):
                for artifact in written:
                    self._note(artifact, entries)
                    result.written.append(artifact.path)
                progress(len(result.written) - len(fresh) + len(rest), len(rest), result.written[-1])
        except OSError as error:
            if error.errno in _NO_ROOM:
                raise _no_room(self.root) from error
            raise
        finally:
            self._save_entries(entries)
            self._keep_bases(result.written, entries)
        self._unfold(result, entries)
        # With something kept, the desk goes on building on the older commit: only then does the service notice that
        # the same artifact changed on both sides, instead of one overwriting the other.
        if not result.kept:
            self.home.commit = head
        save_home(self.root, self.home)
        return result

    def is_taken(self, artifact: Artifact) -> bool:
        """Whether this desk has the artifact: it lies in its part of the shelf, and not in place somewhere else."""
        return not artifact.in_place and self.has_part(artifact.path)

    def has_part(self, path: str) -> bool:
        """Whether this desk has that part of the shelf; its rules it always has."""
        only = self.home.only
        return not only or path == RULES_FILE or any(path == one or path.startswith(f"{one}/") for one in only)

    def _check_all_is_sent(self) -> None:
        if has_unsent(self.root):
            raise DeskError(
                "this desk has unsent commits",
                code="desk.waiting",
                hint="Send them first: everyshelf commit --send. To look at them: everyshelf pending --unsent",
            )

    def _check_room(self, fresh: list[Artifact]) -> None:
        """Raise before anything is written if all of it cannot be."""
        needed = sum(artifact.size for artifact in fresh)
        if needed + _SPARE_BYTES > shutil.disk_usage(self.root).free:
            raise _no_room(self.root, needed)

    def _save_entries(self, entries: dict[str, Entry]) -> None:
        """Keep the entries. Where even they find no room nothing is lost by it: the next look compares contents."""
        try:
            save_entries(self.root, entries)
        except OSError as error:
            if error.errno not in _NO_ROOM:
                raise

    def _keep_bases(self, paths: Iterable[str], entries: dict[str, Entry]) -> None:
        with Bases(self.root) as bases:
            bases.make_room({e.content: e.size for e in entries.values()})
        self._keep_files([self.root / path for path in paths])

    @contextlib.contextmanager
    def _keeping(self, items: list[Item]) -> Iterator[None]:
        """Keep what is committed as bases, while the service works; without a commit that does no harm."""
        files = [self.root / item.path for item in items if item.content is not None]
        with ThreadPoolExecutor(1) as pool:
            keeping = pool.submit(self._keep_files, files)
            yield
            keeping.result()
        with Bases(self.root) as bases:
            bases.make_room({e.content: e.size for e in load_entries(self.root).values()})

    def _keep_files(self, files: list[Path]) -> None:
        with Bases(self.root) as bases:
            bases.keep(file for file in files if file.is_file())

    def write_base(self, content: str, target: Path, shelf: ShelfClient) -> None:
        """Write a content this desk came from into ``target``: as it is kept here, else from the service."""
        unsent = unsent_content(self.root, content)
        if unsent is not None:
            shutil.copyfile(unsent, target)
            return
        with Bases(self.root) as bases:
            if bases.write(content, target):
                return
        shelf.download_content(content, target)

    # --- commits that are not sent ------------------------------------------

    def send(self, shelf: ShelfClient) -> list[str]:
        """Send unsent commits, oldest first; gives the ids of the commits they became. Then take the newest state."""
        sent = send_unsent(self.root, self.home, shelf) if has_unsent(self.root) else []
        if sent:
            self.take(shelf)
        return sent

    def drop(self, number: int) -> Unsent:
        """Drop an unsent commit; what it changed is pending again."""
        return drop_unsent(self.root, number)

    def _unfold(self, result: Taken, entries: dict[str, Entry]) -> None:
        from everyshelf.desk.unfolded import forget, unfold_all

        forget(self.root, result.removed)
        self._level()
        if self.home.unfold:
            result.unfolded = unfold_all(self.root, [(p, entries[p].kind) for p in result.written if p in entries])

    def unfold_all(self) -> list[str]:
        """Unfold every artifact that hides parts and was not edited; gives their paths."""
        from everyshelf.desk.unfolded import unfold_all

        save_home(self.root, self.home)
        items = [i for i in self.states() if i.state == "same" and i.entry is not None]
        return unfold_all(self.root, [(i.path, i.entry.kind) for i in items if i.entry is not None])

    def _is_wanted(self, artifact: Artifact, item: Item | None, entries: dict[str, Entry], result: Taken) -> bool:
        """Whether the artifact has to be fetched; what was edited here and changed there is noted as kept."""
        entry = entries.get(artifact.path)
        if item is not None and item.content == artifact.content:
            self._note(artifact, entries)
            return False
        if entry is not None and entry.content == artifact.content:
            return False  # edited or removed here, unchanged there
        if item is not None and item.state != "same":
            result.kept.append(artifact.path)
            return False
        return True

    def _remove_gone(
        self, wanted: dict[str, Artifact], states: dict[str, Item], entries: dict[str, Entry], result: Taken
    ) -> None:
        rules = load_rules(self.root)
        for path in [p for p in entries if p not in wanted]:
            item = states.get(path)
            if item is not None and item.state == "edited":
                result.kept.append(path)
                continue
            if item is not None and item.state == "same" and not is_left_out(rules, path):
                (self.root / path).unlink(missing_ok=True)
                self._drop_empty_folders(path)
                result.removed.append(path)
            del entries[path]

    def _note(self, artifact: Artifact, entries: dict[str, Entry]) -> None:
        stat = (self.root / artifact.path).stat()
        mtime = trusted_mtime(stat, time.time_ns())
        entries[artifact.path] = Entry(
            artifact.content, artifact.size, mtime, artifact.version, artifact.kind, artifact.within
        )

    def _drop_empty_folders(self, path: str) -> None:
        self._writer.forget_folders()
        folder = (self.root / path).parent
        while folder != self.root:
            try:
                folder.rmdir()
            except OSError:
                return
            folder = folder.parent

    # --- committing --------------------------------------------------------

    def select(self, items: list[Item], names: Iterable[str]) -> list[Item]:
        """The items people named, all of them if nothing was; see ``naming.select``."""
        return naming.select(self.root, items, names, self.states)

    def within(self, items: list[Item], names: Iterable[str]) -> list[Item]:
        """The items at these paths, below these folders or matching these patterns; see ``naming.within``."""
        return naming.within(self.root, items, names, self.states)

    def ignored(self, states: list[Item], names: Iterable[str]) -> list[Item]:
        """Versioned artifacts that a pattern leaves out, of those named: told as gone, for whoever says that they are
        to leave the shelf. Their files stay."""
        rules = load_rules(self.root)
        paths = [self.as_path(name) for name in names]
        named = [i for i in states if any(i.path == p or i.path.startswith(f"{p}/") for p in paths)]
        left_out = [i for i in named if i.state == "same" and i.entry is not None and is_left_out(rules, i.path)]
        return [Item(i.path, "gone", None, 0, i.entry) for i in left_out]

    def as_path(self, name: str) -> str:
        """A path as the shelf writes it, wherever on the desk the command runs."""
        return naming.as_path(self.root, name)

    def commit(
        self,
        shelf: ShelfClient,
        items: list[Item],
        message: CommitMessage,
        *,
        merge: bool = False,
        prefer: str | None = None,
        key: str = "",
        progress: Progress = _silent,
    ) -> Commit:
        """Commit these items, all or nothing; only contents the shelf lacks are sent.

        ``key``: what the commit is asked for with; where no answer comes, ``commit_later`` takes it along, so that a
        commit that landed is found and not made twice.
        """
        from everyshelf.client import ChangeRequest, ProblemError, UnreachableError

        self._check_can_commit(items)
        self._check_all_is_sent()
        assert self.home.branch is not None
        base = self.home.commit
        self._send_contents(shelf, items, progress)
        changes = [ChangeRequest(i.path, i.content, i.moved_from) for i in items]
        with self._keeping(items):
            try:
                made = shelf.commit(
                    self.home.branch,
                    base,
                    changes,
                    message,
                    merge=merge,
                    prefer=prefer,
                    key=key,
                )
            except ProblemError as error:
                if error.code == "merge.conflict" and error.problem.get("merge"):
                    remember_merge(self.root, str(error.problem["merge"]), items)
                raise
            self._note_commit(shelf, items, made.commit)
        if merge or made.parents != ([base] if base else []):
            with contextlib.suppress(UnreachableError):  # the next take brings it
                self.take(shelf)  # others' work came in with it
        return made

    def commit_later(
        self,
        items: list[Item],
        message: CommitMessage,
        *,
        run: dict[str, Any] | None = None,
        key: str = "",
    ) -> int:
        """Keep a commit of these items until the service can be reached; gives how many there are now.

        ``run``: a run of an experiment to be recorded with it, which may have written nothing. ``key``: what it was
        asked for with already.
        """
        if items or run is None:
            self._check_can_commit(items)
        if not message.summary.strip() or "\n" in message.summary.strip():
            raise DeskError("a commit needs a summary of one line", code="commit.summary", hint='Say --summary "…"')
        changes = [(i.path, i.content, i.size, i.moved_from) for i in items]
        made = datetime.now(UTC)
        commit = UnsentCommit(
            message.summary, made, changes, message.description, message.labels, message.tasks, run, key=key
        )
        return keep(self.root, self.home, items, commit)

    def _check_can_commit(self, items: list[Item]) -> None:
        if self.home.branch is None:
            raise DeskError(
                f"this desk shows {self.home.ref}, which is read only",
                code="desk.read_only",
                hint="Take a branch: everyshelf take SHELF FOLDER --branch NAME",
            )
        if not items:
            raise DeskError(
                "nothing is pending, so there is nothing to commit", code="commit.empty", hint="See everyshelf pending."
            )

    def save(self, shelf: ShelfClient, items: list[Item], progress: Progress = _silent) -> Draft:
        """Keep these items in the draft of the desk's branch, as they are now; nothing is committed."""
        from everyshelf.client import Saving

        if self.home.branch is None:
            raise DeskError(
                f"this desk shows {self.home.ref}, which is read only",
                code="desk.read_only",
                hint="Take a branch: everyshelf take SHELF FOLDER --branch NAME",
            )
        self._send_contents(shelf, items, progress)
        entries = [Saving(i.path, i.content, i.moved_from) for i in items]
        return shelf.save(self.home.branch, entries, self.home.commit)

    def _send_contents(self, shelf: ShelfClient, items: list[Item], progress: Progress) -> None:
        by_content = {i.content: i for i in items if i.content is not None}
        missing = shelf.missing(by_content)
        done = 0
        batches = [missing[start : start + FILES_AT_ONCE] for start in range(0, len(missing), FILES_AT_ONCE)]

        def send(batch: list[str]) -> list[str]:
            files = [self.root / by_content[content].path for content in batch]
            return [content.id for content in shelf.upload_many(files)]

        for batch, sent in zip(batches, side_by_side(send, batches), strict=True):
            for content, stored in zip(batch, sent, strict=True):
                item, done = by_content[content], done + 1
                if stored != content:
                    raise DeskError(
                        f"{item.path} changed while it was sent",
                        code="desk.unsettled",
                        hint="Wait until it is written, then commit again; nothing was committed.",
                    )
                progress(done, len(missing), item.path)

    def _note_commit(self, shelf: ShelfClient, items: list[Item], commit: str) -> None:
        entries = load_entries(self.root)
        for item in items:
            entries.pop(item.moved_from or "", None)
            if item.content is None:
                entries.pop(item.path, None)
        known = self._as_recorded(shelf, items, f"commit:{commit}")
        versions = {}
        for item in items:
            if item.content is not None:
                made = known.get(item.path)
                version, kind, within = (made.version, made.kind, made.within) if made else (None, "opaque", "")
                entries[item.path] = Entry(item.content, item.size, -1, version, kind, within)
                versions[within] = version
        for entry in entries.values():
            if entry.within:  # one file of it has another version, so all have
                entry.version = versions.get(entry.within, entry.version)
        save_entries(self.root, entries)
        self.home.commit = commit
        save_home(self.root, self.home)

    def _as_recorded(self, shelf: ShelfClient, items: list[Item], ref: str) -> dict[str, Artifact]:
        """What the shelf says of committed items, by path. The commit is there whether or not this can be asked."""
        from everyshelf.client import UnreachableError

        with contextlib.suppress(UnreachableError):
            if len(items) > 20:
                return {a.path: a for a in shelf.artifacts(ref, files=True)}
            return {i.path: shelf.artifact(i.path, ref) for i in items if i.content is not None}
        return {}

    # --- discarding --------------------------------------------------------

    def discard(self, shelf: ShelfClient, items: list[Item]) -> list[str]:
        """Bring items back to what they came from; a new file is put aside into the desk's own folder, not lost."""
        entries = load_entries(self.root)
        aside = self.root / FOLDER / "discarded" / time.strftime("%Y%m%dT%H%M%S")
        for item in items:
            file = self.root / item.path
            if file.exists() and hash_settled(file)[0] is not None:
                target = aside / item.path
                target.parent.mkdir(parents=True, exist_ok=True)
                os.replace(file, target)
            back = item.moved_from or item.path
            if item.entry is not None:
                self._bring_back(shelf, back, item.entry, entries)
            self._drop_empty_folders(item.path)
        save_entries(self.root, entries)
        return [i.path for i in items]

    def _bring_back(self, shelf: ShelfClient, path: str, entry: Entry, entries: dict[str, Entry]) -> None:
        self._writer.put(path, lambda part: self.write_base(entry.content, part, shelf))
        entries[path] = Entry(entry.content, entry.size, -1, entry.version, entry.kind, entry.within)


def _no_room(root: Path, needed: int = 0) -> DeskError:
    what = f" for the {needed:,} bytes that are to come" if needed else ""
    return DeskError(
        f"the disk of {root} has no room{what}",
        code="desk.room",
        hint="Make room, then take again: what is here already is not fetched twice.",
    )
