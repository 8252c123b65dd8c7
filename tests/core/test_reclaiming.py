"""Bytes that nothing reaches are removed in two steps, and damage is healed from a copy."""

from __future__ import annotations

import itertools
import random
import shutil
import tempfile
import unittest
from pathlib import Path

from everyshelf.core.content.compacting import compact, find_unreached
from everyshelf.core.content.healing import heal
from everyshelf.core.content.in_use import Users, others_ended, publish, read_condemned
from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.place import FolderPlace
from everyshelf.core.content.shrinking import Shrinker
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import BrokenError, MissingError


class ReclaimCase(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name) / "segments"
        self.store = self.open()
        self.place = self.store.segments.place

    def open(self) -> ContentStore:
        store = ContentStore(self.folder)
        self.addCleanup(store.close)
        return store

    def put(self, data: bytes) -> bytes:
        identity = bytes.fromhex(self.store.put(data).id)
        self.store.segments.close()
        return identity

    def condemn(self, *kept: bytes) -> None:
        found = find_unreached(self.store, set(kept))
        publish(self.place, found.segments, found.ids)

    def remove(self, *kept: bytes) -> int:
        condemned = read_condemned(self.place)
        self.assertTrue(others_ended(self.place, condemned))
        drop = set(find_unreached(self.store, set(kept)).ids).intersection(condemned.ids())
        compact(self.store.segments, drop=drop, within=condemned.segments)
        publish(self.place, [], [])
        return len(drop)


