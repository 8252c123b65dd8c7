"""The ``git`` program, run so that nothing but what is asked for happens.

No settings of the system or of a user, no hooks, no other programs by ``ext::``, no prompts; objects are checked as
they come in. A child that answers nothing for too long is ended.
"""

from __future__ import annotations

import contextlib
import os
import resource
import shutil
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

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


def start_git(repository: Path | None, arguments: Sequence[str], **options: object) -> subprocess.Popen[bytes]:
    """Begin a command on a bare repository; standard streams as in ``subprocess``. ``limits``: the most bytes of its
    address space and seconds of its processor time (setrlimit(2))."""
    limits = options.pop("limits", None)
    environment = git_environment(options.pop("environment", None))  # type: ignore[arg-type]
    where = ["--git-dir", str(repository)] if repository is not None else []
    command = [git_program(), *where, *arguments]
    process: subprocess.Popen[bytes] = subprocess.Popen(command, env=environment, **options)  # type: ignore[call-overload]
    if limits is not None:
        with contextlib.suppress(ProcessLookupError):  # it has ended already
            for resource_limit, most in zip((resource.RLIMIT_AS, resource.RLIMIT_CPU), limits, strict=True):  # type: ignore[call-overload]
                resource.prlimit(process.pid, resource_limit, (most, most))
    return process


def run_git(
    repository: Path | None,
    *arguments: str,
    given: bytes | None = None,
    environment: Mapping[str, str] | None = None,
    seconds: float = 3600.0,
    fine: Sequence[int] = (0,),
) -> bytes:
    """Run a command to its end and return what it wrote; raises ``GitError`` with what it said unless its exit code is
    ``fine``."""
    process = start_git(
        repository,
        arguments,
        environment=environment,
        stdin=subprocess.PIPE if given is not None else subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    try:
        out, said = process.communicate(given, timeout=seconds)
    except subprocess.TimeoutExpired as error:
        process.kill()
        process.communicate()
        raise GitError(f"git {arguments[0]} took longer than {seconds:.0f} seconds", code="git.slow") from error
    if process.returncode not in fine:
        raise failed(arguments[0], process.returncode, said, out)
    return out


def failed(command: str, status: int, said: bytes, out: bytes = b"") -> GitError:
    """That a command ended with an error."""
    lines = [line for line in said.decode("utf-8", "replace").splitlines() if line.strip()]
    last = lines[-1][:300] if lines else "it said nothing"
    return GitError(
        f"git {command} failed ({status}): {last}", "\n".join(lines[-40:])[:8000], out=out.decode("utf-8", "replace")
    )
