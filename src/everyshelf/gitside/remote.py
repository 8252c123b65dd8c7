"""Another repository: what it has, what is fetched from it and sent to it.

One on another machine is reached by the ``git`` program; one in a folder of this machine is read and written as files
(``on_disk``), because Git would obey the settings and hooks it finds there.

Nothing there is ever forced, rewritten or deleted. The token and the key are known to the child that needs them and to
nothing else: through ``GIT_ASKPASS`` and a file that only its owner may read. Why something failed is told by what Git
says in its own, untranslated words (``LC_ALL=C``).
"""

from __future__ import annotations

import contextlib
import os
import re
import shlex
import shutil
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from everyshelf.core.errors import ConflictError, EveryShelfError, LimitError, MissingError, RefusedError
from everyshelf.gitside.causes import Access, plain, why_of
from everyshelf.gitside.on_disk import writing
from everyshelf.gitside.on_disk.reading import OnDisk
from everyshelf.gitside.program import ChildLimits, GitError
from everyshelf.gitside.repository import Repository

_SECONDS = 3600.0
_LOOK_SECONDS = 60.0
_QUIET_SECONDS = 600.0  # after which a server is taken to have gone: one that works for long says so all the time
_MOST_REFS = 50_000
_MOST_SAID = 64 * 1024 * 1024
_LOOK_ADDRESS_SPACE = 512 * 1024 * 1024  # of which libraries take up to 200 MB
_ADDRESS_SPACE = 2 * 1024 * 1024 * 1024  # two million objects take a few hundred MB
_ROOM_LEFT = 256 * 1024 * 1024
_PACK_SECONDS = 1800  # of processor time
_FETCH = ("fetch", "--no-tags", "--no-write-fetch-head", "--no-auto-gc", "--no-recurse-submodules", "--quiet")


class Remote(Protocol):
    """Another repository, and its copy in the data folder."""

    def refs(self) -> dict[str, str]:
        """Full name and object of each branch and tag there."""

    def fetch(self, refs: Mapping[str, str]) -> None:
        """Bring what refs there name (values: what they are called here, outside of branches and tags)."""

    def send(self, refs: Mapping[str, str]) -> dict[str, EveryShelfError]:
        """Move refs there (keys) to objects of the service. Returns each refused ref with the reason."""

    def try_writing(self) -> None:
        """Return if the repository may be written to, as far as that shows without writing."""


def remote_of(
    repository: Repository, access: Access, tick: Callable[[], None] = lambda: None, seconds: float = _SECONDS
) -> Remote:
    """The repository that ``access`` leads to. ``tick`` is called while another machine is waited for, up to
    ``seconds``; it may raise."""
    if access.is_folder:
        return FolderRemote(repository, OnDisk(Path(access.address), access.shown))
    return ServedRemote(repository, access, tick, seconds)


@dataclass(frozen=True)
class FolderRemote:
    """A repository in a folder. What it has is copied beside ours first, and fetched from the copy."""

    repository: Repository
    there: OnDisk

    def refs(self) -> dict[str, str]:
        """As ``Remote``."""
        return self.there.refs()

    def fetch(self, refs: Mapping[str, str]) -> None:
        """As ``Remote``."""
        if not refs:
            return
        wanted = [f"+{there}:{here}" for there, here in refs.items()]
        alone = {"EVERYSHELF_GIT_SETTINGS": "protocol.file.allow=always"}
        try:
            with self.there.copied(self.repository.folder.parent) as copy:
                self.repository.run(*_FETCH, str(copy), *wanted, environment=alone, seconds=_SECONDS)
        except GitError as error:
            raise why_of(error, Access(self.there.shown)) from error

    def send(self, refs: Mapping[str, str]) -> dict[str, EveryShelfError]:
        """As ``Remote``."""
        return writing.send(self.there, self.repository, refs) if refs else {}

    def try_writing(self) -> None:
        """As ``Remote``."""
        writing.may_write(self.there)


