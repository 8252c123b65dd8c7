"""Parts of spread work, worked out in turn by this process: what it takes is what other processes would be given."""

from __future__ import annotations

import contextlib
import pickle
import random
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from everyshelf.core.spreading import UnreachedError, Use, spread_over


@dataclass(frozen=True)
class Here:
    """A file that is read where it lies; ``needed`` is what was asked for of it."""

    path: Path

    def local(self, needed: Sequence[tuple[int, int]]) -> Path:
        """A copy with holes where nothing was asked for: it has to do."""
        copy = self.path.with_name(f"copy-{random.randrange(10**12)}")
        size = self.path.stat().st_size
        with self.path.open("rb") as read, copy.open("wb") as written:
            written.truncate(size)
            for start, stop in needed:
                read.seek(start)
                written.seek(start)
                written.write(read.read(stop - start))
        return copy


class InTurn:
    """Works parts out at once and here, from what went through a pickle as it would on its way elsewhere."""

    def __init__(self) -> None:
        self.parts = 0
        self.breaks_after = -1

    def hand_over(self, path: Path) -> Here:
        return Here(path)

    def submit(self, work: Callable[..., Any], *given: Any, soon: bool = False) -> Any:
        del soon
        self.parts += 1
        if self.parts == self.breaks_after:
            raise UnreachedError("it went down")
        return work(*pickle.loads(pickle.dumps(given)))

    def as_done(self, pending: Sequence[Any], tick: Callable[[], None] | None = None) -> Iterator[Any]:
        del tick
        yield from reversed(pending)

    def use(self, worth: int, tell: Callable[[int, int], None], missed: Callable[[str], None]) -> None:
        """Let large tables be worked on in parts."""

        @contextlib.contextmanager
        def opened() -> Iterator[InTurn]:
            yield self

        spread_over(Use(opened, worth, tell, missed))
