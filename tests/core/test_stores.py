"""Several stores in one place: each has all that its shelves need, and what is read is found in any of them."""

from __future__ import annotations

import itertools
import random
import shutil
import tempfile
import threading
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.content.compacting import compact, find_unreached
from everyshelf.core.content.content_file import ContentFile
from everyshelf.core.content.gathering import gather
from everyshelf.core.content.healing import heal
from everyshelf.core.content.in_use import publish
from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.place import FolderPlace
from everyshelf.core.content.shrinking import Shrinker
from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.stores import checked_name, in_store, new_segment_name, store_of, told_name
from everyshelf.core.errors import BrokenError, InvalidError, MissingError, OutOfReachError, StorageError
from tests.core.test_unpacking import workbook
from tests.support.laws import law

STORES = ("", "archive", "big-disk")


def rows(seed: int, edits: dict[int, bytes] | None = None) -> bytes:
    """A table of 3,000 rows that looks like others of its seed but for the edits."""
    rng = random.Random(seed)
    lines = [b"%d,%.6f,%d\n" % (n, rng.random(), rng.randrange(1000)) for n in range(3000)]
    for line, text in (edits or {}).items():
        lines[line] = text
    return b"".join(lines)


class NameTests(unittest.TestCase):
    def test_a_segment_says_of_which_store_it_is(self) -> None:
        for store in STORES:
            self.assertEqual(store_of(new_segment_name(store)), store)
        self.assertEqual(store_of("0123456789abcdef.seg"), "")  # as they were before there were stores

    def test_names(self) -> None:
        self.assertEqual((checked_name("main"), checked_name("big-disk")), ("", "big-disk"))
        self.assertEqual((told_name(""), told_name("big-disk")), ("main", "big-disk"))
        for name in ("Big", "big disk", "a~b", "a/b", "-a", "a-", "a\n", "x" * 33):
            with self.subTest(name), self.assertRaises(InvalidError):
                checked_name(name)


class StoresCase(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name) / "segments"
        self.store = self.open(self.folder)
        self.place = self.store.segments.place

    def open(self, folder: Path) -> ContentStore:
        store = ContentStore(folder)
        self.addCleanup(store.close)
        return store

    def put(self, data: bytes, store: str = "") -> str:
        with in_store(store):
            return self.store.put(data).id

    def alone(self, name: str) -> ContentStore:
        """A store as another machine would find it to which only these segments were brought."""
        self.store.segments.close()
        folder = Path(tempfile.mkdtemp(prefix="es-alone-"))
        self.addCleanup(shutil.rmtree, folder)
        for path in self.folder.glob("*.seg"):
            if store_of(path.name) == name:
                shutil.copy(path, folder)
        return self.open(folder)

    def gather(self, name: str, *identities: str) -> int:
        self.store.segments.close()
        with self.place.alone():
            done = gather(self.store, name, {bytes.fromhex(one) for one in identities})
        self.assertEqual(done.left, set())
        return done.pieces