@dataclass(frozen=True)
class ServedRemote:
    """A repository that a server gives out, over HTTP or SSH; ``tick``, ``seconds``: as for ``remote_of``."""

    repository: Repository
    access: Access
    tick: Callable[[], None]
    seconds: float

    def refs(self) -> dict[str, str]:
        """Full name and object of each branch and tag there."""
        asked = ("ls-remote", "--refs", self.access.shown, "refs/heads/*", "refs/tags/*")
        out = self._run(*asked, seconds=_LOOK_SECONDS, limits=ChildLimits(_LOOK_ADDRESS_SPACE))
        if not out and self.access.is_http:
            self._require_repository(asked)
        lines = out.decode("utf-8", "surrogateescape").split("\n")
        if len(lines) > _MOST_REFS:
            raise LimitError(
                f"{self.access.shown} has {len(lines):,} branches and tags, and this service takes {_MOST_REFS:,}",
                code="git.size",
                hint="Join a repository that has fewer.",
            )
        rows = (line.partition("\t") for line in lines)
        return {name: identity for identity, _, name in rows if identity}

    def fetch(self, refs: Mapping[str, str]) -> None:
        """Bring what refs there name (values: what they are called here, outside of branches and tags)."""
        if refs:
            wanted = [f"+{there}:{here}" for there, here in refs.items()]
            room = shutil.disk_usage(self.repository.folder).free - _ROOM_LEFT
            self._run(
                *_FETCH, self.access.shown, *wanted, limits=ChildLimits(_ADDRESS_SPACE, _PACK_SECONDS, max(0, room))
            )

    def send(self, refs: Mapping[str, str]) -> dict[str, EveryShelfError]:
        """Let refs there (keys) name objects of ours. Gives each that was refused with why; the others are there."""
        if not refs:
            return {}
        wanted = [f"{identity}:{name}" for name, identity in refs.items()]
        try:
            self._run("push", "--porcelain", "--no-verify", self.access.shown, *wanted)
        except _SentError as error:
            if error.why.code == "git.disk" or not any(line.startswith("!\t") for line in error.out.split("\n")):
                raise error.why from None  # what could not be kept there was refused with all the rest
            return _refusals(error.out, error.said, self.access)
        return {}

    def try_writing(self) -> None:
        """Return if the repository may be written to, as far as that shows without writing."""
        tip = next(iter(self.repository.refs("refs/heads/").values()), None)
        if tip is not None:
            wanted = f"{tip}:refs/heads/{_PROBE}"
            try:
                dry = ("push", "--dry-run", "--quiet", self.access.shown, wanted)
                self._run(*dry, seconds=_LOOK_SECONDS, limits=ChildLimits(_LOOK_ADDRESS_SPACE))
            except _SentError as error:
                raise error.why from error

    def _require_repository(self, asked: Sequence[str]) -> None:
        """Raise ``MissingError`` where nothing spoke as Git does (gitprotocol-v2): to the program, any page of one line
        is a repository without branches."""
        with tempfile.TemporaryDirectory(prefix="everyshelf-git-") as folder:
            packets = Path(folder, "packets")
            limits = ChildLimits(_LOOK_ADDRESS_SPACE, file_bytes=_MOST_SAID)
            self._run(*asked, seconds=_LOOK_SECONDS, limits=limits, more={"GIT_TRACE_PACKET": str(packets)})
            if not packets.exists() or b"packet:" not in packets.read_bytes():
                raise MissingError(
                    f"{self.access.shown} answers, but not as a Git repository does",
                    code="git.missing",
                    hint="Look at the address; a repository without commits is fine.",
                )

    def _run(
        self,
        *arguments: str,
        seconds: float | None = None,
        limits: ChildLimits | None = None,
        more: Mapping[str, str] | None = None,
    ) -> bytes:
        with _credentials(self.access) as environment:
            try:
                return self.repository.run(
                    *arguments,
                    environment={**environment, **(more or {})},
                    seconds=seconds or self.seconds,
                    limits=limits or ChildLimits(_ADDRESS_SPACE),
                    quiet_seconds=_QUIET_SECONDS,
                    most_bytes=_MOST_SAID,
                    tick=self.tick,
                )
            except GitError as error:
                why = why_of(error, self.access)
                if arguments[0] == "push":
                    raise _SentError(why, error) from error
                raise why from error


