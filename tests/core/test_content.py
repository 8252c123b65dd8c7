"""Content: what is stored reads back equal, whatever happens to the process or the disk."""

from __future__ import annotations

import os
import random
import subprocess
import sys
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest.mock import patch

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.content import segments
from everyshelf.core.content.cutter import CUTTER, cut_window
from everyshelf.core.content.ids import content_id
from everyshelf.core.content.records import decode
from everyshelf.core.content.scanning import iter_records
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import BrokenError, MissingError
from tests.support.laws import law

BIG = random.Random(4).randbytes(900_000)


class StoreCase(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def open(self) -> ContentStore:
        store = ContentStore(self.folder)
        self.addCleanup(store.close)
        return store


class StoringTests(StoreCase):
    """Round trips."""

    def test_small_content_reads_back(self) -> None:
        store = self.open()
        info = store.put(b"Aldwick to Brae")
        self.assertEqual((info.id, info.size), (content_id(b"Aldwick to Brae"), 15))
        self.assertEqual(store.read(info.id), b"Aldwick to Brae")

    def test_large_content_in_pieces_reads_back(self) -> None:
        store = self.open()
        info = store.put_stream(BIG[i : i + 70_001] for i in range(0, len(BIG), 70_001))
        self.assertEqual(info.id, content_id(BIG))
        self.assertEqual(store.read(info.id), BIG)

    def test_ranges_are_those_of_the_bytes(self) -> None:
        store = self.open()
        info = store.put(BIG)
        for start, stop in ((0, 1), (65_000, 66_000), (100, 800_000), (899_999, 900_000), (899_990, 2_000_000)):
            self.assertEqual(b"".join(store.iter_range(info.id, start, stop)), BIG[start:stop])

    def test_pieces_read_ahead_come_in_order_and_checked(self) -> None:
        store = self.open()
        data = random.Random(5).randbytes(6_000_000)
        info = store.put_stream([data])
        pieces = store.pieces(info.id)
        self.assertGreater(len(pieces), 40)
        self.assertEqual(b"".join(store.iter_range(info.id, 1_000_001, 5_500_000)), data[1_000_001:5_500_000])
        some = store.iter_range(info.id)
        self.assertEqual(next(some), data[: pieces[0][1]])
        some.close()
        store.close()
        segment = max(self.folder.glob("*.seg"), key=lambda path: path.stat().st_size)
        raw = bytearray(segment.read_bytes())
        raw[len(raw) // 2] ^= 4
        segment.write_bytes(raw)
        with self.assertRaises(BrokenError):
            list(self.open().iter_range(info.id))

    def test_unknown_content_is_missing(self) -> None:
        with self.assertRaises(MissingError) as caught:
            self.open().read("0" * 64)
        self.assertEqual(caught.exception.code, "content.missing")

    def test_near_identical_versions_share_bytes(self) -> None:
        store = self.open()
        store.put(BIG)
        before = sum(f.stat().st_size for f in self.folder.iterdir())
        store.put(BIG[:400_000] + b"one inserted line\n" + BIG[400_000:])
        store.sync()
        grown = sum(f.stat().st_size for f in self.folder.iterdir()) - before
        self.assertLess(grown, 600_000)  # a chunk or two of at most 256 KiB and a recipe, never all of it

    @law(30)
    @given(st.lists(st.binary(max_size=300_000), max_size=5))
    def test_any_pieces_give_the_same_id(self, pieces: list[bytes]) -> None:
        with tempfile.TemporaryDirectory() as folder:
            store = ContentStore(Path(folder))
            whole = b"".join(pieces)
            info = store.put_stream(pieces)
            self.assertEqual(info, store.put(whole))
            self.assertEqual(store.read(info.id), whole)
            store.close()


class CuttingTests(unittest.TestCase):
    """Borders follow the content, not the way it arrives."""

    def cut(self, data: bytes) -> list[int]:
        return list(cut_window(data, final=True))

    def test_lengths_add_up_within_bounds(self) -> None:
        lengths = self.cut(BIG)
        self.assertEqual(sum(lengths), len(BIG))
        self.assertTrue(all(CUTTER.min_bytes <= n <= CUTTER.max_bytes for n in lengths[:-1]))

    def test_constant_bytes_are_cut_too(self) -> None:
        self.assertEqual(sum(self.cut(bytes(1_000_000))), 1_000_000)

    def test_insertion_moves_only_near_borders(self) -> None:
        before = set(self._ends(BIG))
        after = {e - 7 for e in self._ends(BIG[:300_000] + b"1234567" + BIG[300_000:])}
        late = {e for e in before if e > 300_000 + 2 * CUTTER.max_bytes}
        self.assertTrue(late)
        self.assertLessEqual(late, after)

    def test_windows_do_not_change_borders(self) -> None:
        whole, at, rest, ends = self._ends(BIG), 0, b"", []
        for start in range(0, len(BIG), 330_000):
            rest += BIG[start : start + 330_000]
            taken = 0
            for length in cut_window(rest, final=start + 330_000 >= len(BIG)):
                taken += length
                ends.append(at + taken)
            at, rest = at + taken, rest[taken:]
        self.assertEqual(ends, whole)

    def _ends(self, data: bytes) -> list[int]:
        ends, at = [], 0
        for length in self.cut(data):
            at += length
            ends.append(at)
        return ends


class RecoveryTests(StoreCase):
    """A crash tears at most what was never promised."""

    def fill(self) -> tuple[list[str], Path]:
        store = ContentStore(self.folder)
        ids = [store.put(f"sailing {n}".encode() * 50).id for n in range(200)]
        store.close()
        return ids, next(self.folder.glob("*.seg"))

    def test_directory_is_rebuilt_when_lost(self) -> None:
        ids, segment = self.fill()
        segment.with_suffix(".dir").unlink()
        self.assertTrue(all(self.open().has(i) for i in ids))
        self.assertTrue(segment.with_suffix(".dir").exists())

    def test_damaged_directory_is_rebuilt(self) -> None:
        ids, segment = self.fill()
        directory = segment.with_suffix(".dir")
        directory.write_bytes(directory.read_bytes()[:-9] + b"123456789")
        store = self.open()
        self.assertTrue(all(store.read(i) for i in ids))

    def test_torn_tail_is_cut_off_at_every_byte(self) -> None:
        ids, segment = self.fill()
        data = segment.read_bytes()
        offsets = [o for o, _ in iter_records(ContentStore(self.folder).segments.place, segment.name)]
        for cut in range(offsets[-1] + 1, len(data), 7):
            segment.with_suffix(".dir").unlink(missing_ok=True)
            segment.write_bytes(data[:cut])
            store = ContentStore(self.folder)
            self.assertTrue(all(store.has(i) for i in ids[:-1]))
            self.assertFalse(store.has(ids[-1]))
            self.assertEqual(segment.stat().st_size, offsets[-1])
            store.close()

    def test_flipped_byte_is_noticed_not_returned(self) -> None:
        ids, segment = self.fill()
        data = bytearray(segment.read_bytes())
        data[len(data) // 2] ^= 0xFF
        segment.write_bytes(bytes(data))
        store = self.open()
        wrong = [i for i in ids if store.verify(i) is not None]
        self.assertEqual(len(wrong), 1)
        with self.assertRaises(BrokenError):
            store.read(wrong[0])

    def test_other_process_sees_what_was_synced(self) -> None:
        store = self.open()
        info = store.put(b"written by one, read by another")
        store.sync()
        script = (
            "import sys; from pathlib import Path; from everyshelf.core.content.store import ContentStore;"
            "sys.stdout.write(ContentStore(Path(sys.argv[1])).read(sys.argv[2]).decode())"
        )
        done = subprocess.run(
            [sys.executable, "-c", script, str(self.folder), info.id], capture_output=True, text=True, check=True
        )
        self.assertEqual(done.stdout, "written by one, read by another")
        more = store.put(b"and the writer goes on")
        self.assertEqual(store.read(more.id), b"and the writer goes on")

    def test_full_disk_leaves_the_segment_whole(self) -> None:
        script = """
import random, resource, signal, sys
from pathlib import Path
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import StorageError
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
store = ContentStore(Path(sys.argv[1]))
kept = store.put(b"before")
resource.setrlimit(resource.RLIMIT_FSIZE, (20_000, resource.RLIM_INFINITY))
try:
    store.put(random.Random(1).randbytes(60_000))
except StorageError as error:
    resource.setrlimit(resource.RLIMIT_FSIZE, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
    assert store.read(kept.id) == b"before"
    after = store.put(b"after")
    store.close()
    assert ContentStore(Path(sys.argv[1])).read(after.id) == b"after"
    print(error.code)
"""
        done = subprocess.run(
            [sys.executable, "-c", script, str(self.folder)], capture_output=True, text=True, check=False
        )
        self.assertEqual(done.stdout.strip(), "content.storage", done.stderr)

    def test_half_a_record_is_none(self) -> None:
        self.assertIsNone(decode(b"ESr2" + bytes(20), "a.seg"))


class ManySegmentsTests(StoreCase):
    """Hundreds of segments, as after hundreds of processes."""

    def fill(self, count: int) -> list[str]:
        store, ids = self.open(), []
        for number in range(count):
            ids += [store.put(b"%d of %d" % (part, number)).id for part in range(3)]
            store.segments.close()
        return ids

    def test_all_is_found_with_few_files_open(self) -> None:
        ids = self.fill(300)
        before = len(os.listdir("/proc/self/fd"))
        for store in (self.open(), self.open()):
            self.assertEqual([store.read(identity)[-4:] for identity in ids[:3]], [b"of 0"] * 3)
            self.assertTrue(all(store.has(identity) for identity in ids))
            for identity in ids:
                store.read(identity)
        self.assertFalse(store.has(content_id(b"never stored")))
        self.assertLess(len(os.listdir("/proc/self/fd")) - before, 150, "two stores, 300 segments")

    def test_readers_at_once_get_what_they_asked_for(self) -> None:
        ids = self.fill(120)
        store = self.open()
        with ThreadPoolExecutor(8) as pool:
            read = list(pool.map(lambda n: content_id(store.read(ids[n * 7 % len(ids)])), range(2_000)))
        self.assertEqual(read, [ids[n * 7 % len(ids)] for n in range(2_000)])

    def test_what_another_store_seals_is_found(self) -> None:
        first, second = self.open(), self.open()
        for number in range(40):
            info = first.put(b"made later %d" % number)
            first.sync()
            self.assertEqual(second.read(info.id), b"made later %d" % number)
            if number % 5 == 0:
                first.segments.close()
                self.assertEqual(second.read(info.id), b"made later %d" % number)

    def test_what_is_known_one_by_one_of_a_segment_that_grows_is_bounded(self) -> None:
        """Each process follows the segments to which others add, place by place."""
        writer, follower = self.open(), self.open()
        with patch.object(segments, "SEGMENT_RECORDS", 100):
            ids = [writer.put(b"ferry %d" % number).id for number in range(1_050)]
        writer.sync()
        self.assertTrue(all(follower.has(identity) for identity in ids))
        for store in (writer, follower):
            (growing,) = store.segments._live.values()
            self.assertEqual(len(growing.locations), 50)
            self.assertEqual([len(sealed) for sealed in store.segments.sealed()], [100] * 10)
        self.assertEqual(follower.read(ids[0]) + follower.read(ids[-1]), b"ferry 0ferry 1049")

    def test_a_damaged_segment_that_another_process_replaced_is_read_no_longer(self) -> None:
        ids, data = self.fill(1), b"0 of 0"
        store = self.open()
        self.assertEqual(store.read(ids[0]), data)
        (segment,) = self.folder.glob("*.seg")
        raw = segment.read_bytes()
        segment.write_bytes(raw.replace(data, b"1 of 0"))
        segment.unlink()
        segment.with_suffix(".dir").unlink()
        other = self.open()
        other.put(data)
        other.sync()
        self.assertEqual(store.read(ids[0]), data)

    def test_directories_that_change_while_they_are_used_are_made_again(self) -> None:
        """Of each only the beginnings of its ids stay in memory; the rest is read from its file."""

        def flipped(at: int) -> bytes:
            return stored[:at] + bytes([stored[at] ^ 0x10]) + stored[at + 1 :]

        ids = self.fill(3)
        file = next(self.folder.glob("*.dir"))
        stored = file.read_bytes()
        rows = range(20, len(stored) - 56, 56)
        damaged = [
            b"",
            stored[:70],
            None,
            *(flipped(row + byte) for row in rows for byte in (0, 9, 30, 41, 49, 52, 53)),
        ]
        for number, data in enumerate(damaged):
            file.write_bytes(stored)
            store = self.open()
            self.assertTrue(all(store.has(identity) for identity in ids))
            if data is None:
                file.unlink()
            else:
                file.write_bytes(data)
            read = [store.read(identity) for identity in ids]
            self.assertEqual([content_id(one) for one in read], ids, number)
            self.assertTrue(all(store.segments.holds(bytes.fromhex(identity)) for identity in ids), number)
