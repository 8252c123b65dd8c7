"""Registering data where it lies: a job lists the place and commits an artifact for each file.

Nothing is read but the listing. What was registered before and says the same is the same content; so registering again
commits what changed, came and went, and nothing where nothing did.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass, field
from typing import Any

import msgspec
from django.utils import timezone

from everyshelf.core.content.outside import Stamp, draw_note
from everyshelf.core.errors import InvalidError, LimitError
from everyshelf.core.history.paths import check_path
from everyshelf.core.kinds.rules import Rules
from everyshelf.decoding import converted
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.claims.actions.steps import Steps, file_steps
from everyshelf.service.claims.actions.taking import require_free, take
from everyshelf.service.in_place.actions.places import checked_address, reader_of, told
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.jobs.models import Job
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.committing import ChangeRequest, prepare_changes
from everyshelf.service.shelves.actions.contents import hold
from everyshelf.service.shelves.actions.outside import outside_addresses
from everyshelf.service.shelves.actions.recording import CommitMessage, checked_message, require_branch, rules_at
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import OutsideContent, Shelf
from everyshelf.storage.outside.folders import Folders
from everyshelf.storage.outside.places import Found

KIND = "in-place-add"
RIGHT = "bring data in place"
_MOST_FILES = 200_000
_AT_ONCE = 500
_MOST_TOLD = 100

Progress = Callable[[int, int, str], None]


@dataclass
class Registered:
    """What registering did, by path; ``left_out``: path or name -> why it was not registered."""

    address: str
    added: int = 0
    changed: int = 0
    unchanged: int = 0
    removed: int = 0
    size: int = 0
    left_out: dict[str, str] = field(default_factory=dict)
    more_left_out: int = 0
    commit: str | None = None

    def leave_out(self, name: str, why: str) -> None:
        """Note what is not registered, by a name that can be shown; beyond some the rest is counted."""
        name = "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in name)
        if len(self.left_out) < _MOST_TOLD:
            self.left_out[name] = why
        else:
            self.more_left_out += 1


def start_registering(
    caller: Caller, shelf: Shelf, path: str, address: str, endpoint: str, branch: str, summary: str
) -> Job:
    """Register what lies at ``address`` as the artifact ``path``, or those below it; by a job."""
    require(caller, shelf, RIGHT)
    line = get_branch(shelf, branch or shelf.main_branch)
    require_branch(caller, shelf, line)
    where = check_path(path.rstrip("/"))
    address = checked_address(address, endpoint)
    summary = summary or f"Register {where} in place at {told(address)}"
    checked_message(caller, CommitMessage(summary))
    given = {"path": where, "address": address, "branch": line.name, "summary": summary}
    with one_act():
        note(caller, "in-place.begun", told(address), shelf, path=where)
        return start_job(caller, KIND, shelf, given)


def register(caller: Caller, shelf: Shelf, given: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The work of the job: list, keep a note for each file, and commit them."""
    path, address, branch = given["path"], given["address"], given["branch"]
    head = get_branch(shelf, branch).head
    root = head.root if head is not None else get_trees().empty
    done = Registered(told(address))
    ground = _ground(address)
    require_free(shelf, "in place", address, ground)
    files, left_out = _listed(shelf, path, address, rules_at(root), done, progress)
    with one_act():
        take(shelf, "in place", 0, address, ground, caller.person.username)
    contents = _contents(shelf, list(files.values()), progress)
    wanted = []
    for where, found in files.items():
        content, before = contents[found.address], get_trees().find(root, where)
        done.size += found.stamp.size
        if before is not None and before.id == content:
            done.unchanged += 1
        else:
            done.changed += before is not None
            done.added += before is None
            wanted.append(ChangeRequest(where, content))
    # What is there and cannot be registered now (its rights, a rule) is not gone.
    below = _registered_below(root, path, address)
    gone = [where for where in below if where not in files and not _is_left_out(where, left_out)]
    done.removed = len(gone)
    wanted += [ChangeRequest(where, None) for where in gone]
    if wanted:
        base = head.uid if head is not None else None
        message = CommitMessage(given["summary"])
        prepared = prepare_changes(caller, shelf, branch, base, wanted, message, merge=True, prefer="source")
        done.commit = prepared.record().uid
    return asdict(done)


