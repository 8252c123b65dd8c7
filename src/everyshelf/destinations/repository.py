"""One branch of a Git repository somewhere, and a copy of what it holds beside the service.

The ``git`` program fetches and sends; nothing is checked out. A branch is moved only from the commit it was seen at:
the repository itself refuses if another push was faster, and nothing is ever forced.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from urllib.parse import urlsplit

from everyshelf.core.errors import ConflictError, EveryShelfError, MissingError, OutOfReachError, RefusedError
from everyshelf.destinations.reach import Reach
from everyshelf.gitside.causes import Access
from everyshelf.gitside.program import GitError
from everyshelf.gitside.remote import Remote, remote_of
from everyshelf.gitside.repository import Repository

_PORTS = {"http": 80, "https": 443}
_SSH_PORT = 22
_REFUSED = ("git.signin", "git.rights", "git.expired", "git.host_key")


class RemoteBranch:
    """``branch`` of the repository that ``access`` leads to; ``copy`` is a folder for its objects.

    Raises ``OutOfReachError``, ``RefusedError``
    where the token is not known or has not the right, ``MissingError`` where there is no repository.
    """

    def __init__(self, access: Access, branch: str, copy: Path, *, reach: Reach | None = None) -> None:
        self._reach = reach or Reach()
        self._access, self.address = access, access.address
        self.branch, self._copy = branch, copy
        self._ref = f"refs/heads/{branch}"
        self._repository: Repository | None = None

    @property
    def repository(self) -> Repository:
        """The copy; made when it is first asked for."""
        if self._repository is None:
            self._repository = Repository.made(self._copy)
        return self._repository

    def fetch(self) -> str | None:
        """Bring what is new; gives the commit the branch is at, or None if there is no such branch yet."""
        with self._in_our_words():
            remote = self._remote()
            tip = remote.refs().get(self._ref)
            if tip is not None and not self.repository.has(tip):
                # Of this process alone: what another one left locked when it was killed does not matter.
                remote.fetch({self._ref: f"refs/destination/{os.getpid()}"})
        return tip

    def send(self, commit: str, seen: str | None) -> None:
        """Move the branch to ``commit``, which is in the copy; ``seen`` is where it must be now. Raises
        ``ConflictError`` (destination.changed) if it is somewhere else."""
        with self._in_our_words():
            remote = self._remote()
            if remote.refs().get(self._ref) != seen:
                raise self._changed()
            refused = remote.send({self._ref: commit}).get(self._ref)
        if refused is not None and refused.code == "git.diverged":
            raise self._changed()
        if refused is not None:
            raise ConflictError(
                refused.message,
                code="destination.rejected",
                hint="Look at what guards that branch; nothing was changed.",
            )

    def _changed(self) -> ConflictError:
        return ConflictError(
            f"{self.branch} of {self.address} has moved meanwhile",
            code="destination.changed",
            hint="Rehearse and promote again; nothing was changed.",
        )

    def _remote(self) -> Remote:
        """The host is looked up and checked now, and that address is the one that is called."""
        parts, resolved = urlsplit(self.address), ""
        if parts.scheme in _PORTS:
            port = parts.port or _PORTS[parts.scheme]
            resolved = f"{parts.hostname}:{port}:{self._reach.resolved(parts.hostname or '', port)}"
        elif parts.scheme == "ssh":
            port = parts.port or _SSH_PORT
            resolved = f"{parts.hostname}:{port}:{self._reach.resolved(parts.hostname or '', port)}"
        return remote_of(self.repository, replace(self._access, resolved=resolved))

    @contextlib.contextmanager
    def _in_our_words(self) -> Iterator[None]:
        try:
            yield
        except GitError as error:
            raise OutOfReachError(error.message, code="destination.failed") from error
        except EveryShelfError as error:
            if error.code in _REFUSED:
                raise RefusedError(
                    f"{self.address} does not let the service in: {error.message}",
                    code="destination.refused",
                    hint="Give the environment a token that is known there: everyshelf env change NAME --token.",
                ) from error
            if error.code == "git.missing":
                raise MissingError(
                    f"{self.address} is not a Git repository",
                    code="destination.missing",
                    hint="Look at the address; an empty repository is fine.",
                ) from error
            if error.code.startswith("git."):
                raise OutOfReachError(error.message, code="destination.failed") from error
            raise
