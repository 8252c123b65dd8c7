"""Looking after data in place: what is registered, whether it is still what it was, and fingerprints of its bytes."""

from __future__ import annotations

import hashlib
import itertools
from collections.abc import Callable, Iterable, Iterator
from typing import Any

import msgspec
from django.utils import timezone

from everyshelf.core.content.outside import ChangedError
from everyshelf.core.errors import InvalidError, OutOfReachError
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.trees import Entry
from everyshelf.service.base.acts import aside, one_act
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.in_place.actions.places import reader_of, told
from everyshelf.service.in_place.actions.registering import KIND as ADDING
from everyshelf.service.in_place.actions.registering import RIGHT, stamp_of
from everyshelf.service.jobs.actions import job_json, start_job
from everyshelf.service.jobs.models import Job
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.listing import decode_cursor, encode_cursor
from everyshelf.service.shelves.actions.refs import Resolved, resolve
from everyshelf.service.shelves.models import OutsideContent, Shelf

KIND = "in-place-check"
_AT_ONCE = 500
_MOST_TOLD = 100

Progress = Callable[[int, int, str], None]


def list_in_place(shelf: Shelf, at: Resolved, folder: str, cursor: str, limit: int) -> dict[str, Any]:
    """A page of the artifacts in place of a state: where each lies, what is known of it; and counts of all of them."""
    found = list(_in_place(at.root, folder))
    start = decode_cursor(cursor)
    newest = Job.objects.filter(shelf=shelf, kind__in=(ADDING, KIND)).order_by("-pk").first()
    items = [_told(path, row) for path, row in itertools.islice(found, start, start + limit)]
    after = start + len(items)
    return {
        "items": items,
        "total": len(found),
        "bytes": sum(row.size for _, row in found),
        "problems": sum(bool(row.problem) for _, row in found),
        "unchecked": sum(row.checked is None for _, row in found),
        "next": encode_cursor(after) if after < len(found) else None,
        "job": job_json(newest) if newest is not None else None,
    }


def _told(path: str, row: OutsideContent) -> dict[str, Any]:
    stamp = stamp_of(row)
    return {
        "path": path,
        "content": row.content,
        "address": told(row.address),
        "size": row.size,
        "etag": stamp.etag,
        "sha256": row.sha256,
        "registered": row.registered,
        "checked": row.checked,
        "problem": row.problem,
    }


def _in_place(root: str, folder: str) -> Iterator[tuple[str, OutsideContent]]:
    """Path and record of each artifact in place of a state, below a folder, by path."""
    if not OutsideContent.objects.exists():
        return
    files = _files(root, folder)
    while some := list(itertools.islice(files, _AT_ONCE)):
        rows = OutsideContent.objects.filter(content__in={entry.id for _, entry in some})
        known = {row.content: row for row in rows}
        yield from ((path, known[entry.id]) for path, entry in some if entry.id in known)


def _files(root: str, folder: str) -> Iterator[tuple[str, Entry]]:
    if not folder:
        return get_trees().files(root)
    path = check_path(folder.rstrip("/"))
    entry = get_trees().find(root, path)
    if entry is None:
        return iter(())
    return iter([(path, entry)]) if entry.type == "artifact" else get_trees().files(entry.id, f"{path}/")


def start_checking(caller: Caller, shelf: Shelf, at: Resolved, folder: str, *, fingerprint: bool) -> Job:
    """Ask the places whether the data in place of a state is what it was, by a job; with ``fingerprint`` its bytes are
    read, and their SHA-256 kept, or compared with the one that was kept."""
    require(caller, shelf, RIGHT)
    if at.commit is None:
        raise InvalidError(f"{at.ref} has no commit yet", code="in_place.nothing", hint="Register data first.")
    if folder:
        folder = check_path(folder.rstrip("/"))
    given = {"ref": f"commit:{at.commit.uid}", "folder": folder, "fingerprint": fingerprint}
    with one_act():
        return start_job(caller, KIND, shelf, given)


def check_in_place(shelf: Shelf, given: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The work of the job: how many are as they were, and what is wrong with the others."""
    found = list(_in_place(resolve(shelf, given["ref"]).root, given["folder"]))
    total, done, wrong = sum(row.size for _, row in found), 0, dict[str, str]()
    for number, (path, row) in enumerate(found):
        if given["fingerprint"]:
            problem = _read(row, lambda so_far, path=path, done=done: progress(done + so_far, total, path))  # type: ignore[misc]
        else:
            progress(number, len(found), path)
            problem = _asked(row)
        done += row.size
        with aside():
            OutsideContent.objects.filter(pk=row.pk).update(
                checked=timezone.now(), problem=problem[:2000], sha256=row.sha256, stamp=row.stamp
            )
        if problem:
            wrong[path] = problem
    return {
        "checked": len(found),
        "bytes": total if given["fingerprint"] else 0,
        "problems": dict(itertools.islice(wrong.items(), _MOST_TOLD)),
        "more": max(0, len(wrong) - _MOST_TOLD),
    }


def _asked(row: OutsideContent) -> str:
    note = get_store().outside_note(row.content)
    try:
        if note is not None:
            get_store().check_outside(note)
    except (ChangedError, OutOfReachError) as error:
        return error.message
    return ""


def _read(row: OutsideContent, tell: Callable[[int], None]) -> str:
    """Read all bytes; say what is wrong, or put their SHA-256 into the row. Bytes that have the SHA-256 are what was
    registered, whatever the place says of them by now: a disk that was copied gives its files other times."""
    try:
        found = _digest(get_store().iter_range(row.content), tell)
    except ChangedError as error:
        if not row.sha256:
            return error.message
        return _read_again(row, error.message, tell)
    except OutOfReachError as error:
        return error.message
    if row.sha256 and row.sha256 != found:
        return f"{told(row.address)} says the same of itself, but its bytes are others than those that were read before"
    row.sha256 = found
    return ""


def _read_again(row: OutsideContent, why: str, tell: Callable[[int], None]) -> str:
    place = reader_of(row.address, row.shelf_id)
    try:
        now = place.stamp(row.address)
        if now.size != row.size or _digest(place.read(row.address, now, 0, now.size), tell) != row.sha256:
            return why
    except FileNotFoundError:
        return why
    except (ChangedError, OutOfReachError) as error:
        return error.message
    row.stamp = msgspec.to_builtins(now)
    return ""


def _digest(pieces: Iterable[bytes], tell: Callable[[int], None]) -> str:
    digest, so_far = hashlib.sha256(), 0
    for piece in pieces:
        digest.update(piece)
        so_far += len(piece)
        tell(so_far)
    return digest.hexdigest()