_PROBE = "every-shelf-asks-whether-it-may-write"


class _SentError(EveryShelfError):
    """A push that was refused, in whole or in part."""

    def __init__(self, why: EveryShelfError, error: GitError) -> None:
        super().__init__(why.message, hint=why.hint, code=why.code)
        self.why, self.out, self.said = why, error.out, error.said


@contextlib.contextmanager
def _credentials(access: Access) -> Iterator[dict[str, str]]:
    """What the child is told, in files that are gone afterwards."""
    found: dict[str, str] = {}
    settings = {"http.followRedirects": "false"}
    if access.resolved:
        settings["http.curloptResolve"] = access.resolved
    with tempfile.TemporaryDirectory(prefix="everyshelf-git-") as folder:
        if access.is_http:
            ask = _private(Path(folder, "ask"), _ASK, mode=0o700)
            found |= {"GIT_ASKPASS": str(ask), "EVERYSHELF_USER": access.user or "everyshelf"}
            found["EVERYSHELF_TOKEN"] = access.token
        else:
            found["GIT_SSH_COMMAND"] = _ssh(access, Path(folder))
        found["EVERYSHELF_GIT_SETTINGS"] = "\n".join(f"{key}={value}" for key, value in settings.items())
        yield found


_ASK = '#!/bin/sh\ncase "$1" in Username*) printf %s "$EVERYSHELF_USER";; *) printf %s "$EVERYSHELF_TOKEN";; esac\n'


def _private(path: Path, text: str, *, mode: int = 0o600) -> Path:
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode)
    with os.fdopen(descriptor, "w") as file:
        file.write(text)
    return path


def _ssh(access: Access, folder: Path) -> str:
    """The SSH program with no settings but these."""
    key = _private(folder / "key", access.key.strip() + "\n")
    hosts = _private(folder / "hosts", access.known_hosts.strip() + "\n")
    options = {
        "BatchMode": "yes",
        "IdentitiesOnly": "yes",
        "StrictHostKeyChecking": "yes",
        "UserKnownHostsFile": str(hosts),
        "GlobalKnownHostsFile": os.devnull,
        "ConnectTimeout": "15",
        "ServerAliveInterval": "15",
        "ForwardAgent": "no",
        "PermitLocalCommand": "no",
    }
    host, port, address = access.resolved.split(":", 2) if access.resolved.count(":") >= 2 else ("", "", "")
    if host and not host.startswith("["):
        # The host was looked up and allowed a moment ago: the connection goes there, and its key is known by its name.
        options |= {"HostName": address, "HostKeyAlias": host if port == "22" else f"[{host}]:{port}"}
    words = ["ssh", "-F", os.devnull, "-i", str(key)]
    words += [word for name, value in options.items() for word in ("-o", f"{name}={value}")]
    return shlex.join(words)


def _refusals(out: str, said: str, access: Access) -> dict[str, EveryShelfError]:
    """Each ref that was refused with the reason, from the porcelain form of ``git push``."""
    found: dict[str, EveryShelfError] = {}
    for line in out.split("\n"):
        flag, _, rest = line.partition("\t")
        refs, _, why = rest.partition("\t")
        if flag.strip() != "!":
            continue
        name = refs.partition(":")[2]
        short = name.removeprefix("refs/heads/").removeprefix("refs/tags/")
        reason = why.partition("(")[2].rstrip(")") or why
        told = "; ".join(plain(w, access) for w in said.split("\n") if w.startswith("remote:"))[:300]
        if re.search("non-fast-forward|fetch first|stale info|cannot lock ref|reference already exists", why):
            found[name] = ConflictError(
                f"{short} has commits there that the shelf does not have",
                code="git.diverged",
                hint="Fetch them first: everyshelf git-link fetch. Nothing there is ever overwritten.",
            )
        elif re.search("already exists", why):
            found[name] = ConflictError(
                f"the tag {short} is another one there", code="git.tag", hint="Tags never move."
            )
        else:
            found[name] = RefusedError(
                f"{access.shown} does not take {short}: {told or reason}",
                code="git.guarded",
                hint="Look at what protects that branch there; nothing was sent to it.",
            )
    return found
