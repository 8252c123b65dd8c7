"""What each store must have: all that the shelves that live there reach, and whatever lies nowhere else."""

from __future__ import annotations

from dataclasses import dataclass, field

from everyshelf.core.content.compacting import Unreached, find_unreached
from everyshelf.core.content.gathering import gather
from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.stores import MAIN
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_trees
from everyshelf.service.keeping.reaching import ANYWHERE, Progress, Reached, follow_records, held_contents


@dataclass(frozen=True)
class Needed:
    """What the records name, and by store the contents (ids) that lie there whole since they were gathered."""

    named: Reached
    gathered: dict[str, set[bytes]] = field(default_factory=dict)

    def in_store(self, name: str, held: dict[str, set[bytes]]) -> set[bytes]:
        """What a store must have; ``held``: what shelves hold by now, which may be more than was gathered."""
        elsewhere: set[bytes] = set().union(*(ids for other, ids in self.gathered.items() if other != name))
        everything = self.named.contents.union(*held.values())
        return (everything - elsewhere) | self.named.of(name).contents | held.get(name, set())


def find_needed(store: ContentStore, progress: Progress) -> Needed:
    """Read all records, and copy into each store what its shelves need and only another one has; the caller holds
    ``Place.alone``. Raises ``BrokenError`` where it is not known what hangs on a damaged part."""
    named = Reached(store)
    named.of(ANYWHERE).follow(bytes.fromhex(get_trees().empty))
    follow_records(get_config().database, named, progress)
    held = held_contents(get_config().database)
    stores = store.segments.stores() | named.stores | held.keys()
    needed = Needed(named)
    if len(stores) > 1:
        wanted = {name: named.of(name).contents | held.get(name, set()) for name in stores}
        wanted[MAIN] |= named.of(ANYWHERE).contents.difference(*wanted.values())  # it has to be somewhere
        for name, contents in sorted(wanted.items()):
            done = gather(store, name, contents, lambda part, total: progress(part, total, "contents"))
            needed.gathered[name] = contents - done.left
    return needed


def find_unneeded(store: ContentStore, needed: Needed) -> dict[str, Unreached]:
    """By store, the pieces in it that nothing needs there, as of now."""
    held = held_contents(get_config().database)
    return {name: find_unreached(store, needed.in_store(name, held), name) for name in store.segments.stores()}
