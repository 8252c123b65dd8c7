"""Comparing two contents of one artifact: from what is kept, from fingerprints, or in a reading process.

What takes longer than a request may is left to a job.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Literal

import structlog

from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.answers.findings import FindingAnswer
from everyshelf.core.answers.tables import RowPage, TableFingerprint
from everyshelf.core.compare.known import compare_known
from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.compare.result import as_bytes
from everyshelf.core.content.outside import ChangedError
from everyshelf.core.errors import InvalidError, LimitError, OutOfReachError, RefusedError
from everyshelf.core.history.names import file_name
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.outline.model import ACTIONS, Step
from everyshelf.core.reading.messages import FileAt, Spreading
from everyshelf.core.reading.worker import WHOLE_SECONDS, Worker
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import reader, reading_process
from everyshelf.service.shelves.actions import kept_rows
from everyshelf.service.shelves.actions.contents import as_file, as_given
from everyshelf.service.shelves.actions.pairs import Pairing
from everyshelf.service.shelves.actions.remembered import Basis, key_of, known_answer, remembered

log = structlog.get_logger("everyshelf.comparing")
Tick = Callable[[], None]
Tell = Callable[[int, int], None]
# How much work a comparison that is not known yet may take: none, what fits into a request, or what a job may do.
Effort = Literal["none", "request", "job"]
HEAVY_BYTES = 48 * 1024 * 1024  # beyond, only a job compares them
FINGERPRINT_BYTES = 4 * 1024 * 1024  # smaller tables are read as quickly as their fingerprints are looked up
_HEAVY_MEMORY = 1024 * 1024 * 1024
_CLUSTER = "everyshelf.cluster.dask:opened"
_REQUEST_SECONDS = 5.0  # of processor time; what takes longer goes on as a job
_MOST_SLOW = 10_000
# Comparisons that took longer than a request may; they are left to jobs from then on.
_slow: dict[str, None] = {}


def compare_pair(
    pair: Pairing, rules: Rules, effort: Effort, *, tick: Tick | None = None, tell: Tell | None = None
) -> ComparisonAnswer | None:
    """The findings of one artifact, from the records or worked out; None if that takes more than ``effort``.

    ``tick`` may raise to end the work; ``tell`` gets how many parts of a large table of how many are done.
    """
    if pair.before is None or pair.after is None:
        return _whole(pair)
    if pair.is_same:
        return _only("moved", pair, pair.old_path, pair.path)
    basis = _basis(pair, rules)
    if (same := _known_same(pair, rules)) is not None:
        return same
    key = key_of(basis)
    may_work = effort == "job" or (effort == "request" and key not in _slow and not _is_heavy(pair))
    if not may_work:
        return known_answer(basis, ComparisonAnswer)
    try:
        return remembered(basis, ComparisonAnswer, lambda: _worked_out(pair, rules, effort, tick, tell))
    except (ChangedError, OutOfReachError, RefusedError, InvalidError) as error:
        if not error.code.startswith("in_place."):
            raise
        # What was not read is not judged, and not remembered either: the place may answer the next time.
        return as_bytes(pair.path, pair.before.size, pair.after.size, error.message).answer()
    except LimitError:
        if len(_slow) >= _MOST_SLOW:
            _slow.clear()
        _slow[key] = None
        return None


def nothing_changed(kind: str) -> ComparisonAnswer:
    """The answer for two equal versions."""
    return ComparisonAnswer(
        kind=kind,
        equal=True,
        counts={},
        effects={"breaks": 0, "alters": 0, "cosmetic": 0},
        judged=True,
        findings=[],
        read_as="",
        note="",
        identity={},
        truncated=False,
    )


def _whole(pair: Pairing) -> ComparisonAnswer:
    """An artifact that came or went is one finding, whatever it holds."""
    entry = pair.after or pair.before
    assert entry is not None
    answer = _only("added" if pair.after else "removed", pair, None, None)
    answer.note = f"{entry.size} bytes"
    return answer


def _only(action: Step, pair: Pairing, before: str | None, after: str | None) -> ComparisonAnswer:
    """The answer with one finding on the artifact as a whole."""
    answer = nothing_changed("")
    answer.equal = False
    answer.counts = {**dict.fromkeys(ACTIONS, 0), action: 1}
    answer.effects["alters"] = 1
    label = file_name(pair.path)
    answer.findings = [
        FindingAnswer(
            action=action, part="/", type="artifact", label=label, before=before, after=after, effect="alters"
        )
    ]
    return answer


def _is_heavy(pair: Pairing) -> bool:
    """True for contents so large that comparing them cannot end within a request."""
    assert pair.before is not None and pair.after is not None
    return max(pair.before.size, pair.after.size) > HEAVY_BYTES


def _known_same(pair: Pairing, rules: Rules) -> ComparisonAnswer | None:
    """The answer for two tables whose fingerprints agree, without reading them again."""
    assert pair.before is not None and pair.after is not None
    if min(pair.before.size, pair.after.size) < FINGERPRINT_BYTES:
        return None
    before, after = (
        known_answer(_fingerprint_basis(path, entry, rules), TableFingerprint)
        for path, entry in ((pair.old_path, pair.before), (pair.path, pair.after))
    )
    found = compare_known(before, after) if before is not None and after is not None else None
    return found.answer() if found is not None else None


def make_fingerprint(path: str, entry: Entry, rules: Rules) -> None:
    """Make the fingerprint of a table, if none is kept: tables with the same are known to be equal."""

    def work() -> TableFingerprint:
        with as_given(entry) as file, _reader_for(entry) as worker:
            return worker.fingerprint(FileAt(path, str(file)), rules=rules.source)

    remembered(_fingerprint_basis(path, entry, rules), TableFingerprint, work)


def _fingerprint_basis(path: str, entry: Entry, rules: Rules) -> Basis:
    return "fingerprint", path, entry.id, rules.source


@contextmanager
def _reader_for(*entries: Entry) -> Iterator[Worker]:
    """A process that may take as long as contents of this size need."""
    if max(entry.size for entry in entries) > HEAVY_BYTES:
        config = get_config()
        spreading = Spreading(_CLUSTER, config.dask, config.dask_rows) if config.dask else None
        worker = reading_process(deadline_seconds=WHOLE_SECONDS, memory_bytes=_HEAVY_MEMORY, spreading=spreading)
        try:
            yield worker
        finally:
            worker.close()
            if worker.missed:
                log.warning("the cluster did not compare a table", why=worker.missed)
    else:
        with reader() as worker:
            yield worker


def _basis(pair: Pairing, rules: Rules) -> Basis:
    """All that a comparison depends on."""
    assert pair.before is not None and pair.after is not None
    near = [f"{side}{name}={e.id}" for side, held in enumerate(pair.beside) for name, e in sorted(held.items())]
    return pair.old_path, pair.before.id, pair.path, pair.after.id, rules.source, "", *near


def rows_between(
    pair: Pairing, rules: Rules, start: int, count: int, *, action: str = "", column: str = "", table: str = ""
) -> RowPage:
    """A page of the rows of a table that differ; none for what is not a table or is not compared yet.

    Only rows of an ``action``, or changed in a ``column``; ``table``: which one, where the artifact holds several.
    """
    nothing = RowPage(rows=[], total=0, start=start)
    if pair.before is None or pair.after is None:
        return nothing
    basis = _basis(pair, rules)
    file = kept_rows.file_of(key_of(basis))
    if not kept_rows.files_at(file):
        known = known_answer(basis, ComparisonAnswer)
        if _is_heavy(pair) or _known_same(pair, rules) is not None or _differs_nowhere(known):
            return nothing
        try:
            _worked_out(pair, rules, "request")
        except LimitError:
            return nothing  # the job that compares them keeps their rows
    kept_rows.mark_used(file)
    with reader() as worker:
        return worker.page(file, start, count, action=action, column=column, table=table)


def kept_rows_of(pair: Pairing, rules: Rules, effort: Effort) -> Path | None:
    """The file of all rows that differ, made again where it made room for others; None where it was not made."""
    file = kept_rows.file_of(key_of(_basis(pair, rules)))
    if not kept_rows.files_at(file):
        if effort == "request" and _is_heavy(pair):
            return None
        try:
            _worked_out(pair, rules, effort)
        except LimitError:
            return None
    kept_rows.mark_used(file)
    return file if kept_rows.files_at(file) else None


def _differs_nowhere(known: ComparisonAnswer | None) -> bool:
    """True for a comparison of tables, known already, in which no row differs: then none was kept."""
    if known is None or known.table is None:
        return False
    rows = known.table.rows
    return not (rows.added or rows.removed or rows.changed)


def _worked_out(
    pair: Pairing, rules: Rules, effort: Effort, tick: Tick | None = None, tell: Tell | None = None
) -> ComparisonAnswer:
    """Raises ``LimitError`` where ``effort`` is a request's and its time runs out."""
    assert pair.before is not None and pair.after is not None
    rows = kept_rows.file_of(key_of(_basis(pair, rules)))
    part = rows.with_suffix(f".{uuid.uuid4().hex[:8]}")
    in_request = effort == "request"
    with ExitStack() as stack:
        before = _file_at(stack, pair.old_path, pair.before, pair.beside[0])
        after = _file_at(stack, pair.path, pair.after, pair.beside[1])
        worker = stack.enter_context(_reader_for(pair.before, pair.after))
        try:
            answer = worker.compare(
                before,
                after,
                CompareOptions(rules, rows=part),
                tick=tick,
                tell=tell,
                seconds=_REQUEST_SECONDS if in_request else WHOLE_SECONDS,
                patient=not in_request,
            )
            kept_rows.take_in(part, rows)
        finally:
            for file in kept_rows.files_at(part):
                file.unlink(missing_ok=True)
    return answer


def _file_at(stack: ExitStack, path: str, entry: Entry, beside: dict[str, Entry]) -> FileAt:
    file: Path = stack.enter_context(as_given(entry))
    near = {name: str(stack.enter_context(as_file(one.id))) for name, one in beside.items()}
    return FileAt(path, str(file), near)
