"""Contents with deflated parts, taken apart and put together again bit by bit."""

from __future__ import annotations

import gzip
import io
import itertools
import random
import struct
import unittest
import zipfile
import zlib
from base64 import b64decode

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.content.compacting import compact, find_unreached
from everyshelf.core.content.content_file import ContentFile
from everyshelf.core.content.deflate import NotDeflatedError, read_stream
from everyshelf.core.content.healing import heal
from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.place import FolderPlace
from everyshelf.core.content.records import DELTAS, RECIPE, UNPACKED, WHOLE
from everyshelf.core.content.shrinking import Shrinker
from everyshelf.core.content.step_deltas import decode_step_delta, encode_step_delta
from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.stores import SEGMENT
from everyshelf.core.content.unpacking import STEPS, Part, put_together, take_apart
from everyshelf.core.errors import BrokenError
from tests.support.laws import law
from tests.support.tidied import TidiedCase

_STRATEGIES = [zlib.Z_DEFAULT_STRATEGY, zlib.Z_FILTERED, zlib.Z_HUFFMAN_ONLY, zlib.Z_RLE, zlib.Z_FIXED]
SETTINGS = st.tuples(st.integers(1, 9), st.integers(9, 15), st.integers(1, 9), st.sampled_from(_STRATEGIES))


def sheet(rows: int, seed: int = 1, changed: dict[int, object] | None = None) -> bytes:
    """A table as office programs write it."""
    rng = random.Random(seed)
    values = [rng.randrange(10_000) for _ in range(rows)]
    cells = [(changed or {}).get(n, value) for n, value in enumerate(values)]
    return "".join(f'<row r="{n}"><c r="A{n}"><v>{v}</v></c></row>' for n, v in enumerate(cells)).encode()


def archive(members: dict[str, bytes], level: int = 6) -> bytes:
    file = io.BytesIO()
    with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED, compresslevel=level) as packed:
        for name, data in members.items():
            packed.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), data, zipfile.ZIP_DEFLATED)
    return file.getvalue()


def workbook(changed: dict[int, object] | None = None, rows: int = 18_000) -> bytes:
    return archive({"[Content_Types].xml": b"<Types/>", "xl/worksheets/sheet1.xml": sheet(rows, changed=changed)})


def deflated(data: bytes, settings: tuple[int, int, int, int]) -> bytes:
    level, window, memory, strategy = settings
    packer = zlib.compressobj(level, zlib.DEFLATED, -window, memory, strategy)
    return packer.compress(data) + packer.flush()


def joined(parts: list[Part]) -> bytes:
    return b"".join(put_together(parts))


