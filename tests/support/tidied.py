"""Versions of one content in a store that is tidied."""

from __future__ import annotations

import itertools
import tempfile
import unittest
from pathlib import Path

from everyshelf.core.content.compacting import compact, find_unreached
from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.place import FolderPlace
from everyshelf.core.content.shrinking import Shrinker
from everyshelf.core.content.store import ContentStore


class TidiedCase(unittest.TestCase):
    """A store of its own, and what tidying does to the versions that are put into it."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.place = FolderPlace(Path(folder.name) / "here")
        self.store = ContentStore(self.place)
        self.addCleanup(lambda: self.store.close())
        self.contents: list[bytes] = []
        self.ids: list[str] = []

    def keep(self, contents: list[bytes]) -> None:
        """Put these versions, the oldest first, and forget others."""
        self.contents = contents
        self.ids = [self.store.put(data).id for data in contents]
        self.store.segments.close()

    def shrink(self) -> int:
        """Make deltas of each version against the one before; gives how many."""
        into = NewSegments(self.place)
        shrinker = Shrinker(self.store, into)
        made = sum(shrinker.shrink(new, old) for old, new in itertools.pairwise(self.ids))
        into.finish()
        self.store.segments.refresh()
        return made

    def tidy(self) -> None:
        """As the service does it."""
        self.assertGreater(self.shrink(), 5)
        compact(self.store.segments, reads_back=self.store.reads_back_unpacked)
        left = find_unreached(self.store, {bytes.fromhex(one) for one in self.ids})
        compact(self.store.segments, drop=set(left.ids), within=frozenset(left.segments))

    def stored(self) -> int:
        """Bytes that all of it takes."""
        return sum(map(self.place.size, self.place.names()))

    def kinds(self) -> list[int]:
        """The kinds of records that the versions are."""
        ids = {bytes.fromhex(one) for one in self.ids}
        return [record.kind for _, _, record in self.store.segments.iter_all() if record.id in ids]

    def all_read_back(self) -> None:
        """Fail unless every version is read as it was put."""
        for identity, data in zip(self.ids, self.contents, strict=True):
            self.assertEqual(self.store.read(identity), data)
            self.assertEqual(self.store.size(identity), len(data))
            self.assertIsNone(self.store.verify(identity))
