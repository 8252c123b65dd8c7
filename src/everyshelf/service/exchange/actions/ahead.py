"""What commits of a long line changed, worked out by other processes while this one maps them to Git."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Generator, Iterator
from dataclasses import dataclass, field
from functools import partial

from everyshelf.core.content.stores import current_store
from everyshelf.gitside.ahead import States, look_ahead
from everyshelf.gitside.mapping import Seen
from everyshelf.service.base.config import get_config
from everyshelf.service.base.spreading import spread_out
from everyshelf.service.shelves.models import Commit, CommitParent
from everyshelf.storage.checking import opened_store

WORTH = 1_000  # commits: fewer are mapped as quickly as other processes are started
_BATCH = 250
_MOST = 5_000  # commits at once: what was found of them waits in memory


@dataclass
class Ahead:
    """What was seen of a line of commits, in its order."""

    _parts: Generator[tuple[int, list[Seen | None]], None, None] | None
    _held: dict[int, list[Seen | None]] = field(default_factory=dict)

    def seen(self, place: int) -> Seen | None:
        """What the commit at this place changed; None where that is not known."""
        batch, within = divmod(place, _BATCH)
        while self._parts is not None and batch not in self._held:
            found = next(self._parts, None)
            if found is None:
                self._parts = None
            else:
                self._held[found[0]] = found[1]
        self._held.pop(batch - 1, None)
        some = self._held.get(batch, [])
        return some[within] if within < len(some) else None


@contextlib.contextmanager
def looked_ahead(keys: list[int], tick: Callable[[], None]) -> Iterator[Ahead]:
    """Have other processes look at these commits, where they are many; ``tick`` is called while that is waited for."""
    config = get_config()
    if len(keys) < WORTH or config.processes < 2:
        yield Ahead(None)
        return
    states = _states_of(keys)
    opened = partial(opened_store, str(config.data), config.store_cache_bytes)
    batches = [(opened, current_store(), states[at : at + _BATCH]) for at in range(0, len(states), _BATCH)]
    parts = spread_out(look_ahead, batches, lambda _: tick(), needs="this machine", here=_left)
    with contextlib.closing(parts):
        yield Ahead(parts)


def _left(_opened: object, _store: str, states: States, _told: object) -> list[Seen | None]:
    """What no other process saw is worked out when it is needed."""
    return [None] * len(states)


def in_lines(keys: list[int]) -> Iterator[tuple[int, list[int]]]:
    """A line of commits in pieces that are looked at together, each with the place where it begins."""
    return ((at, keys[at : at + _MOST]) for at in range(0, len(keys), _MOST))


def _states_of(keys: list[int]) -> list[tuple[str, str]]:
    """Of each commit the state of its first parent, empty for none, and its own."""
    roots: dict[int, str] = {}
    before: dict[int, str] = {}
    for start in range(0, len(keys), _BATCH):
        some = keys[start : start + _BATCH]
        roots.update(Commit.objects.filter(pk__in=some).values_list("pk", "root"))
        firsts = CommitParent.objects.filter(commit__in=some, position=0)
        before.update(firsts.values_list("commit", "parent__root"))
    return [(before.get(key, ""), roots[key]) for key in keys]
