"""Steps between versions: worked out once, in the job after a commit or when they are asked for, and kept."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from contextvars import copy_context
from typing import Any, Literal

from django.db import connection, transaction

from everyshelf.core.errors import LimitError
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.origins.steps import STEP_VERSION, LineStep, Step, packed
from everyshelf.core.origins.tables import Block
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.acts import aside
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store, reader
from everyshelf.service.base.working import WorkingError
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.origins.actions.table_steps import tables_step
from everyshelf.service.origins.models import RowBlock, VersionStep
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.contents import as_given
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.listing import entry_of
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.version_parents import parents_looked_up, parents_of
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf

Form = Literal["parts", "lines", "rows"]
Tell = Callable[[int, int, str], None]
_MOST_IN_COMMIT = 2000
_MOST_BYTES = 64 * 1024 * 1024
MOST_LINES_BYTES = 32 * 1024 * 1024
_BY_LINES = ("script", "report", "settings", "opaque")
_NO_PARTS = ("dataset", "database", "opaque")
_TABLES = ("dataset", "database")
_TICK_SECONDS = 0.25
_MOST_LARGE = 2  # at once: each may take a gigabyte
_LARGE_TABLE = 8 * 1024 * 1024  # beyond, only a job compares two of them


class OriginsReadingError(WorkingError):
    """A job is working the origins out."""

    code = "origins.reading"

    def __init__(self, job: str, left: int) -> None:
        super().__init__(
            f"reading the {left} versions that are left takes longer than an answer may: a job does it", job
        )


def versions_of(version: ArtifactVersion) -> list[ArtifactVersion]:
    """All versions of the artifact a version is of, newest first, removals too, each with its commit."""
    rows = list(
        ArtifactVersion.objects.filter(artifact_id=version.artifact_id).order_by("-pk").select_related("commit")
    )
    for row in rows:
        row.shelf = version.shelf
    return rows


def keep_steps(commit: Commit, give_way: Callable[[], None]) -> None:
    """Keep the steps of the versions that a commit made (the work of a job)."""
    rules = rules_at(commit.root)
    known = VersionStep.objects.filter(version__commit=commit, reader=STEP_VERSION).values("version")
    # A first version has nothing to be carried over from: its step is made when someone asks.
    versions = commit.versions.filter(content__gt="", number__gt=1).select_related("commit", "shelf")[:_MOST_IN_COMMIT]
    done = set(known.values_list("version", flat=True))
    for version in versions:
        if version.pk in done or get_store().lies_outside(version.content):
            continue
        give_way()
        if version.kind in _TABLES:
            _make(version, None, "rows", rules)
        if version.kind not in _NO_PARTS:
            _make(version, None, "parts", rules)
        if version.kind in _BY_LINES and has_lines(version):
            _make(version, None, "lines", rules)


def make_steps(
    shelf: Shelf, versions: list[ArtifactVersion], wanted: Iterable[int], form: Form, tell: Tell | None = None
) -> int:
    """Keep the steps of the ``wanted`` versions of one artifact, by record number; gives how many are left for a job.

    ``versions``: all of them, newest first. With ``tell`` (in a job) all are made, and progress is told.
    """
    by_key = {version.pk: version for version in versions}
    todo = [by_key[key] for key in sorted(wanted)]
    if tell is not None:
        _make_all(todo, versions, form, tell)
        return 0
    end, left = time.monotonic() + get_config().merge_seconds, 0
    for version in todo:
        if time.monotonic() > end or (form == "rows" and version.size > _LARGE_TABLE):
            left += 1
            continue
        _make(version, versions, form, rules_at(version.commit.root))
    return left


def _make_all(todo: list[ArtifactVersion], versions: list[ArtifactVersion], form: Form, tell: Tell) -> None:
    """Several at once, each in a reading process of its own: none needs what another gives."""
    if not todo:
        return
    done, path = 0, todo[0].path
    tell(done, len(todo), path)
    stopped = threading.Event()

    def tick() -> None:
        if stopped.is_set():
            raise _StoppedError

    count = get_config().processes
    if form == "rows":  # comparing two tables takes two processors, and up to a gigabyte where they are large
        large = max(version.size for version in todo) > _LARGE_TABLE
        count = max(1, min(count // 2, _MOST_LARGE if large else count))
    with ThreadPoolExecutor(count, "every-shelf-steps") as pool:
        pending = {pool.submit(copy_context().run, _make_apart, version, versions, form, tick) for version in todo}
        try:
            while pending:
                finished, pending = wait(pending, timeout=_TICK_SECONDS, return_when=FIRST_COMPLETED)
                for one in finished:
                    one.result()
                done += len(finished)
                tell(done, len(todo), path)
        finally:
            stopped.set()
            pool.shutdown(wait=True, cancel_futures=True)


class _StoppedError(Exception):
    """Whoever asked wants no more of it."""


def _make_apart(
    version: ArtifactVersion, versions: list[ArtifactVersion], form: Form, tick: Callable[[], None]
) -> None:
    try:
        _make(version, versions, form, rules_at(version.commit.root), tick)
    finally:
        connection.close()  # that of this thread, which nobody uses again


def leave_to_job(person: Any, shelf: Shelf, version: ArtifactVersion, form: Form, left: int) -> None:
    """Start the job that works the steps out, and raise ``OriginsReadingError``."""
    job = start_job(Caller(person), "origins", shelf, {"version": version.pk, "form": form})
    raise OriginsReadingError(job.uid, left)


def has_lines(version: ArtifactVersion) -> bool:
    """True for a version that may be read as a text: one file, and not too large."""
    return version.size <= MOST_LINES_BYTES and entry_of(version).type != "whole"


def _make(
    version: ArtifactVersion,
    rows: list[ArtifactVersion] | None,
    form: Form,
    rules: Rules,
    tick: Callable[[], None] | None = None,
) -> None:
    """``rows``: all versions of the artifact, newest first, where they are known."""
    if VersionStep.objects.filter(version=version, form=form, reader=STEP_VERSION).exists():
        return
    lineage = lineage_of(version.shelf)
    parents: list[ArtifactVersion | None] = []
    parents += parents_looked_up(version, lineage) if rows is None else parents_of(version, rows, lineage)
    made: list[tuple[ArtifactVersion | None, Any, list[Block]]] = []
    for parent in parents or [None]:
        if form == "rows":
            made.append((parent, *tables_step(parent, version, rules, tick)))
        else:
            made.append((parent, _step(parent, version, form, rules), []))
    with aside(), transaction.atomic():
        # Another request may have been quicker with the same steps; they, and those of older readers, give way.
        VersionStep.objects.filter(version=version, form=form).delete()
        for position, (origin, step, blocks) in enumerate(made):
            row = VersionStep.objects.create(
                version=version, form=form, position=position, parent=origin, reader=STEP_VERSION, step=packed(step)
            )
            RowBlock.objects.bulk_create(
                (RowBlock(step=row, table=b.table[:200], first=b.first, last=b.last, rows=b.rows) for b in blocks),
                batch_size=100,
            )


def _step(parent: ArtifactVersion | None, version: ArtifactVersion, form: Form, rules: Rules) -> Step | LineStep:
    """The step between two versions; of what takes more than a reading process may, that it changed as a whole."""
    if form == "parts" and (parent is None or parent.content == version.content):
        return Step()
    if form == "parts" and max(parent.size if parent else 0, version.size) > _MOST_BYTES:
        return Step(whole=True)
    after = entry_of(version)
    if form == "lines" and not has_lines(version):
        return LineStep(0, 0, [])
    try:
        with as_given(after) as new, as_given(entry_of(parent) if parent else after) as old, reader() as worker:
            before, now = FileAt((parent or version).path, str(old)), FileAt(version.path, str(new))
            if form == "lines":
                return worker.line_step(before if parent and has_lines(parent) else None, now)
            return worker.step(before, now, rules=rules.source)
    except LimitError:
        return LineStep(0, 0, []) if form == "lines" else Step(whole=True)