class RemovingTests(ReclaimCase):
    def test_only_what_nothing_reaches(self) -> None:
        kept, gone = random.Random(1).randbytes(400_000), random.Random(2).randbytes(400_000)
        first, second = self.put(kept), self.put(gone)
        self.condemn(first)
        self.assertEqual(self.store.read(second.hex()), gone)
        self.assertGreater(self.remove(first), 3)
        self.assertEqual(self.store.read(first.hex()), kept)
        for store in (self.store, self.open()):
            with self.assertRaises(MissingError):
                store.read(second.hex())

    def test_the_base_of_what_is_kept_stays(self) -> None:
        lines = [b"%d,%.6f\n" % (n, random.Random(n).random()) for n in range(3000)]
        older = self.put(b"".join(lines))
        lines[40] = b"40,1.0\n"
        newer = self.put(b"".join(lines))
        into = NewSegments(self.place)
        self.assertEqual(Shrinker(self.store, into).shrink(newer.hex(), older.hex()), 1)
        into.finish()
        compact(self.store.segments)
        self.condemn(newer)
        self.remove(newer)
        self.assertEqual(self.open().read(newer.hex()), b"".join(lines))

    def test_what_was_stored_again_meanwhile_stays(self) -> None:
        data = random.Random(3).randbytes(500_000)
        identity = self.put(data)
        self.condemn()
        writer = self.open()
        with writer.segments.users.one():
            writer.put(data)  # it is there, and not relied on
            writer.sync()
        self.assertEqual(len(list(self.folder.glob("*.seg"))), 2)
        self.remove()
        self.assertEqual(self.open().read(identity.hex()), data)

    def test_a_writer_that_knew_the_removed_stores_it_again(self) -> None:
        data = random.Random(4).randbytes(300_000)
        identity = self.put(data)
        writer = self.open()
        with writer.segments.users.one():
            self.assertTrue(writer.has(identity.hex()))
        self.condemn()
        self.remove()
        with writer.segments.users.one():  # its directories are of before
            writer.put(data)
            writer.sync()
        self.assertEqual(self.open().read(identity.hex()), data)

    def test_who_began_before_is_waited_for(self) -> None:
        self.put(b"tide" * 1000)
        users, others = Users(self.place, lambda: None), Users(FolderPlace(self.folder), lambda: None)
        with users.one():
            with others.one():
                self.condemn()
                self.assertFalse(others_ended(self.place, read_condemned(self.place)))
            self.assertFalse(others_ended(self.place, read_condemned(self.place)))
            with others.one():  # this one knows
                pass
        self.assertTrue(others_ended(self.place, read_condemned(self.place)))
        with others.one():
            self.assertTrue(others_ended(self.place, read_condemned(self.place)))
        self.assertLess(len(list(self.folder.glob(".round-*"))), 3)

    def test_a_damaged_list_condemns_everything(self) -> None:
        data = b"berth" * 900
        identity = self.put(data)
        self.condemn(identity)
        note = self.folder / ".condemned"
        raw = bytearray(note.read_bytes())
        raw[len(raw) // 2] ^= 4
        note.write_bytes(raw)
        writer = self.open()
        with writer.segments.users.one():
            self.assertFalse(writer.segments.holds(identity))
            writer.put(data)
            writer.sync()
        publish(self.place, [], [])
        with writer.segments.users.one():
            self.assertTrue(writer.segments.holds(identity))

    def test_what_cannot_be_read_stops_it(self) -> None:
        identity = self.put(random.Random(5).randbytes(700_000))
        segment = next(self.folder.glob("*.seg"))
        raw = bytearray(segment.read_bytes())
        raw[-20] ^= 1  # in the recipe: what it is made of is not known any more
        segment.write_bytes(raw)
        with self.assertRaises(BrokenError):
            find_unreached(self.store, {identity})


class HealingTests(ReclaimCase):
    def test_from_a_copy(self) -> None:
        chance = random.Random(6)
        contents = [chance.randbytes(size) for size in (200, 5000, 60_000, 500_000, 2_000_000)] + [b"fares\n" * 5000]
        ids = [self.put(data).hex() for data in contents]
        mirror = self.folder.parent / "mirror"
        shutil.copytree(self.folder, mirror)
        for segment in self.folder.glob("*.seg"):
            raw = bytearray(segment.read_bytes())
            for _ in range(1 + len(raw) // 100_000):
                raw[chance.randrange(len(raw))] ^= 1 << chance.randrange(8)
            segment.write_bytes(raw)
        harmed = self.open()
        broken = [identity for identity in ids if harmed.verify(identity) is not None]
        self.assertGreater(len(broken), 3)
        done = heal(harmed, FolderPlace(mirror))
        self.assertGreaterEqual(done.brought_back, len(broken))
        self.assertEqual(done.damaged_there, 0)
        for store in (harmed, self.open()):
            self.assertEqual([store.verify(identity) for identity in ids], [None] * len(ids))
        self.assertEqual(heal(harmed, FolderPlace(mirror)).brought_back, 0)
        self.assertGreater(done.rewritten, 0)
        self.assertEqual(self.open().segments.inspect(), [])

    def test_a_segment_stays_while_something_in_it_is_not_back(self) -> None:
        ids = [self.store.put(random.Random(n).randbytes(90_000)).id for n in range(4)]
        self.store.close()
        mirror = self.folder.parent / "mirror"
        shutil.copytree(self.folder, mirror)
        for folder, offsets in ((self.folder, (500, 100_000)), (mirror, (100_000,))):
            (segment,) = folder.glob("*.seg")
            raw = bytearray(segment.read_bytes())
            for offset in offsets:
                raw[offset] ^= 1
            segment.write_bytes(raw)
        harmed = self.open()
        done = heal(harmed, FolderPlace(mirror))
        self.assertEqual((done.brought_back, done.rewritten), (1, 0))
        self.assertEqual([self.open().verify(identity) is None for identity in ids], [True, False, True, True])
        self.assertEqual(len(self.open().segments.inspect()), 2)

    def test_a_segment_stays_while_it_is_not_known_what_was_in_it(self) -> None:
        ids = [self.store.put(random.Random(n).randbytes(90_000)).id for n in range(3)]
        self.store.close()
        mirror = self.folder.parent / "mirror"
        shutil.copytree(self.folder, mirror)
        (segment,) = self.folder.glob("*.seg")
        raw = bytearray(segment.read_bytes())
        raw[500] ^= 1
        segment.write_bytes(raw)
        next(self.folder.glob("*.dir")).unlink()  # the directory is written again, by what can be read
        done = heal(self.open(), FolderPlace(mirror))
        self.assertEqual((done.brought_back, done.rewritten), (1, 0))
        self.assertEqual([self.open().verify(identity) for identity in ids], [None] * 3)
        self.assertEqual(len(self.open().segments.inspect()), 1)

    def test_deltas_and_their_bases(self) -> None:
        lines = [b"%d,%.6f\n" % (n, random.Random(n).random()) for n in range(3000)]
        ids = [self.put(b"".join(lines)).hex()]
        for n in range(3):
            lines[n * 70] = b"%d,0.5\n" % n
            ids.append(self.put(b"".join(lines)).hex())
        into = NewSegments(self.place)
        shrinker = Shrinker(self.store, into)
        for older, newer in itertools.pairwise(ids):
            shrinker.shrink(newer, older)
        into.finish()
        compact(self.store.segments)
        mirror = self.folder.parent / "mirror"
        shutil.copytree(self.folder, mirror)
        for path in [*self.folder.glob("*.seg"), *self.folder.glob("*.dir")]:
            path.unlink()
        empty = self.open()
        self.assertEqual(heal(empty, FolderPlace(mirror)).damaged_there, 0)
        self.assertEqual([empty.verify(identity) for identity in ids], [None] * 4)

    def test_what_came_back_stays_when_it_is_cut_short(self) -> None:
        contents = [random.Random(n).randbytes(90_000) for n in range(6)]
        ids = [self.put(data).hex() for data in contents]
        mirror = self.folder.parent / "mirror"
        shutil.copytree(self.folder, mirror)
        for path in [*self.folder.glob("*.seg"), *self.folder.glob("*.dir")]:
            path.unlink()
        empty, seen = self.open(), 0

        def cancel(done: int, total: int) -> None:
            nonlocal seen
            seen += 1
            if seen == 4:
                raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt):
            heal(empty, FolderPlace(mirror), cancel)
        other = self.open()  # what others found there they rely on
        self.assertEqual(sum(other.has(identity) for identity in ids), 3)
        self.assertEqual([other.verify(i) for i in ids if other.has(i)], [None] * 3)
        self.assertEqual(heal(other, FolderPlace(mirror)).brought_back, 3)

    def test_what_is_damaged_there_too_is_counted(self) -> None:
        data = random.Random(7).randbytes(90_000)
        identity = self.put(data).hex()
        mirror = self.folder.parent / "mirror"
        shutil.copytree(self.folder, mirror)
        for folder in (self.folder, mirror):
            segment = next(folder.glob("*.seg"))
            raw = bytearray(segment.read_bytes())
            raw[500] ^= 1
            segment.write_bytes(raw)
        harmed = self.open()
        self.assertEqual(heal(harmed, FolderPlace(mirror)).brought_back, 0)
        self.assertIsNotNone(harmed.verify(identity))
