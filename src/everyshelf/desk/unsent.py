"""Unsent commits: made while the service was out of reach, kept on the desk with their contents, sent in order.

In ``.everyshelf/waiting``: ``NNNN.json`` for each commit, ``contents/ID`` for what it needs. As soon as one is there,
the desk's entries say what it holds, so that what is pending is told against it. A commit can be dropped: what it
changed is pending again.
"""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from everyshelf.decoding import from_json
from everyshelf.desk.errors import DeskError
from everyshelf.desk.states import Item, hash_settled
from everyshelf.desk.store import FOLDER, Entry, Home, load_entries, save_entries, save_home, write_settled

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient

_FOLDER, _CONTENTS = "waiting", "contents"


class UnsentCommit(msgspec.Struct):
    """A commit that is not on the shelf yet. ``changes``: path, content id (None: gone), size, where it moved from.

    ``run``: a run of an experiment that is recorded with it. ``merge``: the merge on the server that is to be settled
    before this commit is there. ``key``: what it was asked for with before, without an answer. ``before``: the desk's
    entry of each path it touched, as it was before (None: none).
    """

    summary: str
    made: datetime
    changes: list[tuple[str, str | None, int, str]]
    description: str = ""
    labels: dict[str, str] = {}
    tasks: list[str] = []
    run: dict[str, Any] | None = None
    merge: str = ""
    key: str = ""
    before: dict[str, Entry | None] = {}


@dataclass(frozen=True)
class Unsent:
    """An unsent commit with its number, by which people name it."""

    number: int
    file: Path
    commit: UnsentCommit


def unsent_commits(root: Path) -> list[Unsent]:
    """Unsent commits, oldest first; raises ``DeskError`` for a damaged one."""
    found = []
    for file in sorted((root / FOLDER / _FOLDER).glob("[0-9]*.json")):
        try:
            found.append(Unsent(int(file.stem), file, from_json(file.read_bytes(), UnsentCommit)))
        except (msgspec.DecodeError, ValueError) as error:
            raise DeskError(
                f"the unsent commit {file.stem} is damaged",
                code="desk.broken",
                hint=f"Look into {file}; move it away to go on without it. Your files stay.",
            ) from error
    return found


def has_unsent(root: Path) -> bool:
    """Whether there are unsent commits."""
    return any((root / FOLDER / _FOLDER).glob("[0-9]*.json"))


def get_unsent(root: Path, number: int) -> Unsent:
    """The unsent commit of that number."""
    for unsent in unsent_commits(root):
        if unsent.number == number:
            return unsent
    raise DeskError(
        f"there is no unsent commit {number} on this desk",
        code="desk.unsent",
        hint="List them: everyshelf pending --unsent",
    )


def keep(root: Path, home: Home, items: list[Item], commit: UnsentCommit) -> int:
    """Keep a commit of these items; gives how many there are now. Raises ``DeskError`` if a file changed meanwhile."""
    folder = root / FOLDER / _FOLDER
    (folder / _CONTENTS).mkdir(parents=True, exist_ok=True)
    for item in items:
        if item.content is None:
            continue
        target = folder / _CONTENTS / item.content
        if not target.exists():
            part = target.with_suffix(".part")
            shutil.copyfile(root / item.path, part)
            if hash_settled(part)[0] != item.content:
                part.unlink()
                raise DeskError(
                    f"{item.path} changed while it was kept",
                    code="desk.unsettled",
                    hint="Wait until it is written, then commit again; nothing was committed.",
                )
            os.replace(part, target)
    known = unsent_commits(root)
    number = 1 + (known[-1].number if known else 0)
    entries = load_entries(root)
    commit.before = {path: entries.get(path) for item in items for path in (item.path, item.moved_from) if path}
    write_settled(folder / f"{number:04}.json", msgspec.json.encode(commit))
    _note(root, home, items, entries)
    return len(known) + 1


def _note(root: Path, home: Home, items: list[Item], entries: dict[str, Entry]) -> None:
    for item in items:
        old = entries.pop(item.moved_from or "", None) or entries.get(item.path)
        if item.content is None:
            entries.pop(item.path, None)
        else:
            kind, within = (old.kind, old.within) if old else ("opaque", "")
            entries[item.path] = Entry(item.content, item.size, -1, None, kind, within)
    save_entries(root, entries)
    save_home(root, home)


def drop_unsent(root: Path, number: int) -> Unsent:
    """Drop an unsent commit. No file changes: what it changed, and no later one did, is pending again."""
    dropped = get_unsent(root, number)
    entries = load_entries(root)
    later = [u for u in unsent_commits(root) if u.number > number]
    for path, before in dropped.commit.before.items():
        next_one = next((u for u in later if path in u.commit.before), None)
        if next_one is not None:
            next_one.commit.before[path] = before
            write_settled(next_one.file, msgspec.json.encode(next_one.commit))
        elif before is None:
            entries.pop(path, None)
        else:
            entries[path] = Entry(before.content, before.size, -1, before.version, before.kind, before.within)
    # First the commit, then what is told about it: cut short in between, its changes show as pending too early only.
    save_entries(root, entries)
    dropped.file.unlink()
    if not has_unsent(root):
        shutil.rmtree(root / FOLDER / _FOLDER, ignore_errors=True)
    return dropped


