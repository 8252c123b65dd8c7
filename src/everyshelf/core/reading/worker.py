"""Comparing and outlining in a process of its own, with limits of time and memory.

Artifacts come from anywhere: whatever one does to its reader must cost no more than one answer. The parent keeps one
process alive between calls; a call that runs over its time kills it, and the next call starts another.

Protocol: one JSON line each way; see ``messages``.
"""

from __future__ import annotations

import contextlib
import os
import select
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import IO, TypeVar

import msgspec

from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.answers.drawings import Drawing
from everyshelf.core.answers.files import CellsAnswer, FoldedAnswer, FollowedPart, UnfoldedAnswer
from everyshelf.core.answers.find import Places, PlaceText
from everyshelf.core.answers.merges import MergeAnswer
from everyshelf.core.answers.outlines import OutlineAnswer
from everyshelf.core.answers.queries import QueryAnswer
from everyshelf.core.answers.tables import NO_FINGERPRINT, RowPage, TableAnswer, TableFingerprint, TableRows
from everyshelf.core.answers.uses import NO_REFERENCES, FileReferences, UsePlace, WantedPart
from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.compare.result import as_bytes
from everyshelf.core.editing.edits import CellEdit, FieldEdit
from everyshelf.core.errors import (
    InvalidError,
    LimitError,
    UnreadableError,
)
from everyshelf.core.merge.model import SIDE_NAMES, Decision, Side, SideNames
from everyshelf.core.merge.whole import whole_conflict
from everyshelf.core.origins.steps import LineStep, Step
from everyshelf.core.origins.tables import TablesStep
from everyshelf.core.promotion.bound import Bound, check_bindable
from everyshelf.core.reading import lasting, messages
from everyshelf.core.reading.allowance import HELD_BYTES, RESTED_BYTES, memory_for, resident
from everyshelf.core.reading.batches import batches
from everyshelf.core.reading.child import FAMILIES, NO_MEMORY
from everyshelf.core.reading.forking import ForkServer, Reading, Wanted, end
from everyshelf.core.reading.messages import FileAt, FileHead, Unpacked
from everyshelf.core.runs.counted import Results
from everyshelf.core.runs.metrics import Measured
from everyshelf.decoding import from_json

DEADLINE_SECONDS = 20.0  # of processor time, where an answer is awaited
WHOLE_SECONDS = 3600.0  # for a job, or a command with a bar
MEMORY_BYTES = 1_000 * 1024 * 1024
MOST_AS_TEXT = 100 * 1024 * 1024  # what took too long as its kind would take too long as text
_LOOK_SECONDS = 0.05
_START_SECONDS = 5.0  # of processor time, for what a process loads before its first answer
_REST_SECONDS = 20.0  # without a question, after which a process gives back what it holds
_GRACE_SECONDS = 5.0  # beyond which the kernel ends a process that this one no longer looks at
_TRIES = 3
# The deadline counts the processor time of the process: a busy machine must not make an answer another one. One that
# neither works nor answers (it sleeps, or waits for a disk) is given this many times as long by the clock.
_PATIENCE = 15
_TICKS = os.sysconf("SC_CLK_TCK")


T = TypeVar("T")


