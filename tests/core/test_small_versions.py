"""Versions are kept as what they change, and segments rewritten: what is read stays the same through all of it."""

from __future__ import annotations

import itertools
import os
import random
import subprocess
import sys
import tempfile
import textwrap
import threading
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.content.compacting import Compacted, compact, holding
from everyshelf.core.content.deltas import Likeness, marks_of
from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.place import FolderPlace
from everyshelf.core.content.records import DELTA
from everyshelf.core.content.shrinking import Shrinker
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import BrokenError, ConflictError
from tests.support.laws import law


def table(chance: random.Random, rows: int = 6000) -> list[bytes]:
    """Lines of a table of fares that no compression makes small."""
    return [b"Z%02d,%d,%.6f,%d\n" % (n % 40, n, chance.random(), chance.randrange(10**9)) for n in range(rows)]


def edited(chance: random.Random, lines: list[bytes], edits: int = 8) -> list[bytes]:
    """The lines with some changed anywhere, a block inserted and one removed."""
    after = list(lines)
    for _ in range(edits):
        after[chance.randrange(len(after))] = b"Z99,%d,1.000000,0\n" % chance.randrange(10**6)
    at = chance.randrange(len(after))
    after[at:at] = [b"Z50,%d,0.5,1\n" % chance.randrange(10**6) for _ in range(5)]
    at = chance.randrange(len(after) - 5)
    del after[at : at + 4]
    return after