class StreamTests(unittest.TestCase):
    """One deflated stream, however it was packed."""

    @law(60)
    @given(SETTINGS, st.integers(0, 4_000), st.integers(0, 3_000))
    def test_it_comes_back_bit_for_bit(self, settings: tuple[int, int, int, int], rows: int, noise: int) -> None:
        data = sheet(rows) + random.Random(rows).randbytes(noise) + b"x" * 700
        stream = deflated(data, settings)
        packed = gzip_of(stream, data)
        parts = take_apart(packed)
        if parts is not None:
            self.assertEqual(joined(parts), packed)
            self.assertEqual(sum(part.bits for part in parts), 8 * len(packed))
        elif len(stream) >= 4_096:  # only what is stored as it is cannot be taken apart
            with self.assertRaises(NotDeflatedError):
                list(read_stream(stream))

    def test_every_setting_is_taken_apart(self) -> None:
        data = sheet(5_000)
        for settings in itertools.product((1, 6, 9), (12, 15), (8, 9), _STRATEGIES):
            with self.subTest(settings=settings):
                stream = deflated(data, settings)
                parts = take_apart(gzip_of(stream, data))
                assert parts is not None
                self.assertEqual(joined(parts), gzip_of(stream, data))

    @law(150)
    @given(st.integers(0, 5_000), st.integers(0, 255), st.integers(0, 3_000))
    def test_damaged_ones_are_refused_or_come_back_as_they_are(self, at: int, byte: int, cut: int) -> None:
        stream = bytearray(deflated(sheet(600), (6, 15, 8, zlib.Z_DEFAULT_STRATEGY)))
        stream[at % len(stream)] = byte
        wrong = bytes(stream[: len(stream) - cut % len(stream)])
        packed = gzip_of(wrong + bytes(max(0, 4_096 - len(wrong))), b"")
        parts = take_apart(packed)
        if parts is not None:
            self.assertEqual(joined(parts), packed)

    def test_one_of_very_many_tiny_blocks_is_left_alone(self) -> None:
        """Each block would have its own tables: reading such a content would take minutes."""
        block = "010" + "10010001" + "0000000"  # not the last, codes as agreed; the letter a; its end
        bits = block * 20_000 + "11" + block[2:]
        stream = int(bits[::-1], 2).to_bytes((len(bits) + 7) // 8, "little")
        self.assertEqual(zlib.decompress(stream, -15), b"a" * 20_001)
        self.assertIsNone(take_apart(gzip_of(stream, b"a" * 20_001)))

    def test_what_is_not_deflated_is_refused(self) -> None:
        for data in (b"", b"\x07", bytes(100), b"\xff" * 100, deflated(b"a" * 9, (1, 15, 8, 0))[:-1]):
            with self.subTest(data=data), self.assertRaises(NotDeflatedError):
                list(read_stream(data))


def gzip_of(stream: bytes, data: bytes) -> bytes:
    """A gzip file round a stream (RFC 1952)."""
    return b"\x1f\x8b\x08\0\0\0\0\0\0\xff" + stream + zlib.crc32(data).to_bytes(4, "little") + bytes(4)


class ContentTests(unittest.TestCase):
    """Archives and compressed files."""

    def test_members_of_an_archive_are_taken_apart_each_by_itself(self) -> None:
        noise = random.Random(3).randbytes(90_000)
        packed = archive({"a.xml": sheet(3_000), "b.bin": noise, "c.xml": sheet(4_000, 2), "d": b""})
        parts = take_apart(packed)
        assert parts is not None
        self.assertEqual(joined(parts), packed)
        steps = sum(part.bits for part in parts if part.kind == STEPS)
        self.assertLess(abs(steps / 8 + 90_000 - len(packed)), 1_000)

    def test_files_of_one_member_with_a_name_and_a_comment(self) -> None:
        file = io.BytesIO()
        with gzip.GzipFile("tides.csv", "wb", 6, file, 0) as packed:
            packed.write(sheet(3_000))
        data = file.getvalue()
        parts = take_apart(data)
        assert parts is not None
        self.assertEqual(joined(parts), data)

    def test_others_are_left_alone(self) -> None:
        for data in (b"PK\x03\x04" + bytes(9_000), b"\x1f\x8b\x08" + bytes(9_000), archive({"a": b"few"}), sheet(900)):
            with self.subTest(data=data[:9]):
                self.assertIsNone(take_apart(data))

    @law(200)
    @given(st.lists(st.tuples(st.integers(0, 10**6), st.integers(0, 255)), min_size=1, max_size=12))
    def test_broken_archives_are_left_alone_or_come_back(self, wrong: list[tuple[int, int]]) -> None:
        data = bytearray(archive({"a.xml": sheet(900), "b.xml": sheet(700, 2)}))
        for at, byte in wrong:  # most of them in the list of members at the end
            data[-1 - at % 200 if at % 3 else at % len(data)] = byte
        parts = take_apart(bytes(data))
        if parts is not None:
            self.assertEqual(joined(parts), bytes(data))

    def test_members_that_claim_the_same_bytes_come_back_once(self) -> None:
        """A file made to break it: the central directory names one member twice, and a second within the first."""
        packed = archive({"a.xml": sheet(3_000), "b.xml": sheet(3_000, 2)})
        end = packed.rindex(b"PK\5\6")
        count, size, start = struct.unpack_from("<HII", packed, end + 10)
        directory = packed[start : start + size]
        for shift in (0, 700):
            with self.subTest(shift=shift):
                again = bytearray(directory)
                for at in (at for at in range(len(again)) if again[at : at + 4] == b"PK\1\2"):
                    struct.pack_into("<I", again, at + 20, struct.unpack_from("<I", again, at + 20)[0] - shift)
                wrong = bytearray(packed[:start] + directory + bytes(again) + packed[end:])
                struct.pack_into("<HHI", wrong, len(wrong) - 14, 2 * count, 2 * count, 2 * size)
                with zipfile.ZipFile(io.BytesIO(bytes(wrong))) as opened:
                    self.assertEqual(len(opened.infolist()), 4)
                parts = take_apart(bytes(wrong))
                assert parts is not None
                self.assertEqual(joined(parts), bytes(wrong))

    def test_an_insertion_moves_no_other_border(self) -> None:
        rows = sheet(9_000).split(b"<row")
        new = b"<row".join([*rows[:3_000], *(b' r="new"></row>' for _ in range(40)), *rows[3_000:]])
        before, after = (take_apart(archive({"a.xml": data})) for data in (b"<row".join(rows), new))
        assert before is not None and after is not None
        starts = [{part.data[:200][-80:] for part in parts} for parts in (before, after)]
        self.assertLess(len(starts[0] ^ starts[1]), 9)


class StepDeltaTests(unittest.TestCase):
    """Parts of steps said by others."""

    @law(40)
    @given(st.dictionaries(st.integers(0, 2_999), st.integers(0, 10**7), max_size=30), st.integers(1, 9))
    def test_edits_come_back(self, changed: dict[int, object], level: int) -> None:
        for base, new in zip(self.parts({}, 6), self.parts(changed, level), strict=False):
            frame = encode_step_delta(new, base, 3)
            self.assertEqual(decode_step_delta(frame, base, len(new)), new)

    def test_a_few_edits_cost_little(self) -> None:
        base, new = self.parts({}, 6)[0], self.parts({100: 7, 300: 123_456, 500: 1}, 6)[0]
        self.assertLess(len(encode_step_delta(new, base, 19)), len(base) / 100)

    def test_another_base_is_told(self) -> None:
        base, new, other = self.parts({}, 6)[0], self.parts({500: 7}, 6)[0], self.parts({9: 9}, 1)[0]
        frame = encode_step_delta(new, base, 3)
        for wrong in (other, b"", base[:-9], b"\xff" * 400):
            with self.subTest(wrong=wrong[:9]):
                try:
                    self.assertNotEqual(decode_step_delta(frame, wrong, len(new)), new)
                except BrokenError:
                    pass

    @staticmethod
    def parts(changed: dict[int, object], level: int) -> list[bytes]:
        parts = take_apart(archive({"a.xml": sheet(3_000, changed=changed)}, level))
        assert parts is not None
        return [part.data for part in parts if part.kind == STEPS]


# A stream, its part, another stream, and its part said by the first: what was stored once is read for ever.
STREAM = b64decode(
    "TdBBDoMwDETRvc/iRRwHK7mKd1Qq6q5SJO6PZtKWrnnMN7z2+XifU499PiWLFklTk6zaJF2HZFMLyU2rZKg5kBN1KKtgHYwqoDoQ"
    "nnyVA+HdhpmNi4HxgswnWIhgGsxgL2DWkt9L7BmnOhhVQP0dtZSz51CVZ5GN3xcyWIhgGsxgL2DqfflaYs841cGoYv2ECw=="
)
PART = b64decode(
    "ggAAADEAAAADAAAAAAAAAAESAU3QQQ6DMAxE0b3P4kUcByu5indUKuquUiTuj2bSlq55zDcAggAAAACCAAAAAgMAAGhhcmJvdXIs"
    "ZmFyZQpaMCwwCloxLDEKWjIsNApaMyw5Clo0LDE2Clo1LDIKWjYsMTMBMwI4ATEyATgBAjYBOAEBBTMBATQBNQI2ATABBDACATQB"
    "OQI2AQMzBwIxAjgBAjYBCAMzAjMBMgICOQYCMAIBNAE5AjYBMgcDAjECOAECNgMAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"
    "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAQABAAEAAAEAAQEAAQABAQEAAQEAAQABAAEAAQEAAQEAAQABAAEBAAEBAAEAAQEAAQEBAAEA"
    "AQABAQABAQABAQABAAEAAQABAQEAAQABAQABJCQlJiYlJSQZJSQ7RlFcZnAkIyNvI0lJb0omJSWUJW8llibhcCQjI28juUlvSiYl"
    "BAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAE="
)
OTHER = b64decode(
    "TdBLCsMwDIThvc6ihWXJwr6Kdim0dFcI9P5lxn2t82V+JffjvDyep96O8yrVtEmZmlTXkHJdUqGWUkO7VKo5kBNNKOtgE4wqoSYQ"
    "nnyUA+HdwMzgYmK8IfMONiKYgFnsJcxe8t3zGIRsGucmKGVC/h22lbPpUJ2nka3vVzLaiGACZrGZMP13/V5izzg1wahy/4gX"
)
SAID = b64decode(
    "KLUv/SC+zQIApAMCBVkAKDIQSwrDMAyE4b3OooVlycK+inYptHRXCPT+ZcZ9rfNlfiWGAAICAAADMzQ1AgFvKAD8AP8ADABgxoHA"
    "oB1cARUOUSwgADwAp7uYtZrzGUEC9wo="
)


class StoredFormTests(unittest.TestCase):
    """The bytes as they lie in stores."""

    def test_what_was_stored_is_read(self) -> None:
        stop = 8 * len(STREAM)
        self.assertEqual(joined([Part(STEPS, PART, stop)]), STREAM)
        other = decode_step_delta(SAID, PART, 1_000)
        self.assertEqual(joined([Part(STEPS, other, 8 * len(OTHER))]), OTHER)


class VersionTests(TidiedCase):
    """Versions of a workbook in a store that is tidied."""

    def setUp(self) -> None:
        super().setUp()
        edits: dict[int, object] = {}
        rng = random.Random(5)
        contents = [workbook()]
        for _ in range(6):
            edits.update({rng.randrange(18_000): rng.randrange(10**5) for _ in range(20)})
            contents.append(workbook(edits))
        self.keep(contents)

    def test_they_take_little_and_read_back(self) -> None:
        self.tidy()
        self.assertEqual(self.kinds(), [UNPACKED] * 7)
        self.assertLess(sum(map(self.place.size, self.place.names())), 1.35 * len(self.contents[0]))
        self.all_read_back()
        self.store.close()
        self.store = ContentStore(self.place)  # as another process finds them
        self.all_read_back()

    @law(60)
    @given(st.integers(0, 10**6), st.integers(0, 10**6), st.integers(0, 6))
    def test_any_range_is_read(self, start: int, length: int, number: int) -> None:
        if UNPACKED not in self.kinds():
            self.tidy()
        data = self.contents[number]
        start %= len(data) + 9
        stop = start + length % 5_000
        self.assertEqual(b"".join(self.store.iter_range(self.ids[number], start, stop)), data[start:stop])

    def test_as_a_file_it_is_an_archive(self) -> None:
        self.tidy()
        with zipfile.ZipFile(io.BufferedReader(ContentFile(self.store, self.ids[3]))) as packed:
            self.assertIsNone(packed.testzip())
            self.assertEqual(packed.namelist(), ["[Content_Types].xml", "xl/worksheets/sheet1.xml"])

    def test_the_form_as_they_came_stays_until_the_other_was_read_back(self) -> None:
        self.shrink()
        compact(self.store.segments)
        self.assertNotIn(UNPACKED, self.kinds())
        self.all_read_back()
        self.shrink()
        compact(self.store.segments, reads_back=lambda record: record.id.hex() != self.ids[2])
        self.assertEqual(sorted(self.kinds()), sorted([RECIPE, *[UNPACKED] * 6]))
        self.all_read_back()

    def test_nothing_of_either_form_is_let_go_of(self) -> None:
        self.shrink()
        left = find_unreached(self.store, {bytes.fromhex(one) for one in self.ids})
        self.assertEqual(left.ids, [])

    def test_a_run_goes_on_from_what_an_earlier_one_took_apart(self) -> None:
        self.tidy()
        newest = workbook({7: 7, 77: 77})
        self.contents.append(newest)
        self.ids.append(self.store.put(newest).id)
        self.store.segments.close()
        self.tidy_once_more()
        self.assertEqual(self.kinds(), [UNPACKED] * 8)
        self.all_read_back()

    def tidy_once_more(self) -> None:
        into = NewSegments(self.place)
        self.assertGreater(Shrinker(self.store, into).shrink(self.ids[-1], self.ids[-2]), 0)
        into.finish()
        compact(self.store.segments, reads_back=self.store.reads_back_unpacked)

    def test_small_ones_that_lie_in_one_record_too(self) -> None:
        small = [workbook({n: "x"}, rows=2_000) for n in range(3)]
        self.keep(small)
        self.assertEqual(self.kinds(), [WHOLE] * 3)
        self.shrink()
        compact(self.store.segments, reads_back=self.store.reads_back_unpacked)
        self.assertEqual(self.kinds(), [UNPACKED] * 3)
        self.all_read_back()

    def test_damage_is_told_and_healed(self) -> None:
        self.tidy()
        self.store.close()
        there = self.place.folder.parent / "there"
        there.mkdir()
        for name in self.place.names():
            (there / name).write_bytes((self.place.folder / name).read_bytes())
        rng = np.random.default_rng(4)
        for name in self.place.names():
            file = self.place.folder / name
            data = bytearray(file.read_bytes())
            for at in rng.integers(0, len(data), 40).tolist() if name.endswith(SEGMENT) else ():
                data[at] ^= 0x55
            file.write_bytes(data)
        self.store = ContentStore(self.place)
        wrong = [identity for identity in self.ids if self.store.verify(identity) is not None]
        self.assertTrue(wrong)
        heal(self.store, FolderPlace(there))
        self.all_read_back()

    def test_deltas_are_of_parts_that_are_stored_whole(self) -> None:
        self.tidy()
        records = {record.id: record for _, _, record in self.store.segments.iter_all()}
        deltas = [record for record in records.values() if record.codec in DELTAS]
        self.assertGreater(len(deltas), 5)
        for record in deltas:
            self.assertNotIn(records[record.payload[:32]].codec, DELTAS)