class WritingTests(StoresCase):
    def test_each_store_has_its_own_copy(self) -> None:
        small, large = b"the same in both", random.Random(1).randbytes(700_000)
        for name, data in itertools.product(STORES, (small, large, small)):
            self.put(data, name)
        self.store.sync()
        for name in STORES:
            alone = self.alone(name)
            for data in (small, large):
                self.assertEqual(alone.read(self.put(data, name)), data)
        self.assertEqual(self.store.segments.stores(), set(STORES))
        size = sum(path.stat().st_size for path in self.folder.glob("*.seg"))
        self.assertLess(size, 3.1 * len(large))  # and not one for each time it was sent

    def test_what_arrives_in_pieces_goes_where_it_began(self) -> None:
        data = random.Random(2).randbytes(5_000_000)
        with in_store("archive"):
            writer = self.store.writer()
        with in_store("big-disk"):
            for start in range(0, len(data), 300_000):
                writer.write(data[start : start + 300_000])
            identity = writer.finish().id
        self.assertEqual(self.alone("archive").read(identity), data)
        with self.assertRaises(MissingError):
            self.alone("big-disk").read(identity)

    def test_a_thread_works_in_its_own_store(self) -> None:
        def put(name: str) -> None:
            for number in range(50):
                self.put(b"%d" % number, name)

        threads = [threading.Thread(target=put, args=[name]) for name in STORES]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        for name in STORES:
            alone = self.alone(name)
            self.assertEqual(sorted(record.raw_bytes for *_, record in alone.segments.iter_all()), [1] * 10 + [2] * 40)

    def test_a_store_that_is_away_harms_only_what_lies_there_alone(self) -> None:
        both, there = random.Random(3).randbytes(900_000), random.Random(4).randbytes(900_000)
        identity, other = self.put(both), self.put(there, "archive")
        self.put(both, "archive")
        self.store.close()
        read = type(self.place).read

        class Away(type(self.place)):  # type: ignore[misc]
            def read(self, name: str, offset: int, length: int) -> bytes:
                if store_of(name) == "archive" and name.endswith(".seg"):
                    raise OutOfReachError("it is away", code="storage.out_of_reach", hint="Wait.")
                return read(self, name, offset, length)

        store = ContentStore(Away(self.folder))
        self.addCleanup(store.close)
        self.assertEqual(store.read(identity), both)
        with ContentFile(store, identity) as file:
            file.seek(600_000)
            self.assertEqual(file.read(-1), both[600_000:])
        with self.assertRaises(OutOfReachError):
            store.read(other)
        with in_store("archive"), self.assertRaises(OutOfReachError):  # read there first
            store.read(identity)

    def test_a_failed_sync_of_one_store_forgets_only_what_was_new_there(self) -> None:
        kept = self.put(b"kept", "archive")
        self.store.sync()
        lost, other = self.put(b"lost", "archive"), self.put(b"other")
        own = self.store.segments._own["archive"]
        appender = own.appender

        def fail() -> None:
            raise StorageError("the disk is full")

        appender.sync = fail  # type: ignore[method-assign]
        with self.assertRaises(StorageError):
            self.store.sync()
        self.store.sync()
        self.assertEqual((self.store.read(kept), self.store.read(other)), (b"kept", b"other"))
        self.assertFalse(self.store.has(lost))


