"""Comparing and outlining in a process of its own, with limits of time and memory.

Artifacts come from anywhere: whatever one does to its reader must cost no more than one answer. The parent keeps one
process alive between calls; a call that runs over its time kills it, and the next call starts another.

Protocol: one JSON line each way. A request names files, never holds them: ``{"task", "before": [name, path], …}``.
"""

from __future__ import annotations

import base64
import contextlib
import os
import resource
import select
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import IO, Any

import orjson

from everyshelf.core.compare.result import as_bytes
from everyshelf.core.errors import (
    ConflictError,
    EveryShelfError,
    InvalidError,
    LimitError,
    StorageError,
    UnreadableError,
)
from everyshelf.core.merge.model import SIDE_NAMES, SideNames
from everyshelf.core.merge.whole import whole_conflict
from everyshelf.core.promotion.bound import Bound, check_bindable
from everyshelf.core.runs.counted import Results
from everyshelf.core.runs.metrics import Measured

DEADLINE_SECONDS = 20.0  # of processor time, where an answer is awaited
WHOLE_SECONDS = 3600.0  # for a job, or a command with a bar
MEMORY_BYTES = 1_000 * 1024 * 1024
# The parent looks at what the child holds; what is asked for at once, and threads that only reserve, meet this bound.
_RESERVED_BYTES = 3 * 1024 * 1024 * 1024
MOST_AS_TEXT = 100 * 1024 * 1024  # what took too long as its kind would take too long as text
_LOOK_SECONDS = 0.05
_TRIES = 3
_NO_MEMORY = 3  # the status with which a process ends that may have no more
_BATCH_FILES = 256
_BATCH_BYTES = 8 * 1024 * 1024
# The deadline counts the processor time of the process: a busy machine must not make an answer another one. One that
# neither works nor answers (it sleeps, or waits for a disk) is given this many times as long by the clock.
_PATIENCE = 15
_TICKS = os.sysconf("SC_CLK_TCK")
_PAGE_BYTES = os.sysconf("SC_PAGE_SIZE")
# The errors whose class crosses the pipe, since interfaces answer by class; any other is a mistake in the input.
_FAMILIES: dict[str, type[EveryShelfError]] = {
    "conflict": ConflictError,
    "limit": LimitError,
    "storage": StorageError,
    "unreadable": UnreadableError,
}


