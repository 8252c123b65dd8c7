"""The ``git`` program, run so that nothing but what is asked for happens.

No settings of the system or of a user, no hooks, no other programs by ``ext::``, no prompts; objects are checked as
they come in. A child that answers nothing for too long is ended.
"""

from __future__ import annotations

import contextlib
import os
import selectors
import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, cast

from everyshelf.core.errors import EveryShelfError, InvalidError

_SETTINGS = {
    "core.hooksPath": os.devnull,
    "core.fsmonitor": "false",
    "core.symlinks": "false",
    "core.bigFileThreshold": "8m",
    "gc.auto": "0",
    "maintenance.auto": "false",
    "pack.threads": "2",
    "pack.compression": "1",
    "pack.windowMemory": "64m",
    "pack.deltaCacheSize": "32m",
    "core.packedGitWindowSize": "32m",
    "core.packedGitLimit": "256m",
    "core.deltaBaseCacheLimit": "64m",
    "protocol.allow": "never",
    "protocol.https.allow": "always",
    "protocol.http.allow": "always",
    "protocol.ssh.allow": "always",
    "protocol.file.allow": "never",  # but for a copy that only we write (``remote.FolderRemote``)
    "protocol.ext.allow": "never",
    "submodule.recurse": "false",
    "fetch.recurseSubmodules": "false",
    "transfer.fsckObjects": "true",
    "receive.denyDeletes": "false",
    "receive.denyNonFastForwards": "true",
    "receive.denyCurrentBranch": "ignore",
    "uploadpack.allowFilter": "true",
    "uploadpack.allowAnySHA1InWant": "true",
}
# Forms of old programs that harm nothing, and that would keep whole histories out.
_HARMLESS = (
    "badTimezone",
    "missingSpaceBeforeDate",
    "zeroPaddedDate",
    "zeroPaddedFilemode",
    "badFilemode",
    "missingEmail",
    "missingNameBeforeEmail",
    "missingSpaceBeforeEmail",
    "badName",
    "badEmail",
)


_PIECE = 64 * 1024
_LOOK_SECONDS = 0.5
_BUSY_BYTES = 64 * 1024  # written, or a second of processor time: less is a server that keeps a connection open
_TICKS = os.sysconf("SC_CLK_TCK")
_LIMITED = 'for limit in $1; do ulimit "${limit%%=*}" "${limit##*=}"; done; shift; exec "$@"'


def _nothing() -> None:
    """Where nobody ends the wait."""


class GitError(EveryShelfError):
    """The ``git`` program did not do what it was asked; ``said`` is what it wrote of errors, ``out`` what else."""

    code = "git.failed"

    def __init__(
        self, message: str, said: str = "", *, out: str = "", hint: str | None = None, code: str | None = None
    ) -> None:
        super().__init__(message, hint=hint, code=code)
        self.said, self.out = said, out


def git_program() -> str:
    """Where ``git`` is; raises ``InvalidError`` (git.absent) if it is not installed."""
    found = shutil.which("git")
    if found is None:
        raise InvalidError(
            "the git program is not installed where Every Shelf runs",
            code="git.absent",
            hint="Install it (Debian: apt-get install git) and try again.",
        )
    return found


def git_environment(more: Mapping[str, str] | None = None) -> dict[str, str]:
    """What the child may know: where programs are, our settings, and ``more``, of which ``EVERYSHELF_GIT_SETTINGS`` are
    settings of Git, one a line."""
    given = dict(more or {})
    settings = dict(_SETTINGS)
    settings |= dict(line.split("=", 1) for line in given.pop("EVERYSHELF_GIT_SETTINGS", "").splitlines())
    for section in ("fsck", "fetch.fsck", "receive.fsck"):
        settings |= {f"{section}.{name}": "ignore" for name in _HARMLESS}
    environment = {
        "PATH": os.environ.get("PATH", os.defpath),
        "HOME": os.devnull,
        "LC_ALL": "C",
        "TZ": "UTC",
        "GIT_CONFIG_NOSYSTEM": "1",
        "GIT_CONFIG_GLOBAL": os.devnull,
        "GIT_ATTR_NOSYSTEM": "1",
        "GIT_TERMINAL_PROMPT": "0",
        "GIT_OPTIONAL_LOCKS": "0",
        "GIT_CONFIG_COUNT": str(len(settings)),
    }
    for place, (key, value) in enumerate(settings.items()):
        environment[f"GIT_CONFIG_KEY_{place}"], environment[f"GIT_CONFIG_VALUE_{place}"] = key, value
    return environment | given