class GatheringTests(StoresCase):
    @law(60)
    @given(st.data())
    def test_a_store_has_all_that_was_gathered_in_it(self, drawn: st.DataObject) -> None:
        """Whatever was written where, shrunk and compacted: afterwards the other stores are not needed."""
        self.setUp()
        contents: dict[str, tuple[bytes, set[str]]] = {}
        for seed in range(drawn.draw(st.integers(1, 3))):
            edits: dict[int, bytes] = {}
            versions = []
            for number in range(drawn.draw(st.integers(1, 3))):
                edits[drawn.draw(st.integers(0, 2999))] = b"edited %d\n" % number
                data = rows(seed, edits)
                stores = drawn.draw(st.sets(st.sampled_from(STORES), min_size=1))
                identities = {self.put(data, name) for name in stores}
                versions.append(identities.pop())
                contents[versions[-1]] = (data, stores)
            self.store.segments.close()
            for name, (older, newer) in itertools.product(STORES, itertools.pairwise(versions)):
                into = NewSegments(self.place, name)
                with in_store(name):
                    Shrinker(self.store, into).shrink(newer, older)
                into.finish()
                self.store.segments.refresh()
        for name in drawn.draw(st.sets(st.sampled_from(STORES))):
            compact(self.store.segments, of=name)
        for name in STORES:
            wanted = drawn.draw(st.sets(st.sampled_from(sorted(contents))))
            self.gather(name, *wanted)
            alone = self.alone(name)
            for identity in wanted | {one for one, (_, stores) in contents.items() if name in stores}:
                self.assertEqual(alone.read(identity), contents[identity][0])
                self.assertIsNone(alone.verify(identity))
            self.assertEqual(self.gather(name, *wanted), 0)

    def test_what_is_kept_unpacked_comes_with_its_parts(self) -> None:
        edits: dict[int, object] = {}
        versions = [workbook()]
        for number in range(3):
            edits[1000 * number] = number
            versions.append(workbook(edits))
        ids = [self.put(data) for data in versions]
        self.store.segments.close()
        into = NewSegments(self.place)
        shrinker = Shrinker(self.store, into)
        self.assertGreater(sum(shrinker.shrink(new, old) for old, new in itertools.pairwise(ids)), 0)
        into.finish()
        self.store.segments.refresh()
        compact(self.store.segments, reads_back=self.store.reads_back_unpacked)
        self.gather("archive", *ids[1:])
        alone = self.alone("archive")
        for identity, data in zip(ids[1:], versions[1:], strict=True):
            self.assertEqual(alone.read(identity), data)
        with self.assertRaises(MissingError):
            alone.read(ids[0])

    def test_a_shelf_that_moved_is_freed_where_it_lay(self) -> None:
        moved, stays = rows(1), rows(2)
        first, second = bytes.fromhex(self.put(moved)), bytes.fromhex(self.put(stays))
        self.gather("archive", first.hex())
        left = find_unreached(self.store, {second})
        publish(self.place, left.segments, left.ids)
        compact(self.store.segments, drop=set(left.ids), within=frozenset(left.segments))
        publish(self.place, [], [])
        with self.assertRaises(MissingError):
            self.alone("").read(first.hex())
        self.assertEqual(self.open(self.folder).read(first.hex()), moved)
        self.assertEqual(self.alone("").read(second.hex()), stays)
        self.assertEqual(find_unreached(self.store, {first}, "archive").ids, [])

    def test_what_is_damaged_is_left_and_told(self) -> None:
        good, bad = self.put(b"good" * 100), self.put(random.Random(5).randbytes(300_000))
        self.store.segments.close()
        segment = next(self.folder.glob("*.seg"))
        data = bytearray(segment.read_bytes())
        data[200_000] ^= 1
        segment.write_bytes(data)
        store = self.open(self.folder)
        with store.segments.place.alone():
            done = gather(store, "archive", {bytes.fromhex(good), bytes.fromhex(bad)})
        self.assertEqual(done.left, {bytes.fromhex(bad)})
        self.assertEqual(self.alone("archive").read(good), b"good" * 100)
        with self.assertRaises((BrokenError, MissingError)):
            self.alone("archive").read(bad)

    def test_what_is_healed_goes_where_it_lay(self) -> None:
        data = random.Random(6).randbytes(300_000)
        identity = self.put(data, "archive")
        self.store.segments.close()
        mirror = self.folder.with_name("mirror")
        shutil.copytree(self.folder, mirror)
        segment = next(self.folder.glob("archive~*.seg"))
        raw = bytearray(segment.read_bytes())
        raw[150_000] ^= 1
        segment.write_bytes(raw)
        store = self.open(self.folder)
        self.assertIsNotNone(store.verify(identity))
        self.assertEqual(heal(store, FolderPlace(mirror)).rewritten, 1)
        self.assertEqual({store_of(path.name) for path in self.folder.glob("*.seg")}, {"archive"})
        self.assertEqual(self.open(self.folder).read(identity), data)

    def test_a_run_that_is_cancelled_keeps_what_it_copied(self) -> None:
        ids = [self.put(b"%d" % number * 3000) for number in range(500)]
        self.store.segments.close()

        class CancelledError(Exception):
            pass

        def progress(done: int, total: int) -> None:
            if done >= 128:
                raise CancelledError

        with self.place.alone(), self.assertRaises(CancelledError):
            gather(self.store, "archive", [bytes.fromhex(one) for one in ids], progress)
        self.assertEqual(self.gather("archive", *ids), 500 - 128)


if __name__ == "__main__":
    unittest.main()
