"""Running a command on a desk: what it was given, what it read there, and what it measured.

Parameters reach the command as ``{NAME}`` in its arguments, as ``EVERYSHELF_PARAM_NAME`` and, all together, as JSON in
``EVERYSHELF_PARAMETERS``. Metrics it may write as JSON or JSON lines to the file named by ``EVERYSHELF_METRICS``.

Which files it read is told by the system: before the run the access time of each file is set back, and a file that was
read has a newer one afterwards (POSIX ``st_atime``; Linux keeps it under ``relatime``, its default, whenever it is
older than the last change). Where the file system keeps no access times, that is noticed and said.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from everyshelf.core.errors import UnreadableError
from everyshelf.core.reading.worker import Worker
from everyshelf.core.runs.metrics import Measured
from everyshelf.desk.desk import Desk
from everyshelf.desk.errors import DeskError
from everyshelf.desk.store import FOLDER

_GRACE_SECONDS = 10.0
_PLACE = re.compile(r"\{([^{}]+)\}")


@dataclass(frozen=True)
class Ran:
    """How a command ended. ``reads``: paths of files it read, None where the file system does not tell."""

    exit_code: int
    began: datetime
    took_seconds: float
    reads: list[str] | None
    measured: Measured = field(default_factory=Measured)
    note: str = ""


def run_command(
    desk: Desk,
    command: Sequence[str],
    parameters: Mapping[str, str],
    *,
    folder: Path | None = None,
    to_stderr: bool = False,
) -> Ran:
    """Run a command in ``folder`` of the desk (default: the working directory), and wait for it. ``to_stderr``: what
    it prints goes there.

    Raises ``DeskError`` if it cannot be started.
    """
    paths = [i.path for i in desk.states() if i.state not in ("gone", "blocked")]
    watch = _Access(desk.root, paths)
    with tempfile.TemporaryDirectory(prefix="everyshelf-metrics-") as scratch:
        metrics = Path(scratch, "metrics")
        environment = {**os.environ, **_environment(parameters), "EVERYSHELF_METRICS": str(metrics)}
        began, start = datetime.now(UTC), time.monotonic()
        try:
            process = subprocess.Popen(
                [filled(part, parameters) for part in command],
                cwd=folder,
                env=environment,
                stdout=sys.stderr if to_stderr else None,
            )
        except OSError as error:
            watch.reads()
            raise DeskError(
                f"{command[0]} cannot be started: {error.strerror}",
                code="run.command",
                hint="Put the command after --, as on this terminal: everyshelf run --set NAME=VALUE -- COMMAND",
            ) from error
        code, note = _wait(process)
        took = time.monotonic() - start
        measured, problem = _written(metrics)
    return Ran(code, began, took, watch.reads(), measured, note or problem)


def filled(text: str, parameters: Mapping[str, str]) -> str:
    """``text`` with ``{NAME}`` of a known parameter replaced by its value; other braces stay."""
    return _PLACE.sub(lambda found: parameters.get(found[1], found[0]), text)


def _environment(parameters: Mapping[str, str]) -> dict[str, str]:
    each = {f"EVERYSHELF_PARAM_{re.sub(r'[^A-Z0-9]', '_', n.upper())}": v for n, v in parameters.items()}
    return {**each, "EVERYSHELF_PARAMETERS": json.dumps(dict(parameters), ensure_ascii=False)}


def _wait(process: subprocess.Popen[bytes]) -> tuple[int, str]:
    try:
        return process.wait(), ""
    except KeyboardInterrupt:
        # The terminal has told the command, too; it gets a moment to end in its own way.
        try:
            process.wait(_GRACE_SECONDS)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        return 130, "interrupted"


def _written(file: Path) -> tuple[Measured, str]:
    if not file.is_file():
        return Measured(), ""
    worker = Worker()
    try:
        return worker.measured("metrics.json", file), ""
    except UnreadableError as error:
        return Measured(), f"EVERYSHELF_METRICS: {error}"
    finally:
        worker.close()


class _Access:
    """The access times of files, set back so that reading shows."""

    def __init__(self, root: Path, paths: Sequence[str]) -> None:
        self._root = root
        self._before: dict[str, int] = {}
        self.told = self._is_told()
        for path in paths if self.told else ():
            try:
                stat = (root / path).stat()
                os.utime(root / path, ns=(0, stat.st_mtime_ns))
            except OSError:
                continue  # of somebody else: whether it is read cannot be told
            self._before[path] = stat.st_atime_ns

    def _is_told(self) -> bool:
        probe = self._root / FOLDER / "probe"
        probe.write_bytes(b"1")
        os.utime(probe, ns=(0, probe.stat().st_mtime_ns))
        probe.read_bytes()
        seen = probe.stat().st_atime_ns
        probe.unlink()
        return seen > 0

    def reads(self) -> list[str] | None:
        """Paths that were read since; the times of the others are what they were."""
        if not self.told:
            return None
        found = []
        for path, atime in self._before.items():
            file = self._root / path
            try:
                stat = file.stat()
                if stat.st_atime_ns > 0:
                    found.append(path)
                else:
                    os.utime(file, ns=(atime, stat.st_mtime_ns))
            except OSError:
                found.append(path)  # gone or replaced: whoever replaces a file reads it first, mostly
        return sorted(found)
