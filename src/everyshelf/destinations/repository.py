"""One branch of a Git repository somewhere, and a copy of what it holds beside the service.

Objects are fetched and sent through a library; nothing is checked out. A branch is moved only from the commit it was
seen at: the repository itself refuses where somebody else was faster, and nothing is ever forced.
"""

from __future__ import annotations

import contextlib
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import urllib3
from dulwich.client import GitClient, HttpGitClient, HTTPUnauthorized, LocalGitClient, SendPackResult
from dulwich.errors import GitProtocolError, HangupException, NotGitRepository, SendPackError
from dulwich.objects import ObjectID
from dulwich.refs import Ref
from dulwich.repo import Repo

from everyshelf.core.errors import ConflictError, EveryShelfError, MissingError, OutOfReachError, RefusedError
from everyshelf.destinations.reach import Reach, pool_manager

_SECONDS = 30.0


class RemoteBranch:
    """``branch`` of the repository at ``address`` (https, http, or a folder); ``copy`` is a folder for its objects.

    ``user`` and ``token`` are given to a server that asks (RFC 7617). Raises ``OutOfReachError``, ``RefusedError``
    where the token is not known or has not the right, ``MissingError`` where there is no repository.
    """

    def __init__(
        self, address: str, branch: str, copy: Path, *, reach: Reach | None = None, user: str = "", token: str = ""
    ) -> None:
        self._reach = reach or Reach()
        self.address, self.branch, self._copy = address, branch, copy
        self._user, self._token = user or "everyshelf", token
        self._ref = Ref(f"refs/heads/{branch}".encode())
        self._repository: Repo | None = None

    @property
    def repository(self) -> Repo:
        """The copy; made when it is first asked for."""
        if self._repository is None:
            self._copy.mkdir(parents=True, exist_ok=True)
            there = (self._copy / "HEAD").exists()
            self._repository = Repo(str(self._copy)) if there else Repo.init_bare(str(self._copy))
        return self._repository

    def fetch(self) -> ObjectID | None:
        """Bring what is new; gives the commit the branch is at, or None if there is no such branch yet."""
        store = self.repository.object_store

        def wanted(refs: Any, depth: int | None = None) -> list[ObjectID]:
            tip = refs.get(self._ref)
            return [tip] if tip is not None and tip not in store else []

        with self._in_our_words():
            client, path = self._client()
            found = client.fetch(path.encode(), self.repository, determine_wants=wanted)
        tip: ObjectID | None = found.refs.get(self._ref)
        return tip

    def send(self, commit: ObjectID, seen: ObjectID | None) -> None:
        """Move the branch to ``commit``, which is in the copy; ``seen`` is where it must be now. Raises
        ``ConflictError`` (destination.changed) if it is somewhere else."""

        def moved(refs: dict[Ref, ObjectID]) -> dict[Ref, ObjectID]:
            if refs.get(self._ref) != seen:
                raise self._changed()
            return {self._ref: commit}

        def packed(have: Any, want: Any, **options: Any) -> Any:
            return self.repository.object_store.generate_pack_data(have, want, **options)

        with self._in_our_words():
            client, path = self._client()
            answer: SendPackResult = client.send_pack(path.encode(), moved, packed)
        refused = (answer.ref_status or {}).get(self._ref)
        if refused:
            raise ConflictError(
                f"{self.address} does not take it: {str(refused)[:200]}",
                code="destination.rejected",
                hint="Look at what guards that branch; nothing was changed.",
            )

    def _changed(self) -> ConflictError:
        return ConflictError(
            f"{self.branch} of {self.address} has moved meanwhile",
            code="destination.changed",
            hint="Rehearse and promote again; nothing was changed.",
        )

    def _client(self) -> tuple[GitClient, str]:
        """The one client for the address: never another program, whatever the address looks like."""
        parts = urlsplit(self.address)
        if parts.scheme not in ("http", "https"):
            return LocalGitClient(), self.address
        options: dict[str, Any] = {"username": self._user, "password": self._token} if self._token else {}
        base = f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}"
        manager = pool_manager(self._reach, read_seconds=_SECONDS)
        return HttpGitClient(base, pool_manager=manager, **options), parts.path

    @contextlib.contextmanager
    def _in_our_words(self) -> Iterator[None]:
        try:
            yield
        except HTTPUnauthorized as error:
            raise self._refused("the token is not known there") from error
        except NotGitRepository as error:
            raise MissingError(
                f"there is no Git repository at {self.address}",
                code="destination.missing",
                hint="Look at the address; an empty repository is fine.",
            ) from error
        except (GitProtocolError, HangupException, SendPackError) as error:
            said = str(error).strip()[:200] or type(error).__name__
            if "403" in said:
                raise self._refused("the token has not the right to") from error
            raise OutOfReachError(f"{self.address} failed: {said}", code="destination.failed") from error
        except EveryShelfError:
            raise
        except (urllib3.exceptions.HTTPError, OSError) as error:
            raise OutOfReachError(f"{self.address} cannot be reached: {type(error).__name__}") from error
        except (ValueError, KeyError, IndexError, AssertionError, zlib.error) as error:
            # A server that speaks something else, or sends damaged objects.
            raise OutOfReachError(
                f"{self.address} does not answer as a Git server does: {type(error).__name__}",
                code="destination.failed",
            ) from error

    def _refused(self, why: str) -> RefusedError:
        return RefusedError(
            f"{self.address} does not let the service in: {why}",
            code="destination.refused",
            hint="Give the environment a token that is known there: everyshelf env change NAME --token.",
        )
