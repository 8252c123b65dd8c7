"""Taking, committing, discarding: what a desk does with its shelf."""

from __future__ import annotations

import contextlib
import os
import shutil
import time
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import msgspec

from everyshelf.desk.states import RULES_FILE, Item, as_artifacts, find_states, hash_settled
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

if TYPE_CHECKING:
    from everyshelf.client import Artifact, Commit, Draft, ShelfClient

Progress = Callable[[int, int, str], None]
T = TypeVar("T")
R = TypeVar("R")
_AT_ONCE = 8


class DeskError(Exception):
    """Something on the desk stands in the way; ``code`` is stable, ``hint`` is the next step."""

    def __init__(self, message: str, *, code: str, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.code = code
        self.hint = hint


@dataclass
class Taken:
    """What bringing a state onto the desk did, by path."""

    written: list[str] = field(default_factory=list)
    removed: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    """Edited here and changed there: left as they are."""
    unfolded: list[str] = field(default_factory=list)


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
        raise DeskError(f"{start} is no desk", code="desk.missing", hint="Make one: everyshelf take SHELF FOLDER")

    @classmethod
    def make(cls, root: Path, origin: Origin) -> Desk:
        """A fresh desk in ``root``; files that lie there already become new artifacts on it."""
        if (root / FOLDER).exists():
            raise DeskError(f"{root} is a desk already", code="desk.exists", hint="Work there: everyshelf pending")
        (root / FOLDER).mkdir(parents=True)
        home = Home(origin.address, origin.shelf, origin.branch, None, origin.ref)
        save_home(root, home)
        return cls(root, home)

    def states(self) -> list[Item]:
        """The state of every artifact, edited parts of unfolded ones folded back first."""
        return find_states(self.root, self._level())

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
        self._check_nothing_waits()
        head = shelf.branch(self.home.branch).head if self.home.branch else None
        ref = f"commit:{head}" if head else self.home.ref if self.home.branch is None else None
        there = shelf.artifacts(ref, files=True) if ref is not None else ()
        wanted = {a.path: a for a in there if self.is_taken(a.path)}
        states = {i.path: i for i in self.states()}
        entries = load_entries(self.root)
        result = Taken()
        self._remove_gone(wanted, states, entries, result)
        fresh = [a for a in wanted.values() if self._is_wanted(a, states.get(a.path), entries, result)]
        try:
            for done, artifact in enumerate(_side_by_side(lambda a: self._write(shelf, a), fresh)):
                self._note(artifact, entries)
                result.written.append(artifact.path)
                progress(done + 1, len(fresh), artifact.path)
        finally:
            save_entries(self.root, entries)
        self._unfold(result, entries)
        # With something kept, the desk goes on building on the older commit: only then does the service notice that
        # the same artifact changed on both sides, instead of one overwriting the other.
        if not result.kept:
            self.home.commit = head
        save_home(self.root, self.home)
        return result

    def is_taken(self, path: str) -> bool:
        """Whether this desk has that part of the shelf; its rules it always has."""
        only = self.home.only
        return not only or path == RULES_FILE or any(path == one or path.startswith(f"{one}/") for one in only)

    def take_up(self, items: Iterable[Item]) -> None:
        """What is committed from a desk that has a part of the shelf belongs to that part from now on."""
        fresh = {i.path for i in items if i.content is not None and not self.is_taken(i.path)}
        if fresh:
            self.home.only = sorted({*self.home.only, *fresh})

    def _check_nothing_waits(self) -> None:
        from everyshelf.desk.waiting import has_waiting

        if has_waiting(self.root):
            raise DeskError(
                "commits wait here to be sent",
                code="desk.waiting",
                hint="Send them first: everyshelf commit --send",
            )

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
        for path in [p for p in entries if p not in wanted]:
            item = states.get(path)
            if item is not None and item.state == "edited":
                result.kept.append(path)
                continue
            if item is not None and item.state == "same":
                (self.root / path).unlink(missing_ok=True)
                self._drop_empty_folders(path)
                result.removed.append(path)
            del entries[path]

    def _write(self, shelf: ShelfClient, artifact: Artifact) -> Artifact:
        target = self._inside(artifact.path)
        target.parent.mkdir(parents=True, exist_ok=True)
        part = target.with_name(f".{target.name[:80]}.{os.getpid()}.part")
        try:
            shelf.download_content(artifact.content, part)
            os.replace(part, target)
        finally:
            part.unlink(missing_ok=True)
        return artifact

    def _inside(self, path: str) -> Path:
        """The file for ``path``: the service's word is not enough to write outside the desk, through a link or not."""
        from everyshelf.core.history.paths import check_path

        target = self.root / check_path(path)
        if not target.parent.resolve().is_relative_to(self.root.resolve()):
            raise DeskError(
                f"{path} would lie outside the desk, through a link", code="desk.outside", hint="Remove the link."
            )
        return target

    def _note(self, artifact: Artifact, entries: dict[str, Entry]) -> None:
        stat = (self.root / artifact.path).stat()
        mtime = trusted_mtime(stat, time.time_ns())
        entries[artifact.path] = Entry(
            artifact.content, artifact.size, mtime, artifact.version, artifact.kind, artifact.within
        )

    def _drop_empty_folders(self, path: str) -> None:
        folder = (self.root / path).parent
        while folder != self.root:
            try:
                folder.rmdir()
            except OSError:
                return
            folder = folder.parent

    # --- committing --------------------------------------------------------

    def select(self, items: list[Item], names: Iterable[str]) -> list[Item]:
        """The items people named: by path, by folder, or by a name that only one of them has."""
        names = list(names)
        if not names:
            return items
        chosen: dict[str, Item] = {}
        for name in names:
            for item in self._named(items, name):
                chosen[item.path] = item
        return list(chosen.values())

    def _named(self, items: list[Item], name: str) -> list[Item]:
        path = self.as_path(name)
        exact = [i for i in items if i.path == path or i.moved_from == path or i.path.startswith(f"{path}/")]
        if exact:
            return exact
        alike = [i for i in items if spoken_name(i.path) == spoken_name(name) or i.path.rpartition("/")[2] == name]
        if len(alike) == 1:
            return alike
        if alike:
            paths = ", ".join(i.path for i in alike[:4])
            raise DeskError(
                f"{name!r} is the name of {len(alike)} artifacts: {paths}",
                code="desk.ambiguous",
                hint="Name it by its path.",
            )
        stuck = next((i for i in self.states() if i.state == "blocked" and i.path == path), None)
        if stuck is not None:
            raise DeskError(
                f"{path} waits: {stuck.reason}", code="desk.blocked", hint="See everyshelf pending; the rest can go."
            )
        raise DeskError(f"nothing pending is called {name!r}", code="desk.unknown", hint="See everyshelf pending.")

    def as_path(self, name: str) -> str:
        """A path as the shelf writes it, wherever on the desk the command runs."""
        given = Path(name)
        for base in (Path.cwd(), self.root):
            with contextlib.suppress(ValueError, OSError):
                full = given if given.is_absolute() else base / given
                path = Path(os.path.normpath(full)).relative_to(self.root).as_posix()
                if (self.root / path).exists() or path in load_entries(self.root):
                    return path
        return name.rstrip("/")

    def commit(
        self,
        shelf: ShelfClient,
        items: list[Item],
        summary: str,
        *,
        description: str = "",
        labels: dict[str, str] | None = None,
        tasks: list[str] | None = None,
        merge: bool = False,
        prefer: str | None = None,
        progress: Progress = _silent,
    ) -> Commit:
        """Commit these items, all or nothing; only contents the shelf lacks are sent."""
        from everyshelf.client import WantedChange

        self._check_can_commit(items)
        self._check_nothing_waits()
        assert self.home.branch is not None
        self._send_contents(shelf, items, progress)
        changes = [WantedChange(i.path, i.content, i.moved_from) for i in items]
        made = shelf.commit(
            self.home.branch,
            self.home.commit,
            changes,
            summary,
            description=description,
            labels=labels,
            tasks=tasks,
            merge=merge,
            prefer=prefer,
        )
        self._note_commit(shelf, items, made.commit)
        if merge:
            self.take(shelf)
        return made

    def commit_later(
        self,
        items: list[Item],
        summary: str,
        *,
        description: str = "",
        labels: dict[str, str] | None = None,
        tasks: list[str] | None = None,
        run: dict[str, Any] | None = None,
    ) -> int:
        """Keep a commit of these items until the service can be reached; gives how many wait now.

        ``run``: a run of an experiment to be recorded with it, which may have written nothing.
        """
        from everyshelf.desk.waiting import WaitingCommit, keep

        if items or run is None:
            self._check_can_commit(items)
        if not summary.strip() or "\n" in summary.strip():
            raise DeskError("a commit needs a summary of one line", code="commit.summary", hint='Say --summary "…"')
        changes = [(i.path, i.content, i.size, i.moved_from) for i in items]
        made = datetime.now(UTC)
        return keep(self, items, WaitingCommit(summary, made, changes, description, labels or {}, tasks or [], run))

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

        def send(content: str) -> Item:
            item = by_content[content]
            if shelf.upload(self.root / item.path).id != content:
                raise DeskError(
                    f"{item.path} changed while it was sent",
                    code="desk.unsettled",
                    hint="Wait until it is written, then commit again; nothing was committed.",
                )
            return item

        for done, item in enumerate(_side_by_side(send, missing)):
            progress(done + 1, len(missing), item.path)

    def _note_commit(self, shelf: ShelfClient, items: list[Item], commit: str) -> None:
        entries = load_entries(self.root)
        for item in items:
            entries.pop(item.moved_from or "", None)
            if item.content is None:
                entries.pop(item.path, None)
        ref = f"commit:{commit}"
        known = {a.path: a for a in shelf.artifacts(ref, files=True)} if len(items) > 20 else {}
        versions = {}
        for item in items:
            if item.content is not None:
                made = known.get(item.path) or shelf.artifact(item.path, ref)
                entries[item.path] = Entry(item.content, item.size, -1, made.version, made.kind, made.within)
                versions[made.within] = made.version
        for entry in entries.values():
            if entry.within:  # one file of it has another version, so all have
                entry.version = versions.get(entry.within, entry.version)
        save_entries(self.root, entries)
        self.take_up(items)
        self.home.commit = commit
        save_home(self.root, self.home)

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
        from everyshelf.desk.waiting import waiting_content

        target = self._inside(path)
        target.parent.mkdir(parents=True, exist_ok=True)
        part = target.with_name(f".{target.name[:80]}.{os.getpid()}.part")
        if (kept := waiting_content(self.root, entry.content)) is not None:
            shutil.copyfile(kept, part)
        else:
            shelf.download_content(entry.content, part)
        os.replace(part, target)
        entries[path] = Entry(entry.content, entry.size, -1, entry.version, entry.kind, entry.within)


def _side_by_side(act: Callable[[T], R], things: Iterable[T]) -> Iterator[R]:
    """Results of ``act`` in order, a few at a time: most of the work is waiting for the service."""
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        futures = [pool.submit(act, thing) for thing in things]
        try:
            for future in futures:
                yield future.result()
        finally:
            for future in futures:
                future.cancel()


def spoken_name(path: str) -> str:
    """How people call an artifact: the file's name without its last suffix, dashes as blanks."""
    name = path.rpartition("/")[2]
    return (name.rpartition(".")[0] or name).replace("-", " ").replace("_", " ").casefold()
