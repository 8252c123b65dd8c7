"""Work that is spread over processes, on this machine or on others: what hands parts out, and what comes back.

A part is a function of this package with all that it needs, so it can be done anywhere, and again where a process went
down. Who spreads work gets the same answer as without other processes; without them it takes longer.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from everyshelf.core.errors import EveryShelfError

Bytes = tuple[int, int]  # of a file: the first, and the one after the last


class UnreachedError(EveryShelfError):
    """The processes cannot be reached, or went down again and again; the work is done here instead."""


class Handed(Protocol):
    """A file on its way to where a part is worked out."""

    def local(self, needed: Sequence[Bytes]) -> Path:
        """A path to the file; only the needed bytes of it have to be there."""


class Spread(Protocol):
    """Processes that work out parts."""

    def hand_over(self, path: Path) -> Handed:
        """Make a file reachable from where the parts are worked out."""

    def submit(self, work: Callable[..., Any], *given: Any, soon: bool = False) -> Any:
        """Have something worked out; what earlier calls gave may be given, also within lists. ``soon``: before what was
        asked for earlier, because it sets memory free. Raises ``UnreachedError``."""

    def as_done(self, pending: Sequence[Any], tick: Callable[[], None] | None = None) -> Iterator[Any]:
        """The results, each as it is there; ``tick`` is called several times a second while none comes, and may raise.
        Raises ``UnreachedError``."""


@dataclass
class Use:
    """How this process comes by others, from how many rows of a table on, and whom it tells how many parts are done, or
    why it did the work itself."""

    opened: Callable[[], AbstractContextManager[Spread]]
    worth: int
    tell: Callable[[int, int], None] = lambda done, total: None
    missed: Callable[[str], None] = lambda why: None


_used: list[Use | None] = [None]


def spread_over(use: Use | None) -> None:
    """Say with which processes this one works on large tables; None for itself alone."""
    _used[0] = use


def use_for(rows: int) -> Use | None:
    """With which processes a table of so many rows is worked on; None for this one alone."""
    use = _used[0]
    return use if use is not None and rows >= use.worth else None


def told(use: Use, parts: Iterator[Any], total: int) -> Iterator[Any]:
    """The parts as they come; whoever waits is told how many are done."""
    for done, part in enumerate(parts, 1):
        use.tell(done, total)
        yield part