@dataclass(frozen=True)
class ChildLimits:
    """What a child may take (setrlimit(2)): bytes of address space, seconds of processor time, bytes of one file that
    it writes. None: as much as there is."""

    address_space: int | None = None
    processor_seconds: int | None = None
    file_bytes: int | None = None

    def around(self, command: Sequence[str]) -> list[str]:
        """The command, begun by a shell that sets them first: a child that is limited once it runs has begun others by
        then."""
        units = (("-v", self.address_space, 1024), ("-t", self.processor_seconds, 1), ("-f", self.file_bytes, 512))
        limits = " ".join(f"{option}={most // unit}" for option, most, unit in units if most is not None)
        return ["/bin/sh", "-c", _LIMITED, "sh", limits, *command]


def start_git(
    repository: Path | None, arguments: Sequence[str], *, limits: ChildLimits | None = None, **options: object
) -> subprocess.Popen[bytes]:
    """Begin a command on a bare repository; standard streams as in ``subprocess``."""
    environment = git_environment(options.pop("environment", None))  # type: ignore[arg-type]
    where = ["--git-dir", str(repository)] if repository is not None else []
    command = [git_program(), *where, *arguments]
    if limits is not None:
        command = limits.around(command)
    process: subprocess.Popen[bytes] = subprocess.Popen(command, env=environment, **options)  # type: ignore[call-overload]
    return process


def run_git(
    repository: Path | None,
    *arguments: str,
    given: bytes | None = None,
    environment: Mapping[str, str] | None = None,
    seconds: float = 3600.0,
    quiet_seconds: float | None = None,
    fine: Sequence[int] = (0,),
    limits: ChildLimits | None = None,
    most_bytes: int | None = None,
    tick: Callable[[], None] = _nothing,
) -> bytes:
    """Run a command to its end and return what it wrote; raises ``GitError`` with what it said unless its exit code is
    ``fine``.

    ``quiet_seconds``: it is ended if it, with what it started, hardly writes or works for so long.
    ``most_bytes``: more output than that, or more errors, ends it (git.size). ``tick``: called about twice a second,
    may raise to end it. What it started ends with it: a program that talks to a server which says nothing would go on
    for ever, and hold our end of its output open.
    """
    process = start_git(
        repository,
        arguments,
        environment=environment,
        stdin=subprocess.PIPE if given is not None else subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        process_group=0,
        limits=limits,
    )
    try:
        out, said = _read_all(process, given, (seconds, quiet_seconds), most_bytes, tick)
    except BaseException as error:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        if isinstance(error, _TooSlowError):
            raise GitError(f"git {arguments[0]} {error}", code="git.slow") from None
        if isinstance(error, _TooMuchError):
            raise GitError(f"git {arguments[0]} wrote more than {most_bytes} bytes", code="git.size") from None
        raise
    finally:
        process.wait()
        for pipe in (process.stdin, process.stdout, process.stderr):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()
    if process.returncode not in fine:
        raise failed(arguments[0], process.returncode, said, out)
    return out


class _TooSlowError(Exception):
    pass


class _TooMuchError(Exception):
    pass


