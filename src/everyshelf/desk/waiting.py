"""Commits made while the service is out of reach: they wait on the desk, with their contents, and are sent in order.

In ``.everyshelf/waiting``: ``NNNN.json`` for each commit, ``contents/ID`` for what it needs. As soon as one waits, the
desk's entries say what it holds, so that what is pending is told against it.
"""

from __future__ import annotations

import os
import shutil
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from everyshelf.desk.states import Item, hash_settled
from everyshelf.desk.store import FOLDER, Entry, load_entries, save_entries, save_home, write_settled

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.desk.desk import Desk

_FOLDER, _CONTENTS = "waiting", "contents"


class WaitingCommit(msgspec.Struct):
    """A commit that waits to be sent. ``changes``: path, content id (None: gone), size, where it moved from.

    ``run``: a run of an experiment that is recorded with it. ``merge``: the merge on the server that waits to be
    settled before this commit is there.
    """

    summary: str
    made: datetime
    changes: list[tuple[str, str | None, int, str]]
    description: str = ""
    labels: dict[str, str] = {}
    tasks: list[str] = []
    run: dict[str, Any] | None = None
    merge: str = ""


def waiting_commits(root: Path) -> list[tuple[Path, WaitingCommit]]:
    """Commits that wait, in order, each with its file."""
    files = sorted((root / FOLDER / _FOLDER).glob("*.json"))
    return [(file, msgspec.json.decode(file.read_bytes(), type=WaitingCommit)) for file in files]


def keep(desk: Desk, items: list[Item], commit: WaitingCommit) -> int:
    """Keep a commit of these items; gives how many wait now. Raises ``DeskError`` if a file changed meanwhile."""
    from everyshelf.desk.desk import DeskError

    folder = desk.root / FOLDER / _FOLDER
    (folder / _CONTENTS).mkdir(parents=True, exist_ok=True)
    for item in items:
        if item.content is None:
            continue
        target = folder / _CONTENTS / item.content
        if not target.exists():
            part = target.with_suffix(".part")
            shutil.copyfile(desk.root / item.path, part)
            if hash_settled(part)[0] != item.content:
                part.unlink()
                raise DeskError(
                    f"{item.path} changed while it was kept",
                    code="desk.unsettled",
                    hint="Wait until it is written, then commit again; nothing was committed.",
                )
            os.replace(part, target)
    known = waiting_commits(desk.root)
    number = 1 + (int(known[-1][0].stem) if known else 0)
    write_settled(folder / f"{number:04}.json", msgspec.json.encode(commit))
    _note(desk, items)
    return len(known) + 1


def _note(desk: Desk, items: list[Item]) -> None:
    entries = load_entries(desk.root)
    for item in items:
        old = entries.pop(item.moved_from or "", None) or entries.get(item.path)
        if item.content is None:
            entries.pop(item.path, None)
        else:
            kind, within = (old.kind, old.within) if old else ("opaque", "")
            entries[item.path] = Entry(item.content, item.size, -1, None, kind, within)
    save_entries(desk.root, entries)
    desk.take_up(items)
    save_home(desk.root, desk.home)


def has_waiting(root: Path) -> bool:
    """Whether commits wait to be sent."""
    return any((root / FOLDER / _FOLDER).glob("*.json"))


def waiting_content(root: Path, content: str) -> Path | None:
    """The file with a content that is not on the shelf yet."""
    file = root / FOLDER / _FOLDER / _CONTENTS / content
    return file if file.is_file() else None


class _Sent(msgspec.Struct):
    """How far sending came. What waited is one line of work that grew from ``base``: once the branch is found to have
    moved on, each commit is merged into it as all that was changed since then; what is there already stays as it is."""

    base: str | None
    merging: bool = False
    changes: list[tuple[str, str | None, str]] = []


def send_waiting(desk: Desk, shelf: ShelfClient) -> list[str]:
    """Send what waits, in order; gives the ids of the commits it became.

    Raises ``ProblemError`` for the first that cannot be sent, for a conflict with the merge that waits for it on the
    server; it and those after it go on waiting. Call ``Desk.take`` afterwards.
    """
    folder = desk.root / FOLDER / _FOLDER
    state_file = folder / "sent"
    known = state_file.read_bytes() if state_file.is_file() else None
    state = msgspec.json.decode(known, type=_Sent) if known else _Sent(desk.home.commit)
    made = []
    for file, commit in waiting_commits(desk.root):
        state.changes = _joined(state.changes, commit)
        base = desk.home.commit
        sent = _send_one(desk, shelf, file, commit, state)
        if sent:
            made.append(sent)
            desk.home.commit = sent
            save_home(desk.root, desk.home)
        if commit.run is not None:
            _send_run(desk, shelf, dict(commit.run), base)
        write_settled(state_file, msgspec.json.encode(state))
        file.unlink()
    shutil.rmtree(folder, ignore_errors=True)
    return made


def _send_one(desk: Desk, shelf: ShelfClient, file: Path, commit: WaitingCommit, state: _Sent) -> str:
    """The id of the commit it became; empty if the branch has all of it already."""
    from everyshelf.client import ProblemError

    if not commit.changes:
        return ""
    if commit.merge and (settled := _settled(shelf, commit.merge)):
        state.merging = True
        return settled
    for content in shelf.missing({c for _, c, _, _ in commit.changes if c is not None}):
        shelf.upload(desk.root / FOLDER / _FOLDER / _CONTENTS / content)
    try:
        if not state.merging:
            own = [(path, content, moved) for path, content, _, moved in commit.changes]
            try:
                return _commit(desk, shelf, desk.home.commit, own, commit, merge=False)
            except ProblemError as error:
                if error.code != "branch.moved":
                    raise
                state.merging = True
        return _commit(desk, shelf, state.base, state.changes, commit, merge=True)
    except ProblemError as error:
        if error.code == "commit.empty":
            return ""
        if error.code == "merge.conflict":
            commit.merge = str(error.problem.get("merge", ""))
            write_settled(file, msgspec.json.encode(commit))
        raise


def _commit(
    desk: Desk,
    shelf: ShelfClient,
    base: str | None,
    changes: list[tuple[str, str | None, str]],
    commit: WaitingCommit,
    *,
    merge: bool,
) -> str:
    from everyshelf.client import WantedChange

    when = f"Made on a desk at {commit.made:%Y-%m-%d %H:%M} UTC, while the service was out of reach."
    made = shelf.commit(
        str(desk.home.branch),
        base,
        [WantedChange(*change) for change in changes],
        commit.summary,
        description=f"{commit.description}\n\n{when}".strip(),
        labels=commit.labels,
        tasks=commit.tasks,
        merge=merge,
    )
    return made.commit


def _send_run(desk: Desk, shelf: ShelfClient, told: dict[str, Any], base: str | None) -> None:
    commit = desk.home.commit or ""
    told["began"] = datetime.fromisoformat(told["began"]) if told.get("began") else None
    shelf.record_run(told.pop("experiment"), str(desk.home.branch), commit, base=base or commit, **told)


def _settled(shelf: ShelfClient, merge: str) -> str:
    """The commit of a merge that was finished meanwhile; empty if it was not, or was given up."""
    from everyshelf.client import ProblemError

    try:
        found = shelf.waiting_merge(merge)
    except ProblemError:
        return ""
    return found.commit or "" if found.state == "finished" else ""


def _joined(before: list[tuple[str, str | None, str]], commit: WaitingCommit) -> list[tuple[str, str | None, str]]:
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