class ShrinkCase(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.store = self.open()

    def open(self) -> ContentStore:
        store = ContentStore(self.folder)
        self.addCleanup(store.close)
        return store

    def versions(self, count: int, seed: int = 1) -> list[bytes]:
        chance = random.Random(seed)
        lines, made = table(chance), []
        for _ in range(count):
            made.append(b"".join(lines))
            lines = edited(chance, lines)
        return made

    def put(self, contents: list[bytes]) -> list[str]:
        ids = [self.store.put(data).id for data in contents]
        self.store.sync()
        self.store.segments.close()
        return ids

    def shrink(self, ids: list[str]) -> int:
        into = NewSegments(self.store.segments.place)
        shrinker = Shrinker(self.store, into)
        made = sum(shrinker.shrink(newer, older) for older, newer in itertools.pairwise(ids))
        into.finish()
        return made

    def compact(self) -> Compacted:
        with self.store.segments.place.alone():
            return compact(self.store.segments)

    def stored(self) -> int:
        return sum(path.stat().st_size for path in self.folder.glob("*.seg"))

    def assert_all(self, store: ContentStore, ids: list[str], contents: list[bytes]) -> None:
        for identity, data in zip(ids, contents, strict=True):
            self.assertEqual(store.read(identity), data)
            self.assertIsNone(store.verify(identity))


class VersionsTests(ShrinkCase):
    def test_ten_versions_take_little_more_than_one(self) -> None:
        contents = self.versions(11)
        ids = self.put(contents)
        full, one = self.stored(), self.stored() // 11
        self.assertGreater(self.shrink(ids), 20)
        done = self.compact()
        self.assertEqual((done.before - done.after > full // 2, done.after), (True, self.stored()))
        self.assertLess(self.stored(), 1.5 * one)
        self.assert_all(self.store, ids, contents)
        again = self.open()
        self.assert_all(again, ids, contents)
        self.assertEqual(b"".join(again.iter_range(ids[7], 70_000, 210_000)), contents[7][70_000:210_000])
        self.assertEqual(again.size(ids[9]), len(contents[9]))

    def test_no_delta_needs_another(self) -> None:
        contents = self.versions(6)
        ids = self.put(contents)
        for newer, older in ((1, 0), (3, 2), (2, 1), (5, 4), (4, 3), (0, 5)):  # in whatever order jobs come
            self.shrink([ids[older], ids[newer]])
            self.compact()
        self.assert_all(self.open(), ids, contents)
        records = {record.id: record for _, _, record in self.store.segments.iter_all()}
        deltas = [record for record in records.values() if record.codec == DELTA]
        self.assertGreater(len(deltas), 5)
        self.assertEqual([d for d in deltas if records[d.payload[:32]].codec == DELTA], [])

    def test_small_contents_too(self) -> None:
        contents = [data[:60_000] for data in self.versions(5)]
        ids = self.put(contents)
        self.assertEqual(self.shrink(ids), 4)
        self.compact()
        self.assert_all(self.open(), ids, contents)
        self.assertEqual(self.open().size(ids[4]), 60_000)

    def test_what_is_alike_in_nothing_stays_whole(self) -> None:
        chance = random.Random(9)
        contents = [chance.randbytes(400_000) for _ in range(3)]
        ids = self.put(contents)
        self.assertEqual(self.shrink(ids), 0)
        self.assertEqual(self.compact().segments, 0)
        self.assert_all(self.store, ids, contents)

    def test_after_many_versions_one_is_whole_again(self) -> None:
        chance, contents = random.Random(3), []
        lines = table(chance, 2000)
        for _ in range(30):
            contents.append(b"".join(lines))
            lines = edited(chance, lines, 200)
        ids = self.put(contents)
        made = self.shrink(ids)
        self.assertGreater(made, 15)
        self.assertLess(made, 29)
        self.compact()
        self.assert_all(self.open(), ids, contents)

    @law(25)
    @given(st.lists(st.binary(min_size=0, max_size=3000), min_size=1, max_size=4), st.integers(0, 2**32))
    def test_whatever_the_edits_are(self, blocks: list[bytes], seed: int) -> None:
        chance = random.Random(seed)
        base = chance.randbytes(150_000)
        versions = [base]
        for block in blocks:
            at = chance.randrange(len(base))
            versions.append(versions[-1][:at] + block + versions[-1][at + chance.randrange(2000) :])
        with tempfile.TemporaryDirectory() as folder:
            store = ContentStore(Path(folder))
            ids = [store.put(data).id for data in versions]
            store.segments.close()
            into = NewSegments(store.segments.place)
            shrinker = Shrinker(store, into)
            for older, newer in itertools.pairwise(ids):
                shrinker.shrink(newer, older)
            into.finish()
            with store.segments.place.alone():
                compact(store.segments)
            self.assert_all(store, ids, versions)
            store.close()


class LikenessTests(unittest.TestCase):
    def test_an_inserted_block_changes_no_marks(self) -> None:
        chance = random.Random(2)
        pieces = {bytes([n]) * 32: b"".join(table(random.Random(n), 1500)) for n in range(20)}
        likeness = Likeness()
        for piece, data in pieces.items():
            likeness.add(piece, marks_of(data))
        for piece, data in pieces.items():
            at = chance.randrange(len(data))
            self.assertEqual(likeness.most_like(data[:at] + chance.randbytes(5000) + data[at:]), piece)
        self.assertIsNone(likeness.most_like(chance.randbytes(60_000)))

    def test_what_all_hold_says_nothing(self) -> None:
        licence = b"Permission is hereby granted, free of charge, to any person " * 200
        likeness = Likeness()
        for n in range(30):
            likeness.add(bytes([n]) * 32, marks_of(licence))
        self.assertIsNone(likeness.most_like(licence))

    def test_short_pieces_have_few_marks_or_none(self) -> None:
        self.assertEqual([len(marks_of(b"x" * n)) for n in (0, 31, 32, 40)], [0, 0, 1, 1])


class RewritingTests(ShrinkCase):
    def test_small_segments_become_one(self) -> None:
        contents = [random.Random(n).randbytes(3000) for n in range(20)]
        ids = [self.put([data])[0] for data in contents]
        self.assertEqual(len(list(self.folder.glob("*.seg"))), 20)
        self.assertEqual(self.compact().segments, 20)
        self.assertEqual(len(list(self.folder.glob("*.seg"))), 1)
        self.assert_all(self.store, ids, contents)
        self.assert_all(self.open(), ids, contents)

    def test_what_lies_twice_is_kept_once(self) -> None:
        contents = self.versions(3)
        ids = self.put(contents)
        one = self.stored()
        with tempfile.TemporaryDirectory() as elsewhere:
            other = ContentStore(Path(elsewhere))
            for data in contents:
                other.put(data)
            other.close()
            taken = next(Path(elsewhere).glob("*.seg"))
            records = [record for _, _, record in other.segments.iter_all()]
            into = NewSegments(self.store.segments.place)
            for record in records:
                into.append(record)
            into.finish()
            self.assertGreater(taken.stat().st_size, 0)
        self.assertGreater(self.stored(), 1.9 * one)
        self.compact()
        self.assertLess(self.stored(), 1.1 * one)
        self.assert_all(self.open(), ids, contents)

    def test_a_reader_goes_on_when_its_segment_is_moved(self) -> None:
        contents = self.versions(4)
        ids = self.put(contents)
        reader = self.open()  # knows the segments as they are
        parts = reader.iter_range(ids[0])
        first = next(parts)
        self.shrink(ids)
        self.assertEqual(self.compact().segments, 1)
        self.assertEqual(first + b"".join(parts), contents[0])
        self.assert_all(reader, ids, contents)
        fresh = ContentStore(FolderPlace(self.folder))
        self.addCleanup(fresh.close)
        self.assert_all(fresh, ids, contents)

    def test_readers_while_it_is_rewritten_over_and_over(self) -> None:
        contents = self.versions(5)
        ids = self.put(contents)
        readers, wrong, done = [self.open() for _ in range(3)], [], threading.Event()

        def read(store: ContentStore) -> None:
            chance = random.Random(4)
            while not done.is_set():
                k = chance.randrange(5)
                if store.read(ids[k]) != contents[k]:
                    wrong.append(k)

        threads = [threading.Thread(target=read, args=(store,)) for store in readers]
        for thread in threads:
            thread.start()
        try:
            for n in range(12):
                self.put([random.Random(100 + n).randbytes(2000) for _ in range(3)])
                self.shrink(ids)
                self.compact()
                for path in list(self.folder.glob("*.dir"))[:1]:
                    path.unlink()
        finally:
            done.set()
            for thread in threads:
                thread.join()
        self.assertEqual(wrong, [])

    def test_a_segment_with_damage_stays(self) -> None:
        contents = self.versions(3)
        ids = self.put(contents)
        segment = next(self.folder.glob("*.seg"))
        self.shrink(ids)
        data = bytearray(segment.read_bytes())
        data[len(data) // 2] ^= 1
        segment.write_bytes(data)
        segment.with_suffix(".dir").unlink()
        self.store = self.open()
        self.assertEqual(len(self.store.segments.damage()), 1)
        self.compact()
        self.assertEqual(bytes(data), segment.read_bytes())
        self.assertEqual(len(self.open().segments.damage()), 1)

    def test_damage_that_no_directory_knows_of_stops_it_there(self) -> None:
        contents = self.versions(3)
        ids = self.put(contents)
        segment = next(self.folder.glob("*.seg"))
        self.shrink(ids)
        data = bytearray(segment.read_bytes())
        data[200] ^= 1  # in a piece of the first version, which has no other form
        segment.write_bytes(data)
        self.store = self.open()
        self.compact()
        self.assertEqual(bytes(data), segment.read_bytes())
        for identity, content in list(zip(ids, contents, strict=True))[1:]:
            self.assertEqual(self.store.read(identity), content)

    def test_a_damaged_delta_does_not_take_the_place_of_its_piece(self) -> None:
        contents = self.versions(4)
        ids = self.put(contents)
        before = set(self.folder.glob("*.seg"))
        self.shrink(ids)
        deltas = next(path for path in self.folder.glob("*.seg") if path not in before)
        data = bytearray(deltas.read_bytes())
        for at in range(100, len(data), 4000):
            data[at] ^= 8
        deltas.write_bytes(data)
        self.store = self.open()
        self.compact()
        self.store = self.open()
        whole = [i for i in ids if self.store.verify(i) is None]
        self.compact()
        self.assertEqual([i for i in ids if self.open().verify(i) is None], whole)
        self.assertIn(ids[0], whole)

    def test_one_cut_short_changes_nothing(self) -> None:
        contents = self.versions(4)
        ids = self.put(contents)
        self.shrink(ids)
        before = sorted(path.name for path in self.folder.glob("[!.]*"))

        def cancel(done: int, total: int) -> None:
            if done > 50_000:
                raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt), self.store.segments.place.alone():
            compact(self.store.segments, cancel)
        self.assertEqual(sorted(path.name for path in self.folder.glob("[!.]*")), before)
        self.assert_all(self.open(), ids, contents)

    def test_only_one_at_a_time(self) -> None:
        with self.store.segments.place.alone():
            with self.assertRaises(ConflictError) as caught, FolderPlace(self.folder).alone():
                self.fail("two at once")
            self.assertEqual(caught.exception.code, "content.busy")
        with FolderPlace(self.folder).alone():
            pass

    def test_owners_begin_another_segment_when_asked(self) -> None:
        owner = self.open()
        identity = owner.put(b"fares" * 100).id
        owner.sync()
        owner.segments.seal_if_asked()
        self.assertEqual(len(list(self.folder.glob("*.dir"))), 0)
        self.store.segments.place.ask_to_seal()
        owner.segments.seal_if_asked()
        self.assertEqual(len(list(self.folder.glob("*.dir"))), 1)
        other = owner.put(b"tides" * 100).id
        owner.sync()
        owner.segments.seal_if_asked()
        self.assertEqual((len(list(self.folder.glob("*.dir"))), len(list(self.folder.glob("*.seg")))), (1, 2))
        self.assertEqual((self.store.read(identity), self.store.read(other)), (b"fares" * 100, b"tides" * 100))

    def test_what_the_place_holds_is_counted(self) -> None:
        ids = self.put(self.versions(3))
        self.shrink(ids)
        held = holding(self.store.segments)
        self.assertEqual(held.bytes, self.stored())
        self.assertGreater(held.records, held.deltas)
        self.assertGreater(held.deltas, 5)

    def test_a_missing_base_is_named(self) -> None:
        contents = self.versions(2)
        ids = self.put(contents)
        self.shrink(ids)
        self.compact()
        records = list(self.store.segments.iter_all())
        bases = {record.payload[:32] for _, _, record in records if record.codec == DELTA}
        self.store.close()
        for path in list(self.folder.glob("*.seg")) + list(self.folder.glob("*.dir")):
            path.unlink()
        into = NewSegments(FolderPlace(self.folder))
        for _, _, record in records:
            if record.id not in bases:
                into.append(record)
        into.finish()
        with self.assertRaises(BrokenError) as caught:
            self.open().read(ids[1])
        self.assertIn("lacks", str(caught.exception))


_RUN = textwrap.dedent("""
    import sys
    from pathlib import Path
    from everyshelf.core.content.compacting import compact
    from everyshelf.core.content.new_segments import NewSegments
    from everyshelf.core.content.shrinking import Shrinker
    from everyshelf.core.content.store import ContentStore
    store, ids = ContentStore(Path(sys.argv[1])), sys.argv[2].split(",")
    print("at work", flush=True)
    while True:
        with store.segments.place.alone(wait=True):
            into = NewSegments(store.segments.place)
            shrinker = Shrinker(store, into)
            for older, newer in zip(ids, ids[1:]):
                shrinker.shrink(newer, older)
            into.finish()
            compact(store.segments)
        ids = ids[1:] + ids[:1]
""")


class KilledTests(ShrinkCase):
    """A sample; ``python -m bench small`` kills it two hundred times."""

    def test_killed_at_any_moment(self) -> None:
        contents = self.versions(6)
        ids = self.put(contents)
        self.store.close()
        chance = random.Random(11)
        for _ in range(8):
            command = [sys.executable, "-c", _RUN, str(self.folder), ",".join(ids)]
            with subprocess.Popen(command, stdout=subprocess.PIPE, env={**os.environ, "PYTHONUNBUFFERED": "1"}) as run:
                assert run.stdout is not None
                run.stdout.readline()
                with self.subTest(), self.assertRaises(subprocess.TimeoutExpired):
                    run.wait(chance.random() * 0.6)
                run.kill()
            self.store = self.open()
            self.put([chance.randbytes(3000)])  # something to rewrite
            self.assert_all(self.store, ids, contents)
            self.store.close()
        self.store = self.open()
        self.compact()
        self.assert_all(self.open(), ids, contents)