def _read_all(
    process: subprocess.Popen[bytes],
    given: bytes | None,
    seconds: tuple[float, float | None],
    most_bytes: int | None,
    tick: Callable[[], None],
) -> tuple[bytes, bytes]:
    """What a child writes to both of its outputs until it closes them, while it is given its input. ``seconds``: in
    all, and of silence."""
    patience = _Patience(process.pid, *seconds)
    left = memoryview(given or b"")
    found: dict[IO[bytes], bytearray] = {}
    with selectors.DefaultSelector() as waiting:
        for pipe in (process.stdout, process.stderr):
            assert pipe is not None
            found[pipe] = bytearray()
            waiting.register(pipe, selectors.EVENT_READ)
        if process.stdin is not None:
            os.set_blocking(process.stdin.fileno(), False)
            waiting.register(process.stdin, selectors.EVENT_WRITE)
        while waiting.get_map():
            for key, _ in waiting.select(_LOOK_SECONDS):
                pipe = cast("IO[bytes]", key.fileobj)
                if pipe is process.stdin:
                    left = _written(pipe, left)
                    if not left:
                        waiting.unregister(pipe)
                        pipe.close()
                    continue
                piece = os.read(pipe.fileno(), _PIECE)
                if not piece:
                    waiting.unregister(pipe)
                found[pipe] += piece
                if most_bytes is not None and len(found[pipe]) > most_bytes:
                    raise _TooMuchError
            patience.look()
            tick()
    while process.poll() is None:  # it has closed its outputs, and ends in a moment
        patience.look()
        time.sleep(0.01)
    out, said = found.values()
    return bytes(out), bytes(said)


class _Patience:
    """How long a child is waited for: so many seconds in all, and so many in which hardly anything happens in it."""

    def __init__(self, pid: int, seconds: float, quiet_seconds: float | None) -> None:
        self._pid, self._seconds, self._quiet_seconds = pid, seconds, quiet_seconds
        self._begun = self._looked = self._busy = time.monotonic()
        self._done = 0

    def look(self) -> None:
        """Raise ``_TooSlowError`` once it is over."""
        now = time.monotonic()
        if now - self._begun > self._seconds:
            raise _TooSlowError(f"took longer than {self._seconds:.0f} seconds")
        if self._quiet_seconds is None or now - self._looked < min(_LOOK_SECONDS, self._quiet_seconds / 4):
            return
        self._looked = now
        done = sum(map(_done_by, _family(self._pid)))
        if done >= self._done + _BUSY_BYTES:
            self._done, self._busy = done, now
        elif now - self._busy > self._quiet_seconds:
            raise _TooSlowError(f"was waited for, and hardly anything happened for {self._quiet_seconds:.0f} seconds")


def _family(pid: int) -> Iterator[int]:
    """A process and all that it started (proc(5))."""
    yield pid
    for children in Path(f"/proc/{pid}/task").glob("*/children"):
        with contextlib.suppress(OSError):
            for child in children.read_text().split():
                yield from _family(int(child))


def _done_by(pid: int) -> int:
    """Bytes that a process has written, and as many again for each second it has worked (proc(5)). What it reads is not
    counted: from a socket it does not show, and signs of life without an answer are not one."""
    with contextlib.suppress(OSError, ValueError, IndexError):
        _, written = Path(f"/proc/{pid}/io").read_text().splitlines()[:2]
        worked = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[11:13]
        return int(written.split()[1]) + sum(map(int, worked)) * _BUSY_BYTES // _TICKS
    return 0


def _written(pipe: IO[bytes], left: memoryview) -> memoryview:
    """What is left to write after as much as goes in now; nothing if nobody reads it any more."""
    try:
        return left[os.write(pipe.fileno(), left[:_PIECE]) :]
    except BlockingIOError:
        return left
    except BrokenPipeError:  # it ended, and says why
        return left[:0]


def failed(command: str, status: int, said: bytes, out: bytes = b"") -> GitError:
    """That a command ended with an error."""
    lines = [line for line in said.decode("utf-8", "replace").split("\n") if line.strip()]
    return GitError(
        f"git {command} failed ({status}): {last_message(lines)[:300]}",
        "\n".join(lines[-40:])[:8000],
        out=out.decode("utf-8", "replace"),
    )


def last_message(lines: Sequence[str]) -> str:
    """The last line that Git began itself: a message may quote what the other side sent, line breaks included."""
    own = [line for line in lines if line.startswith(("fatal:", "error:"))]
    return (own or [*lines] or ["it said nothing"])[-1]
