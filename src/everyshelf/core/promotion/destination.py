"""The small interface of the places an environment's artifacts live in."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from pathlib import Path

from everyshelf.core.databases.plan import Step


@dataclass(frozen=True)
class Placed:
    """One artifact in an environment: content id and length in bytes; by whom it was changed last, if that is known."""

    id: str
    size: int
    by: str = field(default="", compare=False)


Manifest = dict[str, Placed]
# The bytes to be put at a path.
Fetch = Callable[[str], Iterator[bytes]]
Progress = Callable[[int, int, str], None]
# The bytes that go to a path; None if nothing does.
Beside = Callable[[str], bytes | None]


def no_progress(done: int, total: int, note: str) -> None:
    """Tells nobody."""


class Destination(ABC):
    """One environment's place. ``key`` names a deployment; every call may be repeated with the same key.

    Raises ``OutOfReachError`` where the place does not answer, ``RefusedError`` where it does not let the service in.
    ``changes_besides``: whether the place may change more than it is given, by itself. ``keeps_forms``: it keeps what
    artifacts mean, in a form of its own, not their bytes. ``keeps_secrets``: secrets may go there.
    """

    changes_besides = False
    keeps_forms = False
    keeps_secrets = True

    def takes(self, path: str) -> bool:
        """Whether an artifact can lie there at all; what cannot is neither put in place nor missed."""
        return True

    def kept_as(self, path: str, data: bytes, beside: Beside) -> Placed | None:
        """How ``data`` will be found there, if the place does not keep bytes as they are; else None. ``beside``: the
        bytes that go to another path. Raises ``InvalidError`` for what it cannot take."""
        return None

    def steps(self, present: Manifest, manifest: Manifest, fetch: Fetch) -> list[Step]:
        """What will be done there beyond artifacts, before anything is."""
        return []

    @abstractmethod
    def present(self, progress: Progress = no_progress) -> Manifest:
        """What is really there now, by path; called once a rehearsal and once a promotion."""

    @abstractmethod
    def current(self) -> str | None:
        """The key of the deployment that is switched on, or None."""

    @abstractmethod
    def stage(
        self, key: str, present: Manifest, manifest: Manifest, fetch: Fetch, progress: Progress = no_progress
    ) -> None:
        """Write everything aside and verify it; nothing a consumer sees changes. ``present`` is what is there now."""

    @abstractmethod
    def switch(self, key: str) -> None:
        """Make the staged deployment the current one, in one atomic act."""

    def settle(self, key: str) -> bool:
        """After a switch that failed or was cut short: bring the place to wholly the new or wholly the old. True if
        what was staged under ``key`` is in force."""
        return self.current() == key

    @abstractmethod
    def differences(self, key: str, manifest: Manifest, touched: Collection[str] | None = None) -> list[str]:
        """Read back: the paths at which the current deployment is not what ``manifest`` says. ``touched``: what this
        deployment put there, where that is known; the rest may be believed as the place tells it."""

    @abstractmethod
    def undo(self, key: str) -> None:
        """Remove what was staged under ``key``, unless it is current; afterwards it cannot become so any more."""

    @abstractmethod
    def as_file(self, path: str) -> AbstractContextManager[Path]:
        """A local file with the bytes now at ``path``, to be read; raises ``MissingError``."""
