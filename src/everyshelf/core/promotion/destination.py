"""The small interface of the places an environment's artifacts live in."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Placed:
    """One artifact in an environment: content id and length in bytes."""

    id: str
    size: int


Manifest = dict[str, Placed]
Fetch = Callable[[str], Iterator[bytes]]
Progress = Callable[[int, int, str], None]


def no_progress(done: int, total: int, note: str) -> None:
    """Tells nobody."""


class Destination(ABC):
    """One environment's place. ``key`` names a deployment; every call may be repeated with the same key."""

    @abstractmethod
    def present(self, progress: Progress = no_progress) -> Manifest:
        """What is really there now, by path; called once a rehearsal and once a promotion."""

    @abstractmethod
    def current(self) -> str | None:
        """The key of the deployment that is switched on, or None."""

    @abstractmethod
    def stage(self, key: str, manifest: Manifest, fetch: Fetch, progress: Progress = no_progress) -> None:
        """Write everything aside and verify it; nothing a consumer sees changes."""

    @abstractmethod
    def switch(self, key: str) -> None:
        """Make the staged deployment the current one, in one atomic act."""

    @abstractmethod
    def differences(self, key: str, manifest: Manifest) -> list[str]:
        """Read back: the paths at which the current deployment is not what ``manifest`` says."""

    @abstractmethod
    def undo(self, key: str) -> None:
        """Remove what was staged under ``key``, unless it is current."""

    @abstractmethod
    def open(self, path: str) -> Path:
        """A local file with the bytes now at ``path``, for comparing; raises ``MissingError``."""