class Worker:
    """A reading process; thread-safe, one call at a time. Use ``close`` when done, or let the process end.

    ``scratch``: the folder in which it keeps what does not fit into its memory; the system's own if not given.
    """

    def __init__(
        self,
        *,
        deadline_seconds: float = DEADLINE_SECONDS,
        memory_bytes: int = MEMORY_BYTES,
        scratch: Path | None = None,
    ) -> None:
        self._deadline, self._scratch = deadline_seconds, scratch
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self._memory = memory_bytes
        self._process: subprocess.Popen[bytes] | None = None
        self._lock = threading.Lock()

    def compare(
        self,
        before: tuple[str, Path],
        after: tuple[str, Path],
        *,
        rules_text: str = "",
        kind: str | None = None,
        key: Sequence[str] | None = None,
        limit: int = 10_000,
        rows: Path | None = None,
        beside: tuple[Mapping[str, Path], Mapping[str, Path]] = ({}, {}),
        seconds: float | None = None,
        patient: bool = True,
        tick: Callable[[], None] | None = None,
    ) -> dict[str, Any]:
        """The JSON form of a comparison of two files, each given as (name, path).

        What cannot be read within the memory, or by a reader that fails, is compared as text, and what cannot even be
        that is not compared; the note says why, and nothing is said of its effects. ``seconds``: of processor time, in
        place of this process's own. ``patient``: False raises ``LimitError`` (limit.time) where they run out, for
        whoever can leave the work to a job. ``beside``: for each side, files of the same folder that belong to it, by
        name. Rows of a table that differ go to the file ``rows``, for ``page``. ``tick`` is called about once a second;
        if it raises, the process ends and the work with it.
        """
        request = {
            "task": "compare",
            "before": [before[0], str(before[1])],
            "after": [after[0], str(after[1])],
            "rules": rules_text,
            "kind": kind,
            "key": list(key) if key else None,
            "limit": limit,
            "keep": str(rows) if rows else None,
            "beside": [{name: str(path) for name, path in side.items()} for side in beside],
        }
        try:
            return self._ask(request, tick, seconds)
        except LimitError as error:
            if error.code == "limit.time" and not patient:
                raise
            why = error.message
        if max(_size_of(path) for _, path in (before, after)) > MOST_AS_TEXT:
            return as_bytes(after[0], _size_of(before[1]), _size_of(after[1]), why).as_json()
        try:
            return self._ask({**request, "as_text": why})
        except LimitError:
            return as_bytes(after[0], _size_of(before[1]), _size_of(after[1]), why).as_json()

    def outline(self, name: str, path: Path, *, rules_text: str = "", kind: str | None = None) -> dict[str, Any]:
        """The JSON form of a file's outline; ``read_as`` and ``note`` tell if it has none."""
        try:
            return self._ask({"task": "outline", "file": [name, str(path)], "rules": rules_text, "kind": kind})
        except LimitError as error:
            size = _size_of(path)
            told = {"read_as": "bytes", "note": error.message, "size": size}
            return {"kind": "opaque", "format": "", "parts": [], "truncated": False, **told}

    def drawing(
        self, before: tuple[str, Path] | None, after: tuple[str, Path], *, rules_text: str = "", kind: str | None = None
    ) -> dict[str, Any]:
        """The drawing of a file, or of two versions in one; without nodes where there is none or it takes too long."""
        old = [before[0], str(before[1])] if before else ["", ""]
        request = {"task": "drawing", "before": old, "after": [after[0], str(after[1])]}
        try:
            return self._ask({**request, "rules": rules_text, "kind": kind})
        except LimitError as error:
            return {"nodes": [], "edges": [], "placed": False, "note": error.message}

    def unfold(self, name: str, path: Path, output: Path, *, rules_text: str = "") -> dict[str, Any]:
        """Write a file's parts as a zip to ``output``; gives files with their texts, and notes.

        Raises ``InvalidError`` where there is nothing to unfold and ``LimitError`` where it takes too much.
        """
        return self._ask({"task": "unfold", "file": [name, str(path)], "output": str(output), "rules": rules_text})

    def edit(
        self,
        name: str,
        path: Path,
        output: Path,
        *,
        fields: Sequence[Mapping[str, Any]] = (),
        cells: Sequence[Mapping[str, Any]] = (),
        text: str | None = None,
        rules_text: str = "",
    ) -> None:
        """Write a file with its text, some fields (``part``, ``field``, ``value``) or cells (``row``, ``column``,
        ``value``, ``was``) changed to ``output``. Raises ``InvalidError`` for what cannot be changed in this way."""
        request = {"task": "edit", "file": [name, str(path)], "output": str(output), "rules": rules_text, "text": text}
        self._ask({**request, "fields": [dict(f) for f in fields], "cells": [dict(c) for c in cells]})

    def cells(self, name: str, path: Path) -> dict[str, Any]:
        """Columns and rows of a small delimited table as texts; ``note`` says why there are none."""
        try:
            return self._ask({"task": "edit", "file": [name, str(path)], "output": ""})
        except LimitError as error:
            return {"columns": [], "rows": [], "note": error.message}

    def follow(
        self, before: tuple[str, Path], after: tuple[str, Path], parts: Sequence[str], *, rules_text: str = ""
    ) -> dict[str, dict[str, Any]]:
        """Where each of ``parts`` of the older file is in the newer: ``{"part", "label"}``, part null where it is gone.

        What takes too long is left where it was.
        """
        request = {"task": "follow", "before": [before[0], str(before[1])], "after": [after[0], str(after[1])]}
        try:
            found: dict[str, dict[str, Any]] = self._ask({**request, "parts": list(parts), "rules": rules_text})[
                "parts"
            ]
        except LimitError:
            return {part: {"part": part, "label": ""} for part in parts}
        return found

    def fold(self, path: Path, output: Path) -> dict[str, Any]:
        """Write the file that a zip of parts folds to; gives its name and notes. Raises as ``unfold``."""
        return self._ask({"task": "fold", "file": ["", str(path)], "output": str(output)})

    def merge(
        self,
        name: str,
        files: tuple[Path, Path, Path],
        output: Path,
        *,
        rules_text: str = "",
        kind: str | None = None,
        prefer: str | None = None,
        decisions: Mapping[str, Mapping[str, Any]] | None = None,
        names: SideNames = SIDE_NAMES,
        seconds: float | None = None,
        patient: bool = True,
    ) -> dict[str, Any]:
        """Merge target and source, which both grew from base, into ``output``; gives the JSON form of ``merge-files``.

        ``decisions``: conflict id -> ``{"take", "value"}``; ``names``: what the sides are called in sentences. What
        cannot be merged within the limits is left to choose as a whole. ``seconds``, ``patient``: as for ``compare``.
        """
        request = {"task": "merge", "name": name, "files": [str(f) for f in files], "output": str(output)}
        request["names"] = [names.target, names.source]
        given = {"rules": rules_text, "kind": kind, "prefer": prefer, "decisions": dict(decisions or {})}
        try:
            return self._ask({**request, **given}, None, seconds)
        except LimitError as error:
            if error.code == "limit.time" and not patient:
                raise
            found = whole_conflict(name, [_size_of(f) for f in files], error.message, prefer, decisions or {}, names)
        if found["merged"]:
            taken = found["conflicts"][0]["decision"]["take"]
            output.write_bytes(files[2 if taken == "source" else 1].read_bytes())
        return found

    def uses(
        self, name: str, path: Path, wanted: list[dict[str, Any]], *, rules_text: str = ""
    ) -> list[list[dict[str, Any]]]:
        """For each wanted part of another artifact the places of this file that use it; none if it takes too long."""
        try:
            found = self._ask({"task": "uses", "file": [name, str(path)], "wanted": wanted, "rules": rules_text})
        except LimitError:
            return [[] for _ in wanted]
        uses: list[list[dict[str, Any]]] = found["uses"]
        return uses

    def names(self, name: str, path: Path, *, rules_text: str = "") -> dict[str, Any]:
        """What a file names (see ``names_in``) and offers; nothing if it cannot be read within the limits."""
        try:
            return self._ask({"task": "names", "file": [name, str(path)], "rules": rules_text})
        except LimitError:
            return {"names": [], "offers": []}

    def fingerprint(
        self, name: str, path: Path, *, rules_text: str = "", tick: Callable[[], None] | None = None
    ) -> dict[str, Any]:
        """The fingerprint of a table (see ``tables.fingerprint``); with an empty digest where there is none."""
        try:
            return self._ask({"task": "fingerprint", "file": [name, str(path)], "rules": rules_text}, tick)
        except LimitError:
            return {"digest": ""}

    def bind(self, path: str, data: bytes, values: Mapping[str, str], *, rules_text: str = "") -> Bound:
        """The artifact at ``path`` with its bindings put in; raises as ``promotion.bindings.bind``, and ``LimitError``.

        The bytes go through the pipe both ways and never to a file: values may be secret.
        """
        check_bindable(path, len(data))
        sent = {"name": path, "data": base64.b64encode(data).decode(), "values": dict(values)}
        bound = self._ask({"task": "bind", **sent, "rules": rules_text})
        return Bound(base64.b64decode(bound["data"]), tuple(bound["used"]), tuple(bound["missing"]))

    def measured(self, name: str, path: Path) -> Measured:
        """The metrics that a file states; raises ``UnreadableError`` for one in which nothing is measured."""
        try:
            read = self._ask({"task": "measured", "file": [name, str(path)]})
        except LimitError as error:
            raise UnreadableError(f"{name}: {error.message}") from error
        courses = {course: [(step, value) for step, value in points] for course, points in read["series"].items()}
        return Measured(read["metrics"], courses)

    def results(self, name: str, path: Path) -> Results:
        """What a file of test results comes to; raises ``InvalidError`` (check.junit) if it is not one."""
        try:
            counted = self._ask({"task": "results", "file": [name, str(path)]})
        except LimitError as error:
            raise InvalidError(f"{name} cannot be read: {error.message}", code="check.junit") from error
        return Results(**{**counted, "first": tuple(counted["first"])})

    def unpack(self, parcel: Path, folder: Path, present: Mapping[str, str]) -> tuple[str, dict[str, str]]:
        """Check a whole parcel, then write those of its artifacts into ``folder`` whose SHA-256 is not the one that
        ``present`` has for their path. Gives the parcel's name and the SHA-256 of every artifact by path; raises as
        ``Parcel.verify``, ``StorageError`` and ``LimitError``."""
        request = {"task": "unpack", "file": ["", str(parcel)], "output": str(folder), "present": dict(present)}
        unpacked = self._ask(request)
        return unpacked["name"], unpacked["digests"]

    def page(
        self, path: Path, start: int, count: int, *, action: str = "", column: str = "", table: str = ""
    ) -> dict[str, Any]:
        """Some of the rows ``compare`` kept in a file: ``rows``, ``total`` and ``start``. Raises ``LimitError``."""
        wanted = {"start": start, "count": count, "action": action, "column": column, "table": table}
        return self._ask({"task": "page", "file": ["", str(path)], **wanted})

    def recognise(self, files: Sequence[tuple[str, bytes, int]]) -> list[str]:
        """The kind of each file, given as (name, first bytes, size of all). What ends the process three times is
        ``opaque``, and costs the others nothing."""
        kinds: list[str] = []
        for batch in _batches(files):
            kinds += self._recognise(batch)
        return kinds

    def _recognise(self, files: Sequence[tuple[str, bytes, int]]) -> list[str]:
        for _ in range(_TRIES if len(files) == 1 else 1):
            try:
                found: list[str] = self._ask({"task": "recognise", "files": [_as_text(*file) for file in files]})[
                    "kinds"
                ]
            except LimitError:
                continue
            return found
        if len(files) == 1:
            return ["opaque"]
        half = len(files) // 2
        return self._recognise(files[:half]) + self._recognise(files[half:])

    def recognise_folder(self, name: str, files: Sequence[tuple[str, bytes, int]]) -> str:
        """The kind of a folder kept whole, from the first bytes of its files."""
        request = {"task": "recognise-folder", "name": name, "files": [_as_text(*file) for file in files]}
        for _ in range(_TRIES):
            with contextlib.suppress(LimitError):
                return str(self._ask(request)["kind"])
        return "opaque"

    def close(self) -> None:
        """End the process."""
        with self._lock:
            self._end()

    def _ask(
        self, request: dict[str, Any], tick: Callable[[], None] | None = None, seconds: float | None = None
    ) -> dict[str, Any]:
        try:
            line_of = orjson.dumps(request)
        except (TypeError, ValueError) as error:
            # A number of more than 64 bits, or half a character: no file holds that under any name.
            raise InvalidError(f"a value of this request cannot be used: {error}", code="input.invalid") from error
        with self._lock:
            process = self._started()
            assert process.stdin is not None and process.stdout is not None
            try:
                process.stdin.write(line_of + b"\n")
                process.stdin.flush()
                line = self._line(process, process.stdout, tick, seconds or self._deadline)
            except (BrokenPipeError, LimitError) as error:
                self._end()
                raise error if isinstance(error, LimitError) else _died(process) from error
            except BaseException:
                self._end()  # the caller gave up
                raise
            if not line:
                died = _died(process)
                self._end()
                raise died
        answer = orjson.loads(line)
        if "problem" in answer:
            problem = answer["problem"]
            family = _FAMILIES.get(problem["family"], InvalidError)
            raise family(problem["message"], code=problem["code"], hint=problem["hint"])
        result: dict[str, Any] = answer["result"]
        return result

    def _line(
        self, process: subprocess.Popen[bytes], pipe: IO[bytes], tick: Callable[[], None] | None, seconds: float
    ) -> bytes:
        end = time.monotonic() + seconds * _PATIENCE
        most = _worked(process.pid) + seconds
        ticked = time.monotonic()
        pieces = []
        while True:
            if not select.select([pipe], [], [], _LOOK_SECONDS)[0]:
                if _resident(process.pid) > self._memory:
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

    def _started(self) -> subprocess.Popen[bytes]:
        if self._process is None or self._process.poll() is not None:
            self._clear()
            self._folder = tempfile.TemporaryDirectory(
                prefix="es-reading-", dir=self._scratch, ignore_cleanup_errors=True
            )
            self._process = subprocess.Popen(
                [sys.executable, "-m", "everyshelf.core.reading.worker", str(self._memory)],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                bufsize=0,
                env={**os.environ, "TMPDIR": self._folder.name},
            )
        return self._process

    def _end(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            for pipe in (self._process.stdin, self._process.stdout):
                with contextlib.suppress(OSError):
                    pipe.close()  # type: ignore[union-attr]
            self._process = None
        self._clear()

    def _clear(self) -> None:
        """Remove what a process that was killed could not remove itself."""
        if self._folder is not None:
            self._folder.cleanup()
            self._folder = None


def _batches(files: Sequence[tuple[str, bytes, int]]) -> Iterator[list[tuple[str, bytes, int]]]:
    batch: list[tuple[str, bytes, int]] = []
    size = 0
    for file in files:
        if batch and (len(batch) >= _BATCH_FILES or size + len(file[1]) > _BATCH_BYTES):
            yield batch
            batch, size = [], 0
        batch.append(file)
        size += len(file[1])
    if batch:
        yield batch


def _as_text(name: str, head: bytes, size: int) -> list[Any]:
    return [name, base64.b64encode(head).decode(), size]


def _size_of(path: Path) -> int:
    """Bytes of a file, or of all files in a folder."""
    return sum(p.stat().st_size for p in path.rglob("*") if p.is_file()) if path.is_dir() else path.stat().st_size


def _resident(pid: int) -> int:
    """Bytes of memory a process holds; 0 where the system does not tell."""
    try:
        fields = Path(f"/proc/{pid}/statm").read_text().split()
    except OSError:
        return 0
    return (int(fields[1]) - int(fields[2])) * _PAGE_BYTES


def _worked(pid: int) -> float:
    """Seconds of processor time a process has used; 0 where the system does not tell."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return 0.0
    return (int(fields[11]) + int(fields[12])) / _TICKS  # utime and stime (proc(5)), counted behind the command's name


def _out_of_memory() -> LimitError:
    return LimitError("reading needed more memory than it may use", code="limit.memory")


def _died(process: subprocess.Popen[bytes]) -> LimitError:
    """Why a reading process ended without an answer."""
    try:
        code = process.wait(timeout=5)
    except subprocess.TimeoutExpired:
        code = 0
    # Killed by the system itself, or by us, it had asked for too much; memory refused to a library ends in an abort.
    if code in (_NO_MEMORY, -signal.SIGKILL, -signal.SIGABRT):
        return _out_of_memory()
    sort = f"by signal {-code}" if code < 0 else f"with status {code}"
    return LimitError(f"the reading process ended {sort}", code="reader.ended")


# --- in the child ----------------------------------------------------------------


def serve(memory_bytes: int) -> None:
    """Answer requests from standard input until it ends."""
    from everyshelf.core.compare.artifact import reader_failed
    from everyshelf.core.reading.tasks import answer
    from everyshelf.core.tables.options import limit_memory

    limit_memory(memory_bytes // 2)
    with contextlib.suppress(ValueError, OSError):
        most = memory_bytes + _RESERVED_BYTES
        resource.setrlimit(resource.RLIMIT_DATA, (most, most))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    # Answers have a pipe of their own: whatever a library prints must not get between them.
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    for line in sys.stdin.buffer:
        try:
            reply: dict[str, Any] = {"result": answer(orjson.loads(line))}
        except EveryShelfError as error:
            reply = {"problem": _problem_json(error)}
        except OSError as error:
            reply = {"problem": _problem_json(StorageError(f"the reading process: {error.strerror or error}"))}
        except MemoryError:
            os._exit(_NO_MEMORY)
        except Exception as error:
            # A mistake in a reader of ours or of another package: told as what it is, and the process goes on.
            reply = {
                "problem": {"message": reader_failed(error), "code": "reader.failed", "hint": "", "family": "limit"}
            }
        answers.write(_line_of(reply))
        answers.flush()


def _line_of(reply: dict[str, Any]) -> bytes:
    try:
        return orjson.dumps(reply, default=str, option=orjson.OPT_NON_STR_KEYS) + b"\n"
    except (TypeError, ValueError) as error:
        problem = {"message": f"the answer cannot be written: {error}", "code": "reader.failed", "hint": ""}
        return orjson.dumps({"problem": {**problem, "family": "limit"}}) + b"\n"


def _problem_json(error: EveryShelfError) -> dict[str, str]:
    family = next((name for name, kind in _FAMILIES.items() if isinstance(error, kind)), "")
    return {"message": error.message, "code": error.code, "hint": error.hint, "family": family}


if __name__ == "__main__":
    serve(int(sys.argv[1]))
