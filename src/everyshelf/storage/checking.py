"""Contents checked by processes other than the one that asks."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.stores import in_store
from everyshelf.storage.home import open_place

Told = Callable[[int], None]


@dataclass(frozen=True)
class StoreAt:
    """Where a store lies: its data folder, how much of a bucket may be kept there, and which of its stores is asked
    first."""

    data: str
    cache_bytes: int
    store: str


@dataclass(frozen=True)
class Checked:
    """``wrong``: by content, what was found; ``outside``: how many lie elsewhere, of which only the note was read."""

    wrong: dict[str, str]
    outside: int


def check_contents(at: StoreAt, identities: Sequence[str], told: Told) -> Checked:
    """Read contents and compare them with their ids; nothing is written."""
    with in_store(at.store):
        return check_in(opened_store(at.data, at.cache_bytes), identities, told)


def check_in(store: ContentStore, identities: Sequence[str], told: Told) -> Checked:
    """The same with a store that is open; ``told`` gets how many are done."""
    wrong, outside = dict[str, str](), 0
    for done, identity in enumerate(identities):
        told(done)
        found = store.verify(identity)
        if found is not None:
            wrong[identity] = found
        outside += store.lies_outside(identity)
    return Checked(wrong, outside)


@functools.lru_cache(maxsize=1)
def opened_store(data: str, cache_bytes: int) -> ContentStore:
    """The store of a data folder, as a process sees it that only reads; the same one each time."""
    return ContentStore(open_place(Path(data), cache_bytes))