class Worker:
    """A reading process; thread-safe, one call at a time. Use ``close`` when done, or let the process end.

    ``scratch``: the folder in which it keeps what does not fit into its memory; the system's own if not given.
    ``spreading``: processes that work out parts of large tables. ``nice``: how far it gives way to others (nice(2)).
    ``fork_server``: what forks the process; without it, it is started as a program.
    """

    def __init__(
        self,
        *,
        deadline_seconds: float = DEADLINE_SECONDS,
        memory_bytes: int = MEMORY_BYTES,
        scratch: Path | None = None,
        spreading: messages.Spreading | None = None,
        nice: int = 0,
        fork_server: ForkServer | None = None,
    ) -> None:
        self._nice, self._fork_server = nice, fork_server
        self._deadline, self._scratch, self._spreading = deadline_seconds, scratch, spreading
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self._memory = memory_bytes
        self.missed = ""  # why other processes did not work out their parts, if they did not
        self._process: subprocess.Popen[bytes] | Reading | None = None
        self._is_new, self._last_asked = True, 0.0
        self._lock = threading.Lock()

    def places(self, file: FileAt, *, rules: str = "") -> list[PlaceText]:
        """The places of a file in which words are looked for; none where it takes more than it may."""
        try:
            return self._ask(messages.FindPlaces(rules=rules, file=file), Places).places
        except LimitError:
            return []

    def step(self, before: FileAt, after: FileAt, *, rules: str = "") -> Step:
        """What the parts of a file carried over from an older version."""
        return self._ask(messages.StepBetween(rules=rules, before=before, after=after), Step)

    def row_blocks(self, rows: Path, tables: dict[str, TableAnswer], output: Path) -> TablesStep:
        """Rows that a comparison kept as blocks by their keys in ``output``, and what became of the tables."""
        request = messages.RowsBetween(file=FileAt(rows.name, str(rows)), output=str(output), tables=tables)
        return self._ask(request, TablesStep, None, WHOLE_SECONDS)

    def find_row(
        self, file: FileAt, columns: list[str], cells: list[str], *, rules: str = ""
    ) -> dict[str, str | None] | None:
        """The cells of the row with this key, by column; None where the table does not have it."""
        request = messages.FindRow(rules=rules, file=file, columns=columns, cells=cells)
        return self._ask(request, messages.FoundRow).cells

    def line_step(self, before: FileAt | None, after: FileAt) -> LineStep:
        """What the lines of a text carried over from an older version; without one, how many there are."""
        return self._ask(messages.LinesBetween(before=before, after=after), LineStep)

    def compare(
        self,
        before: FileAt,
        after: FileAt,
        options: CompareOptions | None = None,
        *,
        seconds: float | None = None,
        patient: bool = True,
        tick: Callable[[], None] | None = None,
        tell: Callable[[int, int], None] | None = None,
    ) -> ComparisonAnswer:
        """What changed from one file to another.

        What cannot be read within the memory, or by a reader that fails, is compared as text, and what cannot even be
        that is not compared; the note says why, and nothing is said of its effects. ``seconds``: of processor time, in
        place of this process's own. ``patient``: False raises ``LimitError`` (limit.time) where they run out, for
        whoever can leave the work to a job. ``tick`` is called about once a second; if it raises, the process ends and
        the work with it; ``tell``, while other processes work out parts, with how many of how many are done.
        """
        wanted = options or CompareOptions()
        request = messages.CompareFiles(
            rules=wanted.rules.source,
            before=before,
            after=after,
            kind=wanted.kind,
            key=wanted.key,
            limit=wanted.limit,
            rows=str(wanted.rows) if wanted.rows else None,
        )
        try:
            return self._ask(request, ComparisonAnswer, tick, seconds, tell)
        except LimitError as error:
            if error.code == "limit.time" and not patient:
                raise
            why = error.message
        sizes = [_size_of(Path(side.path)) for side in (before, after)]
        if max(sizes) <= MOST_AS_TEXT:
            request.as_text = why
            with contextlib.suppress(LimitError):
                return self._ask(request, ComparisonAnswer)
        return as_bytes(after.name, sizes[0], sizes[1], why).answer()

    def outline(
        self, file: FileAt, *, rules: str = "", kind: str | None = None, most: int = messages.MOST_PARTS
    ) -> OutlineAnswer:
        """A file's outline with up to ``most`` parts; ``read_as`` and ``note`` tell if it has none."""
        try:
            return self._ask(messages.OutlineFile(rules=rules, file=file, kind=kind, most=most), OutlineAnswer)
        except LimitError as error:
            return OutlineAnswer(
                kind="opaque",
                format="",
                read_as="bytes",
                note=error.message,
                size=_size_of(Path(file.path)),
                parts=[],
                truncated=False,
            )

    def drawing(self, before: FileAt | None, after: FileAt, *, rules: str = "", kind: str | None = None) -> Drawing:
        """The drawing of a file, or of two versions in one; without nodes where it has none or it takes too long."""
        try:
            return self._ask(messages.DrawFiles(rules=rules, before=before, after=after, kind=kind), Drawing)
        except LimitError as error:
            return Drawing(nodes=[], edges=[], placed=False, note=error.message)

    def unfold(self, file: FileAt, output: Path, *, rules: str = "") -> UnfoldedAnswer:
        """Write a file's parts as a zip to ``output``; gives files with their texts, and notes.

        Raises ``InvalidError`` where there is nothing to unfold and ``LimitError`` where it takes too much.
        """
        return self._ask(messages.UnfoldFile(rules=rules, file=file, output=str(output)), UnfoldedAnswer)

    def edit(
        self,
        file: FileAt,
        output: Path,
        *,
        fields: Sequence[FieldEdit] = (),
        cells: Sequence[CellEdit] = (),
        text: str | None = None,
        rules: str = "",
    ) -> None:
        """Write a file with its text, some fields or cells changed to ``output``. Raises ``InvalidError`` for what
        cannot be changed in this way."""
        request = messages.EditFile(
            rules=rules, file=file, output=str(output), text=text, fields=list(fields), cells=list(cells)
        )
        self._ask(request, int)

    def cells(self, file: FileAt) -> CellsAnswer:
        """Columns and rows of a small delimited table as texts; ``note`` says why there are none."""
        try:
            return self._ask(messages.ReadCells(file=file), CellsAnswer)
        except LimitError as error:
            return CellsAnswer(columns=[], forms=[], rows=[], note=error.message)

    def follow(
        self, before: FileAt, after: FileAt, parts: Sequence[str], *, rules: str = ""
    ) -> dict[str, FollowedPart]:
        """Where each of ``parts`` of the older file is in the newer; what takes too long is left where it was."""
        request = messages.FollowParts(rules=rules, before=before, after=after, parts=list(parts))
        try:
            return self._ask(request, dict[str, FollowedPart])
        except LimitError:
            return {part: FollowedPart(part) for part in parts}

    def fold(self, path: Path, output: Path) -> FoldedAnswer:
        """Write the file that a zip of parts folds to; gives its name and notes. Raises as ``unfold``."""
        return self._ask(messages.FoldFile(file=FileAt("", str(path)), output=str(output)), FoldedAnswer)

    def merge(
        self,
        name: str,
        files: tuple[Path, Path, Path],
        output: Path,
        *,
        rules: str = "",
        kind: str | None = None,
        prefer: Side | None = None,
        decisions: Mapping[str, Decision] | None = None,
        names: SideNames = SIDE_NAMES,
        seconds: float | None = None,
        patient: bool = True,
    ) -> MergeAnswer:
        """Merge target and source, which both grew from base, into ``output``.

        ``decisions`` by id of the conflict; ``names``: what the sides are called in sentences. What cannot be merged
        within the limits is left to choose as a whole. ``seconds``, ``patient``: as for ``compare``.
        """
        base, target, source = map(str, files)
        request = messages.MergeFiles(
            rules=rules,
            name=name,
            files=(base, target, source),
            output=str(output),
            kind=kind,
            prefer=prefer,
            decisions=dict(decisions or {}),
            names=(names.target, names.source),
        )
        try:
            return self._ask(request, MergeAnswer, None, seconds)
        except LimitError as error:
            if error.code == "limit.time" and not patient:
                raise
            merged = whole_conflict(name, [_size_of(f) for f in files], error.message, prefer, decisions or {}, names)
        decision = merged.conflicts[0].decision
        if decision is not None:
            output.write_bytes(files[2 if decision.take == "source" else 1].read_bytes())
        return merged

    def uses(self, file: FileAt, wanted: Sequence[WantedPart], *, rules: str = "") -> list[list[UsePlace]]:
        """For each wanted part of another artifact the places of this file that use it; none if it takes too long."""
        try:
            return self._ask(messages.FindUses(rules=rules, file=file, wanted=list(wanted)), list[list[UsePlace]])
        except LimitError:
            return [[] for _ in wanted]

    def names(self, file: FileAt, *, rules: str = "") -> FileReferences:
        """What a file names and offers; nothing if it cannot be read within the limits."""
        try:
            return self._ask(messages.FindNames(rules=rules, file=file), FileReferences)
        except LimitError:
            return NO_REFERENCES

    def fingerprint(self, file: FileAt, *, rules: str = "", tick: Callable[[], None] | None = None) -> TableFingerprint:
        """The fingerprint of a table (see ``tables.fingerprint``); with an empty digest where there is none."""
        try:
            return self._ask(messages.Fingerprint(rules=rules, file=file), TableFingerprint, tick)
        except LimitError:
            return NO_FINGERPRINT

    def bind(self, path: str, data: bytes, values: Mapping[str, str], *, rules: str = "") -> Bound:
        """The artifact at ``path`` with its bindings put in; raises as ``promotion.bindings.bind``, and ``LimitError``.

        The bytes go through the pipe both ways and never to a file: values may be secret.
        """
        check_bindable(path, len(data))
        return self._ask(messages.PutBindings(rules=rules, name=path, data=data, values=dict(values)), Bound)

    def measured(self, name: str, path: Path) -> Measured:
        """The metrics that a file states; raises ``UnreadableError`` for one in which nothing is measured."""
        try:
            return self._ask(messages.ReadMetrics(file=FileAt(name, str(path))), Measured)
        except LimitError as error:
            raise UnreadableError(f"{name}: {error.message}") from error

    def results(self, name: str, path: Path) -> Results:
        """What a file of test results comes to; raises ``InvalidError`` (check.junit) if it is not one."""
        try:
            return self._ask(messages.ReadResults(file=FileAt(name, str(path))), Results)
        except LimitError as error:
            raise InvalidError(f"{name} cannot be read: {error.message}", code="check.junit") from error

    def unpack(self, parcel: Path, folder: Path, present: Mapping[str, str]) -> Unpacked:
        """Check a whole parcel, then write those of its artifacts into ``folder`` whose SHA-256 is not the one that
        ``present`` has for their path. Raises as ``Parcel.verify``, ``StorageError`` and ``LimitError``."""
        request = messages.UnpackParcel(file=FileAt("", str(parcel)), output=str(folder), present=dict(present))
        return self._ask(request, Unpacked)

    def page(
        self, path: Path, start: int, count: int, *, action: str = "", column: str = "", table: str = ""
    ) -> RowPage:
        """Some of the rows ``compare`` kept in a file. Raises ``LimitError``."""
        file = FileAt("", str(path))
        request = messages.ReadRows(file=file, start=start, count=count, action=action, column=column, table=table)
        return self._ask(request, RowPage)

    def keep_table(
        self, file: FileAt, output: Path, *, table: str = "", rules: str = "", tick: Callable[[], None] | None = None
    ) -> int:
        """Keep a table in a file that ``table_rows`` reads by pages; gives how many rows it has. With ``tick``, in a
        job, it may take as long as it does. Raises ``UnreadableError`` (rows.no_table) and ``LimitError``."""
        request = messages.KeepTable(rules=rules, file=file, output=str(output), table=table)
        return self._ask(request, int, tick, None if tick is None else WHOLE_SECONDS)

    def table_rows(self, path: Path, start: int, count: int, *, sort: list[str], where: list[str]) -> TableRows:
        """A page of a kept table (see ``tables.paging``). Raises ``InvalidError`` and ``LimitError``."""
        file = FileAt("", str(path))
        return self._ask(messages.ReadTable(file=file, start=start, count=count, sort=sort, where=where), TableRows)

    def query(
        self,
        sql: str,
        tables: Mapping[str, Path],
        lists: Mapping[str, tuple[str, Path]],
        most: int,
        *,
        answers: Mapping[str, Path] | None = None,
        output: Path | None = None,
        form: str = "",
        tick: Callable[[], None] | None = None,
    ) -> QueryAnswer:
        """The first rows of a query (see ``querying``), or all of them written to ``output``. ``tick``: called from
        time to time, may raise to end it. Raises ``InvalidError`` (query.failed) and ``LimitError``."""
        request = messages.RunQuery(
            sql=sql,
            tables={view: str(path) for view, path in tables.items()},
            lists={view: (name, str(path)) for view, (name, path) in lists.items()},
            most=most,
            answers={view: str(path) for view, path in (answers or {}).items()},
            output=str(output) if output else "",
            form=form,
        )
        return self._ask(request, QueryAnswer, tick)

    def recognise(self, files: Sequence[tuple[str, bytes, int]]) -> list[str]:
        """The kind of each file, given as (name, first bytes, size of all). What ends the process three times is
        ``opaque``, and costs the others nothing."""
        kinds: list[str] = []
        for batch in batches(files):
            kinds += self._recognise(batch)
        return kinds

    def _recognise(self, files: Sequence[tuple[str, bytes, int]]) -> list[str]:
        for _ in range(_TRIES if len(files) == 1 else 1):
            with contextlib.suppress(LimitError):
                return self._ask(messages.RecogniseFiles(files=[FileHead(*file) for file in files]), list[str])
        if len(files) == 1:
            return ["opaque"]
        half = len(files) // 2
        return self._recognise(files[:half]) + self._recognise(files[half:])

    def recognise_folder(self, name: str, files: Sequence[tuple[str, bytes, int]]) -> str:
        """The kind of a folder kept whole, from the first bytes of its files."""
        request = messages.RecogniseFolder(name=name, files=[FileHead(*file) for file in files])
        for _ in range(_TRIES):
            with contextlib.suppress(LimitError):
                return self._ask(request, str)
        return "opaque"

    @property
    def pid(self) -> int | None:
        """The number of the process; None while there is none."""
        process = self._process
        return process.pid if process is not None else None

    def start(self) -> None:
        """Start the process, so that the first call does not wait for it."""
        with self._lock, contextlib.suppress(OSError):  # the first call meets the same, and says so
            self._started()

    def rest(self) -> None:
        """Replace the process by a new one if nobody asked it for a while and it holds more than a new one does. Only
        where it is forked: what starts as a program is worth keeping."""
        if self._fork_server is None or not self._lock.acquire(blocking=False):
            return
        try:
            process = self._process
            if process is None or self._is_new or time.monotonic() - self._last_asked < _REST_SECONDS:
                return
            if process.poll() is None and resident(process.pid) > RESTED_BYTES:
                self._end()
                self._started()
        finally:
            self._lock.release()

    def close(self) -> None:
        """End the process."""
        with self._lock:
            self._end()

    def _ask(
        self,
        request: messages.AnyRequest,
        answer_type: type[T],
        tick: Callable[[], None] | None = None,
        seconds: float | None = None,
        tell: Callable[[int, int], None] | None = None,
    ) -> T:
        request.memory = memory_for(request, self._memory)
        try:
            sent = messages.line_of(request)
        except (TypeError, ValueError) as error:
            # Half a character (a lone surrogate): no file holds that under any name.
            raise InvalidError(f"a value of this request cannot be used: {error}", code="input.invalid") from error
        with self._lock:
            process = self._started()
            assert process.stdin is not None and process.stdout is not None
            try:
                process.stdin.write(sent)
                process.stdin.flush()
                reply = self._reply(process, tick, tell, seconds or self._deadline, request.memory)
                self._is_new, self._last_asked = False, time.monotonic()
            except (BrokenPipeError, LimitError) as error:
                self._end()
                raise error if isinstance(error, LimitError) else _died(process) from error
            except BaseException:
                self._end()  # the caller gave up
                raise
            if reply is None:
                died = _died(process)
                self._end()
                raise died
            if resident(process.pid) > HELD_BYTES:
                self._end()
        problem = reply.problem
        if problem is not None:
            family = FAMILIES.get(problem.family, InvalidError)
            raise family(problem.message, code=problem.code, hint=problem.hint)
        try:
            return from_json(reply.answer, answer_type)
        except msgspec.ValidationError as error:
            # A kind of another package that answers in a form of its own.
            raise LimitError(f"its reader failed (the answer is not valid: {error})", code="reader.failed") from error

    def _reply(
        self,
        process: subprocess.Popen[bytes] | Reading,
        tick: Callable[[], None] | None,
        tell: Callable[[int, int], None] | None,
        seconds: float,
        memory: int,
    ) -> messages.Reply | None:
        """The reply, once all lines before it that say how far it is are told; None where the process ended."""
        assert process.stdout is not None
        while True:
            for line in self._line(process, process.stdout, tick, seconds, memory).splitlines() or [b""]:
                reply = from_json(line, messages.Reply) if line else None
                if reply is None or (reply.done is None and not reply.missed):
                    return reply
                self.missed = self.missed or reply.missed
                if tell is not None and reply.done is not None:
                    tell(*reply.done)

    def _line(
        self,
        process: subprocess.Popen[bytes] | Reading,
        pipe: IO[bytes],
        tick: Callable[[], None] | None,
        seconds: float,
        memory: int,
    ) -> bytes:
        end = time.monotonic() + seconds * _PATIENCE
        most = _worked(process.pid) + seconds + (_START_SECONDS if self._is_new else 0.0)
        lasting.limit_processor_time(process.pid, most + _GRACE_SECONDS)
        ticked = time.monotonic()
        pieces = []
        # `select.select` refuses files whose numbers are over 1023, as a service with many connections has them.
        waiting = select.poll()
        waiting.register(pipe)
        while True:
            if not waiting.poll(_LOOK_SECONDS * 1000):
                if resident(process.pid) > memory:
                    raise _out_of_memory()
                if _worked(process.pid) > most or time.monotonic() > end:
                    said = f"reading took over {seconds:g} seconds of processor time"
                    raise LimitError(said, code="limit.time")
                if tick is not None and time.monotonic() - ticked > 1:
                    ticked = time.monotonic()
                    tick()
                continue
            piece = os.read(pipe.fileno(), 1 << 20)
            pieces.append(piece)
            if not piece or piece.endswith(b"\n"):
                return b"".join(pieces) if piece else b""

    def _started(self) -> subprocess.Popen[bytes] | Reading:
        if self._process is None or self._process.poll() is not None:
            self._clear()
            self._is_new = True
            self._folder = tempfile.TemporaryDirectory(
                prefix="es-reading-", dir=self._scratch, ignore_cleanup_errors=True
            )
            if self._fork_server is not None:
                wanted = Wanted(self._memory, self._nice, self._folder.name, self._spreading)
                self._process = self._fork_server.start(wanted)
                return self._process
            spread = [msgspec.json.encode(self._spreading).decode()] if self._spreading is not None else []
            self._process = lasting.start(
                [sys.executable, "-m", "everyshelf.core.reading.child", str(self._memory), str(self._nice), *spread],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                bufsize=0,
                env={**os.environ, "TMPDIR": self._folder.name},
            )
        return self._process

    def _end(self) -> None:
        if self._process is not None:
            end(self._process)
            self._process = None
        self._clear()

    def _clear(self) -> None:
        """Remove what a process that was killed could not remove itself."""
        if self._folder is not None:
            self._folder.cleanup()
            self._folder = None


def _size_of(path: Path) -> int:
    """Bytes of a file, or of all files in a folder."""
    return sum(p.stat().st_size for p in path.rglob("*") if p.is_file()) if path.is_dir() else path.stat().st_size


def _worked(pid: int) -> float:
    """Seconds of processor time a process has used; 0 where the system does not tell."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return 0.0
    return (int(fields[11]) + int(fields[12])) / _TICKS  # utime and stime (proc(5)), counted behind the command's name


def _out_of_memory() -> LimitError:
    return LimitError("reading needed more memory than it may use", code="limit.memory")


def _died(process: subprocess.Popen[bytes] | Reading) -> LimitError:
    """Why a reading process ended without an answer."""
    try:
        code = process.wait(timeout=5)
    except subprocess.TimeoutExpired:
        code = 0
    # Killed by the system itself, or by us, it had asked for too much; memory refused to a library ends in an abort.
    if code in (NO_MEMORY, -signal.SIGKILL, -signal.SIGABRT):
        return _out_of_memory()
    if code == -signal.SIGXCPU:
        return LimitError("reading took more processor time than it may", code="limit.time")
    sort = f"by signal {-code}" if code < 0 else f"with status {code}"
    return LimitError(f"the reading process ended {sort}", code="reader.ended")
