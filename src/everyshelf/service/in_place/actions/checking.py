"""Looking after data in place: what is registered, whether it is still what it was, and fingerprints of its bytes."""

from __future__ import annotations

import functools
import itertools
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from typing import Any

from django.db.models import QuerySet
from django.utils import timezone

from everyshelf.core.errors import InvalidError
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.trees import Entry
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_trees
from everyshelf.service.base.paging import decode_cursor, encode_cursor
from everyshelf.service.in_place.actions.fingerprinting import ANSWERS, read_all
from everyshelf.service.in_place.actions.places import reader_of, told
from everyshelf.service.in_place.actions.registering import KIND as ADDING
from everyshelf.service.in_place.actions.registering import RIGHT, stamp_of
from everyshelf.service.jobs.actions import job_json, start_job
from everyshelf.service.jobs.models import Job
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.refs import Resolved, resolve
from everyshelf.service.shelves.models import OutsideContent, Shelf
from everyshelf.storage.outside.places import differs, gone, same_bytes

KIND = "in-place-check"
_AT_ONCE = 500
_MOST_TOLD = 100

Progress = Callable[[int, int, str], None]
_Found = list[tuple[str, Entry]]


def list_in_place(shelf: Shelf, at: Resolved, folder: str, cursor: str, limit: int) -> dict[str, Any]:
    """A page of the artifacts in place of a state: where each lies, what is known of it. The first page counts all of
    them, too."""
    found = _in_place(at.root, folder)
    start = decode_cursor(cursor)
    newest = Job.objects.filter(shelf=shelf, kind__in=(ADDING, KIND)).order_by("-pk").first()
    page = found[start : start + limit]
    rows = {row.content: row for some in _batches(page) for row in _rows(some)}
    problems, unchecked = (None, None) if start else _counts(found)
    after = start + len(page)
    return {
        "items": [_told(path, rows[entry.id]) for path, entry in page],
        "total": len(found),
        "bytes": sum(entry.size for _, entry in found),
        "problems": problems,
        "unchecked": unchecked,
        "next": encode_cursor(after) if after < len(found) else None,
        "job": job_json(newest) if newest is not None else None,
    }


def _counts(found: _Found) -> tuple[int, int]:
    """How many had a problem when they were checked, and how many were not checked."""
    problems = unchecked = 0
    for some in _batches(found):
        known = {content: (checked, problem) for content, checked, problem in _values(some, "checked", "problem")}
        for _, entry in some:
            checked, problem = known[entry.id]
            problems += bool(problem)
            unchecked += checked is None
    return problems, unchecked


def _rows(some: _Found) -> QuerySet[OutsideContent]:
    return OutsideContent.objects.filter(content__in={entry.id for _, entry in some})


def _values(some: _Found, *fields: str) -> Any:
    return _rows(some).values_list("content", *fields)


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


@functools.lru_cache(maxsize=4)
def _in_place(root: str, folder: str) -> _Found:
    """Path and entry of each artifact in place of a state, below a folder, by path. What a root names is outside before
    the root is made, so that this never changes."""
    found: _Found = []
    if not OutsideContent.objects.exists():
        return found
    for some in _batches(_files(root, folder)):
        known = {content for (content,) in _values(some)}
        found += [(path, entry) for path, entry in some if entry.id in known]
    return found


def _batches(files: Iterable[tuple[str, Entry]]) -> Iterator[_Found]:
    rest = iter(files)
    while some := list(itertools.islice(rest, _AT_ONCE)):
        yield some


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
    found = _in_place(resolve(shelf, given["ref"]).root, given["folder"])
    total, done, number, wrong = sum(entry.size for _, entry in found), 0, 0, dict[str, str]()
    for some in _batches(found):
        rows = {row.content: row for row in _rows(some)}
        if given["fingerprint"]:
            read_all(list(rows.values()), partial(_part, progress, done, total))
        else:
            for path, entry in some:
                progress(number, len(found), path)
                rows[entry.id].problem = _asked(rows[entry.id])
                number += 1
        done += sum(entry.size for _, entry in some)
        wrong.update({path: rows[entry.id].problem for path, entry in some if rows[entry.id].problem})
        _keep(list(rows.values()), given["fingerprint"])
    return {
        "checked": len(found),
        "bytes": total if given["fingerprint"] else 0,
        "problems": dict(itertools.islice(wrong.items(), _MOST_TOLD)),
        "more": max(0, len(wrong) - _MOST_TOLD),
    }


def _part(progress: Progress, done: int, total: int, so_far: int) -> None:
    progress(done + so_far, total, "fingerprints")


def _keep(rows: list[OutsideContent], fingerprint: bool) -> None:
    """Write down what was found: of those that are as they were in one go."""
    as_they_were = [row.pk for row in rows if not row.problem and not fingerprint]
    with one_act():
        OutsideContent.objects.filter(pk__in=as_they_were).update(checked=timezone.now(), problem="")
        for row in rows:
            if row.problem or fingerprint:
                row.checked = timezone.now()
                row.save(update_fields=["checked", "problem", "sha256", "stamp"])


def _asked(row: OutsideContent) -> str:
    address, before = row.address, stamp_of(row)
    try:
        now = reader_of(address, row.shelf_id).stamp(address)
    except FileNotFoundError:
        return gone(told(address)).message
    except ANSWERS as error:
        return error.message
    return "" if same_bytes(before, now) else differs(told(address), before, now).message
