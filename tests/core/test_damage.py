"""Damage on the disk harms what lies there and nothing else, and is named."""

from __future__ import annotations

import random
import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.content.ids import content_id
from everyshelf.core.content.records import HEAD_BYTES, RAW, WHOLE, Record, encode
from everyshelf.core.content.scanning import iter_records
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import StorageError
from tests.support.faulty_place import FaultyPlace
from tests.support.laws import law

CONTENTS = [f"sailing {n} ".encode() * (20 + n) for n in range(40)] + [
    random.Random(n).randbytes(900) for n in range(40)
]


class DamageCase(unittest.TestCase):
    """A store with eighty contents in one segment."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        store = ContentStore(self.folder)
        self.ids = [store.put(data).id for data in CONTENTS]
        store.close()
        self.segment = next(self.folder.glob("*.seg"))
        self.good = self.segment.read_bytes()
        self.offsets = [offset for offset, _ in iter_records(store.segments.place, self.segment.name)]

    def reopened(self, data: bytes, *, directory: bool = False) -> ContentStore:
        """The store, opened on a segment with these bytes; without its directory it was left open by a crash."""
        self.segment.write_bytes(data)
        if not directory:
            self.segment.with_suffix(".dir").unlink(missing_ok=True)
        store = ContentStore(self.folder)
        self.addCleanup(store.close)
        return store

    def lost(self, store: ContentStore) -> list[str]:
        return [i for i in self.ids if not store.has(i) or store.verify(i) is not None]


class OpenSegmentTests(DamageCase):
    """A.1: damage in a segment that a crash left open."""

    def test_one_flipped_bit_costs_one_content(self) -> None:
        for seed in range(60):
            chance = random.Random(seed)
            data = bytearray(self.good)
            where = chance.randrange(len(data))
            data[where] ^= 1 << chance.randrange(8)
            store = self.reopened(bytes(data))
            hit = max(k for k, offset in enumerate(self.offsets) if offset <= where)
            self.assertEqual(self.lost(store), [self.ids[hit]], f"seed {seed}")
            ends = [*self.offsets[1:], len(data)]
            self.assertEqual([(d.start, d.stop) for d in store.segments.damage()], [(self.offsets[hit], ends[hit])])
            self.assertEqual(self.segment.read_bytes(), bytes(data), "the bytes stay as they are")
            store.close()

    def test_damage_is_remembered_by_the_directory(self) -> None:
        data = bytearray(self.good)
        data[self.offsets[5] + HEAD_BYTES] ^= 1
        self.reopened(bytes(data)).close()
        again = ContentStore(self.folder)
        self.addCleanup(again.close)
        self.assertEqual([d.start for d in again.segments.damage()], [self.offsets[5]])

    def test_a_segment_that_is_not_understood_is_kept(self) -> None:
        foreign = b"ESr1" + random.Random(1).randbytes(5000)
        store = self.reopened(foreign)
        self.assertEqual(self.segment.read_bytes(), foreign)
        self.assertEqual([(d.start, d.stop) for d in store.segments.damage()], [(0, len(foreign))])

    def test_overwritten_beginning_leaves_the_rest(self) -> None:
        end = self.offsets[10]
        store = self.reopened(bytes(end - 3) + self.good[end - 3 :])
        self.assertEqual(self.lost(store), self.ids[:10])

    def test_noughts_at_the_end_are_no_damage(self) -> None:
        store = self.reopened(self.good + bytes(100_000))
        self.assertEqual(self.lost(store), [])
        self.assertEqual(store.segments.damage(), [])
        self.assertEqual(self.segment.stat().st_size, len(self.good))

    def test_a_record_inside_a_content_is_never_taken_for_one(self) -> None:
        """Somebody versions bytes that look like a record; then the record around them is damaged."""
        forged = Record(bytes.fromhex(self.ids[3]), WHOLE, RAW, 5, b"wrong")
        versioned = random.Random(2).randbytes(300) + encode(forged, "another.seg") + random.Random(3).randbytes(300)
        outer = encode(
            Record(bytes.fromhex(content_id(versioned)), WHOLE, RAW, len(versioned), versioned), self.segment.name
        )
        data = bytearray(outer + self.good)
        data[2] ^= 0xFF
        store = self.reopened(bytes(data))
        self.assertEqual(self.lost(store), [])
        self.assertEqual(store.read(self.ids[3]), CONTENTS[3])

    @law(60)
    @given(st.data())
    def test_any_damage_harms_only_what_it_touches(self, drawn: st.DataObject) -> None:
        start = drawn.draw(st.integers(0, len(self.good) - 1))
        junk = drawn.draw(st.binary(min_size=1, max_size=2000))
        data = bytearray(self.good)
        stop = min(len(data), start + len(junk))
        data[start:stop] = junk[: stop - start]
        store = self.reopened(bytes(data))
        ends = [*self.offsets[1:], len(data)]
        touched = {
            identity for identity, a, b in zip(self.ids, self.offsets, ends, strict=True) if data[a:b] != self.good[a:b]
        }
        self.assertEqual(set(self.lost(store)), touched)
        store.close()


class SealedSegmentTests(DamageCase):
    """Damage behind a good directory is found by reading everything again."""

    def test_inspection_names_the_range(self) -> None:
        data = bytearray(self.good)
        data[self.offsets[7] + HEAD_BYTES + 2] ^= 4
        store = self.reopened(bytes(data), directory=True)
        self.assertEqual(store.segments.damage(), [])
        self.assertEqual([d.start for d in store.segments.inspect()], [self.offsets[7]])
        self.assertEqual(self.lost(store), [self.ids[7]])


class FaultyDiskTests(unittest.TestCase):
    """What the disk refuses is never taken for kept."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.place = FaultyPlace(Path(folder.name))

    def test_what_was_synced_survives_a_power_failure(self) -> None:
        store = ContentStore(self.place)
        kept = [store.put(b"kept %d" % n).id for n in range(20)]
        store.sync()
        store.put(b"never promised")
        self.place.lose_power()
        again = ContentStore(Path(self.place.folder, "."))
        self.assertEqual([again.verify(i) for i in kept], [None] * 20)

    def test_a_failed_sync_is_no_promise_for_the_next_one(self) -> None:
        """The same bytes are written again after a failed fsync, not found in memory and called kept."""
        store = ContentStore(self.place)
        first = store.put(b"before")
        store.sync()
        (segment,) = self.place.folder.glob("*.seg")
        durable = segment.stat().st_size
        self.place.syncs = 0
        lost = store.put(b"not durable")
        with self.assertRaises(StorageError):
            store.sync()
        self.assertFalse(store.has(lost.id))
        self.assertEqual(segment.stat().st_size, durable, "what may or may not be on the disk is taken off")
        self.place.syncs = None
        again = store.put(b"not durable")
        store.sync()
        self.place.lose_power()
        opened = ContentStore(Path(self.place.folder, "."))
        self.assertEqual([opened.verify(i) for i in (first.id, again.id)], [None, None])

    def test_a_directory_that_finds_no_room_is_made_at_the_next_opening(self) -> None:
        store = ContentStore(self.place)
        identity = store.put(b"kept").id
        self.place.writes = 0
        store.close()
        self.assertEqual(list(self.place.folder.glob("*.dir")), [])
        again = ContentStore(Path(self.place.folder, "."))
        self.assertEqual(again.read(identity), b"kept")
        self.assertEqual(len(list(self.place.folder.glob("*.dir"))), 1)