def unsent_content(root: Path, content: str) -> Path | None:
    """The file with a content that is not on the shelf yet."""
    file = root / FOLDER / _FOLDER / _CONTENTS / content
    return file if file.is_file() else None


class _Sent(msgspec.Struct):
    """How far sending came. What was unsent is one line of work that grew from ``base``: once the branch is found to
    have moved on, each commit is merged into it as all that was changed since then; what is there already stays."""

    base: str | None
    merging: bool = False
    changes: list[tuple[str, str | None, str]] = []


def send_unsent(root: Path, home: Home, shelf: ShelfClient) -> list[str]:
    """Send unsent commits, in order; gives the ids of the commits they became.

    Raises ``ProblemError`` for the first that cannot be sent, for a conflict with the merge that is kept for it on the
    server; it and those after it stay. Call ``Desk.take`` afterwards.
    """
    folder = root / FOLDER / _FOLDER
    state_file = folder / "sent"
    known = state_file.read_bytes() if state_file.is_file() else None
    state = from_json(known, _Sent) if known else _Sent(home.commit)
    made = []
    for unsent in unsent_commits(root):
        commit = unsent.commit
        state.changes = _joined(state.changes, commit)
        base = home.commit
        sent = _send_one(root, home, shelf, unsent, state)
        if sent:
            made.append(sent)
            home.commit = sent
            save_home(root, home)
        if commit.run is not None:
            _send_run(home, shelf, dict(commit.run), base)
        write_settled(state_file, msgspec.json.encode(state))
        unsent.file.unlink()
    shutil.rmtree(folder, ignore_errors=True)
    return made


def _send_one(root: Path, home: Home, shelf: ShelfClient, unsent: Unsent, state: _Sent) -> str:
    """The id of the commit it became; empty if the branch has all of it already."""
    from everyshelf.client import ProblemError

    commit = unsent.commit
    if not commit.changes:
        return ""
    if commit.key and (landed := _landed(home, shelf, commit)):
        return landed
    if commit.merge and (settled := _settled(shelf, commit.merge)):
        state.merging = True
        return settled
    for content in shelf.missing({c for _, c, _, _ in commit.changes if c is not None}):
        shelf.upload(root / FOLDER / _FOLDER / _CONTENTS / content)
    try:
        if not state.merging:
            own = [(path, content, moved) for path, content, _, moved in commit.changes]
            try:
                return _commit(home, shelf, home.commit, own, commit, merge=False)
            except ProblemError as error:
                if error.code != "branch.moved":
                    raise
                state.merging = True
        return _commit(home, shelf, state.base, state.changes, commit, merge=True)
    except ProblemError as error:
        if error.code == "commit.empty":
            return ""
        if error.code == "merge.conflict":
            commit.merge = str(error.problem.get("merge", ""))
            write_settled(unsent.file, msgspec.json.encode(commit))
        raise


def _landed(home: Home, shelf: ShelfClient, commit: UnsentCommit) -> str:
    """The id of the commit, made when it was asked for the first time or now; empty if the branch has moved on."""
    from everyshelf.client import ChangeRequest, CommitMessage, ProblemError

    changes = [ChangeRequest(path, content, moved) for path, content, _, moved in commit.changes]
    try:
        if shelf.missing({c.content for c in changes if c.content is not None}):
            return ""  # it cannot be there without its contents
        made = shelf.commit(
            str(home.branch),
            home.commit,
            changes,
            CommitMessage(commit.summary, commit.description, commit.labels, commit.tasks),
            key=commit.key,
        )
    except ProblemError:
        return ""
    return made.commit


def _commit(
    home: Home,
    shelf: ShelfClient,
    base: str | None,
    changes: list[tuple[str, str | None, str]],
    commit: UnsentCommit,
    *,
    merge: bool,
) -> str:
    from everyshelf.client import ChangeRequest, CommitMessage

    when = f"Made on a desk at {commit.made:%Y-%m-%d %H:%M} UTC, while the service was out of reach."
    made = shelf.commit(
        str(home.branch),
        base,
        [ChangeRequest(*change) for change in changes],
        CommitMessage(commit.summary, f"{commit.description}\n\n{when}".strip(), commit.labels, commit.tasks),
        merge=merge,
    )
    return made.commit


def _send_run(home: Home, shelf: ShelfClient, run: dict[str, Any], base: str | None) -> None:
    commit = home.commit or ""
    run["began"] = datetime.fromisoformat(run["began"]) if run.get("began") else None
    shelf.record_run(run.pop("experiment"), str(home.branch), commit, base=base or commit, **run)


def _settled(shelf: ShelfClient, merge: str) -> str:
    """The commit of a merge that was finished meanwhile; empty if it was not, or was abandoned."""
    from everyshelf.client import ProblemError

    try:
        found = shelf.waiting_merge(merge)
    except ProblemError:
        return ""
    return found.commit or "" if found.state == "finished" else ""


def _joined(before: list[tuple[str, str | None, str]], commit: UnsentCommit) -> list[tuple[str, str | None, str]]:
    """All changes so far as one: of each path the last, moves told from where they began."""
    together = {path: (content, moved) for path, content, moved in before}
    for path, content, _, moved in commit.changes:
        came = moved
        if moved and moved in together:
            came = together.pop(moved)[1]
        elif not moved and path in together:
            came = together[path][1]
        together[path] = content, came
    return [(path, content, moved) for path, (content, moved) in together.items()]