def _ground(address: str) -> list[Steps]:
    """What of this machine is read. Buckets and servers are let in by credentials of the shelf."""
    if not address.startswith("/"):
        return []
    folders = reader_of(address, None)
    assert isinstance(folders, Folders)
    return [file_steps(folders.within(address))]


def _listed(
    shelf: Shelf, path: str, address: str, rules: Rules, done: Registered, progress: Progress
) -> tuple[dict[str, Found], set[str]]:
    """The files to register by the paths they go to, and the paths of what is there and is left out."""
    files: dict[str, Found] = {}
    left_out: set[str] = set()
    for found in reader_of(address, shelf.pk).listed(address):
        progress(len(files), 0, found.name or path)
        where = f"{path}/{found.name}" if found.name else path
        why_not = found.why_not or ("shelf.toml ignores it" if rules.leaves_out(where) else "")
        try:
            check_path(where)
        except InvalidError as error:
            why_not = why_not or error.message
        if why_not:
            left_out.add(where)
            done.leave_out(where, why_not)
        else:
            files[where] = found
        if len(files) > _MOST_FILES:
            raise LimitError(
                f"{told(address)} holds more than {_MOST_FILES} files",
                code="in_place.too_many",
                hint="Register the folders in it one by one.",
            )
    if not files:
        raise InvalidError(
            f"nothing at {told(address)} can be registered",
            code="in_place.nothing",
            hint="; ".join(f"{name}: {why}" for name, why in list(done.left_out.items())[:3]) or "It holds no file.",
        )
    return files, left_out


def _is_left_out(path: str, left_out: set[str]) -> bool:
    """Whether the path, or a folder above it, was left out."""
    parts = path.split("/")
    return any("/".join(parts[:depth]) in left_out for depth in range(1, len(parts) + 1))


def _contents(shelf: Shelf, files: list[Found], progress: Progress) -> dict[str, str]:
    """Address -> content of each: the one it had, where the place says the same of it, else a new one."""
    store, contents = get_store(), dict[str, str]()
    for start in range(0, len(files), _AT_ONCE):
        some = files[start : start + _AT_ONCE]
        progress(start, len(files), some[0].name)
        known = _known(shelf, some)
        fresh = [found for found in some if found.address not in known]
        rows = []
        for found in fresh:
            info = store.put_outside(draw_note(found.address, found.stamp, str(shelf.pk)))
            rows.append(_row(shelf, info.id, found))
        store.sync()
        with one_act():
            hold(shelf, {row.content: row.size for row in rows} | dict(known.values()))
            OutsideContent.objects.bulk_create(rows)
        contents.update({row.address: row.content for row in rows} | {a: c for a, (c, _) in known.items()})
    return contents


def _known(shelf: Shelf, files: list[Found]) -> dict[str, tuple[str, int]]:
    """Address -> content and size of those that were registered as they are now, and whose notes the store holds: one
    that no commit came to name is let go of after a while."""
    holds = get_store().segments.holds
    stamps = {found.address: msgspec.to_builtins(found.stamp) for found in files}
    rows = OutsideContent.objects.filter(shelf=shelf, address__in=stamps).order_by("pk")
    same = (row for row in rows if row.stamp == stamps[row.address] and holds(bytes.fromhex(row.content)))
    return {row.address: (row.content, row.size) for row in same}


def _row(shelf: Shelf, content: str, found: Found) -> OutsideContent:
    return OutsideContent(
        content=content,
        shelf=shelf,
        address=found.address,
        size=found.stamp.size,
        stamp=msgspec.to_builtins(found.stamp),
        registered=timezone.now(),
    )


def stamp_of(row: OutsideContent) -> Stamp:
    """What the place said of the bytes when they were registered."""
    return converted(row.stamp, Stamp)


def _registered_below(root: str, path: str, address: str) -> Iterator[str]:
    """Paths at or below ``path`` whose bytes lie at or below ``address``."""
    trees = get_trees()
    entry = trees.find(root, path)
    if entry is None:
        return
    files = [(path, entry)] if entry.type == "artifact" else list(trees.files(entry.id, f"{path}/"))
    where, _, asked = address.partition("?")
    below = where.rstrip("/") + "/"
    for start in range(0, len(files), _AT_ONCE):
        some = files[start : start + _AT_ONCE]
        addresses = outside_addresses(one.id for _, one in some)
        for at, one in some:
            there, _, there_asked = addresses.get(one.id, "").partition("?")
            if (there == where or there.startswith(below)) and there_asked == asked:
                yield at
